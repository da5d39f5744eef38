//go:build !windows

package cli_test

import (
	"syscall"

	"github.com/rogpeppe/go-internal/testscript"
)

// cmdFifo makes a FIFO: fifo FILE
func cmdFifo(ts *testscript.TestScript, neg bool, args []string) {
	ts.Check(syscall.Mkfifo(ts.MkAbs(args[0]), 0o600))
}
