//go:build !windows

package reach

import (
	"io/fs"
	"syscall"
)

// Occupied gives how many bytes of a disk a local file takes, which are fewer than its size says when it has holes; known is false
// where that is not told.
func Occupied(info fs.FileInfo) (bytes int64, known bool) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	return st.Blocks * 512, true // POSIX: blocks of 512 bytes, whatever the disk's are
}
