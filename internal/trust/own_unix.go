//go:build unix

package trust

import (
	"io/fs"
	"os"
	"syscall"
)

// owners returns who owns a file, and who we are.
func owners(name string) (owner, me uint32, known bool) {
	info, err := os.Stat(name)
	if err != nil {
		return 0, 0, false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, 0, false
	}
	return st.Uid, uint32(os.Geteuid()), true
}

// loose reports whether others may write a file. A group that is named as its only member,
// as many systems give each account one, is no other.
func loose(info fs.FileInfo) bool {
	mode := info.Mode()
	if info.IsDir() && mode&fs.ModeSticky != 0 {
		return false
	}
	if mode.Perm()&0o002 != 0 {
		return true
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	return mode.Perm()&0o020 != 0 && (!ok || st.Gid != st.Uid)
}
