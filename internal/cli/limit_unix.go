//go:build unix

package cli

import (
	"os/signal"
	"syscall"
)

// ignoreFileLimit lets a write beyond a file-size limit fail with an error that
// can be told, in place of ending the process.
func ignoreFileLimit() { signal.Ignore(syscall.SIGXFSZ) }
