package reach

import (
	"errors"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// openResolved opens a name below a folder with no link anywhere in it, in one call of the kernel (openat2, Linux 5.6), or
// element by element where there is none.
func openResolved(root, name string) (*os.File, error) {
	dir, err := unix.Open(root, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(dir)
	fd, err := unix.Openat2(dir, name, &unix.OpenHow{Flags: unix.O_RDONLY | unix.O_NONBLOCK | unix.O_NOCTTY | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS})
	switch {
	case errors.Is(err, unix.ENOSYS), errors.Is(err, unix.EPERM): // an older kernel, or a container that forbids the call
		return walkResolved(root, name)
	case errors.Is(err, unix.ELOOP):
		return nil, ErrExchanged
	case err != nil:
		return nil, err
	}
	return os.NewFile(uintptr(fd), filepath.Join(root, name)), nil
}
