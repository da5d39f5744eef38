package flow

import "golang.org/x/sys/windows"

// freeSpace gives the bytes that this account may still write below a folder; -1 when it is not known.
func freeSpace(dir string) int64 {
	name, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		return -1
	}
	var free uint64
	if err := windows.GetDiskFreeSpaceEx(name, &free, nil, nil); err != nil {
		return -1
	}
	return int64(free)
}
