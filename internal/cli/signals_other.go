//go:build !unix

package cli

import (
	"os"
	"syscall"
)

func takeSignals() {}

func endings() []os.Signal { return []os.Signal{os.Interrupt, syscall.SIGTERM} }
