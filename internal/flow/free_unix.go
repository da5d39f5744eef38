//go:build !windows

package flow

import "golang.org/x/sys/unix"

// freeSpace gives the bytes that an ordinary account may still write below a folder; -1 when it is not known.
func freeSpace(dir string) int64 {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return -1
	}
	return int64(st.Bavail) * int64(st.Bsize)
}
