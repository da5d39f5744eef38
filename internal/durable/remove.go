package durable

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
)

// RemoveAll removes a file, or a folder with all that is in it. What is not there is no error.
//
// Some file systems (shares, and layers that only resemble Windows) do not know the way in which the runtime removes trees there. Then
// it goes name by name, from the bottom up.
func RemoveAll(name string) error {
	err := os.RemoveAll(name)
	if err == nil {
		return nil
	}
	if runtime.GOOS == "windows" && removeTree(name) == nil {
		return nil
	}
	return err
}

func removeTree(name string) error {
	info, err := os.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if info.IsDir() { // never through a link
		entries, err := os.ReadDir(name)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if err := removeTree(filepath.Join(name, e.Name())); err != nil {
				return err
			}
		}
	}
	return os.Remove(name)
}
