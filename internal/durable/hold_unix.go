//go:build !windows

package durable

import (
	"os"

	"golang.org/x/sys/unix"
)

// hold shows others that a file is being written, as long as we live. Where locks do not work, its age has to do.
func hold(f *os.File) { _ = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) }

// orphaned says whether nobody writes a file any more.
func orphaned(name string) bool {
	f, err := os.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	return unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil
}
