//go:build failpoints

package cli

import (
	"fmt"
	"os"
	"strconv"
	"sync/atomic"
	"syscall"

	"envask/internal/durable"
)

// The kill tests build the program with this file: ENVASK_KILL_AT=n ends it at the n-th point, as kill -9 does; ENVASK_POINTS=FILE
// writes down the names of all points that were passed.
func init() {
	at, _ := strconv.ParseInt(os.Getenv("ENVASK_KILL_AT"), 10, 64)
	list := os.Getenv("ENVASK_POINTS")
	var passed atomic.Int64
	durable.Hit = func(name string) {
		n := passed.Add(1)
		if list != "" {
			if f, err := os.OpenFile(list, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600); err == nil {
				fmt.Fprintln(f, name)
				f.Close()
			}
		}
		if n == at {
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {} // until it comes
		}
	}
}
