//go:build !unix

package trust

import "io/fs"

func owners(string) (owner, me uint32, known bool) { return 0, 0, false }

func loose(fs.FileInfo) bool { return false }
