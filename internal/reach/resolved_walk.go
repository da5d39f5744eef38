//go:build !windows

package reach

import (
	"errors"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// walkResolved opens a name below a folder element by element, each from the folder that was opened before, and no link.
func walkResolved(root, name string) (*os.File, error) {
	at, err := unix.Open(root, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer func() { unix.Close(at) }()
	parts := strings.Split(name, "/")
	for i, part := range parts {
		flags := unix.O_RDONLY | unix.O_NOFOLLOW | unix.O_CLOEXEC | unix.O_NONBLOCK | unix.O_NOCTTY
		if i < len(parts)-1 {
			flags = searchFlags | unix.O_DIRECTORY | unix.O_NOFOLLOW | unix.O_CLOEXEC
		}
		fd, err := unix.Openat(at, part, flags, 0)
		if err != nil {
			var st unix.Stat_t
			if (errors.Is(err, unix.ELOOP) || errors.Is(err, unix.ENOTDIR)) &&
				unix.Fstatat(at, part, &st, unix.AT_SYMLINK_NOFOLLOW) == nil && st.Mode&unix.S_IFMT == unix.S_IFLNK {
				return nil, ErrExchanged
			}
			return nil, err
		}
		if i == len(parts)-1 {
			return os.NewFile(uintptr(fd), filepath.Join(root, name)), nil
		}
		unix.Close(at)
		at = fd
	}
	return nil, unix.EINVAL // a name has one element at least
}
