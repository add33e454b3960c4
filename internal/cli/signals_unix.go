//go:build unix

package cli

import (
	"os"
	"os/signal"
	"syscall"
)

// takeSignals lets a write beyond a file-size limit, and one that nobody reads, fail with an error that
// can be told, in place of ending the process. Programs that are run get the latter as ever.
func takeSignals() {
	signal.Ignore(syscall.SIGXFSZ)
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE)
}

// endings are the signals that end a command in order: a terminal that goes away is one, but for those that
// were started to outlive it.
func endings() []os.Signal {
	out := []os.Signal{os.Interrupt, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) {
		out = append(out, syscall.SIGHUP)
	}
	return out
}
