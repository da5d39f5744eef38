package reach

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// openResolved opens a name and then makes sure that no element of it is a link, and that what was opened is what stands there.
func openResolved(root, name string) (*os.File, error) {
	p := localFS{root: root}.path(name)
	f, err := os.Open(p)
	if err != nil {
		return nil, err
	}
	opened, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, err
	}
	at := filepath.VolumeName(p) + string(filepath.Separator)
	for _, part := range strings.Split(strings.TrimPrefix(p, at), string(filepath.Separator)) {
		at = filepath.Join(at, part)
		info, err := os.Lstat(at)
		if err != nil || info.Mode()&(fs.ModeSymlink|fs.ModeIrregular) != 0 || at == p && !os.SameFile(info, opened) {
			f.Close()
			return nil, ErrExchanged
		}
	}
	return f, nil
}
