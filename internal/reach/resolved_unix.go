//go:build !windows && !linux

package reach

import (
	"os"

	"golang.org/x/sys/unix"
)

// searchFlags open a folder.
const searchFlags = unix.O_RDONLY

func openResolved(root, name string) (*os.File, error) { return walkResolved(root, name) }
