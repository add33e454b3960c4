//go:build !unix

package cli

func ignoreFileLimit() {}
