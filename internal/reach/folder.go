package reach

import (
	"context"
	"errors"
	"fmt"
	"os"

	"envask/internal/fault"
	"envask/internal/site"
)

// Folder is a copy of a system's files on this machine: a mounted disk, an unpacked backup, an archive. It runs nothing.
type Folder struct {
	serving
	fsys  FS
	close func() error
}

var _ System = (*Folder)(nil)

func openFolder(ctx context.Context, d *Dialer, s *site.System) (System, error) {
	root := d.Path(s.Folder)
	info, err := os.Stat(root)
	if file, within := archiveIn(root); file != "" {
		f, e := openArchive(ctx, file, within)
		if e == nil || ctx.Err() != nil {
			return f, e
		}
		err = e
	} else if err == nil && !info.IsDir() {
		err = errors.New("not a folder")
	}
	if err != nil {
		return nil, &fault.Error{Target: s.Name, Err: fmt.Errorf("%w: the folder %s: %w", ErrConnection, root, plainPath(err)),
			Hint: "mount or copy the system's files or an archive of them there, or fix folder: in the systems file"}
	}
	return NewFolder(root), nil
}

// NewFolder gives the copy of a system below a folder.
func NewFolder(root string) *Folder {
	f := &Folder{fsys: localFS{root: root}}
	f.served = Served{Way: "folder", Means: "files as they are in " + root}
	return f
}

// plainPath takes the path out of an error that names it already.
func plainPath(err error) error {
	var p *os.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

// FS gives the files of the copy.
func (f *Folder) FS() FS { return f.fsys }

// Close ends reading an archive.
func (f *Folder) Close() error {
	if f.close == nil {
		return nil
	}
	return f.close()
}
