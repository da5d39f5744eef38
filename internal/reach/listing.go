package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sort"
)

// maxNames bounds how many names of one folder are looked at: a server can send names without end.
const maxNames = 2_000_000

// ErrManyNames is the failure of a folder with more names than are looked at.
var ErrManyNames = fmt.Errorf("more than %d names in one folder; name its files more exactly", maxNames)

// EachLister is what a file system offers that can list a folder name by name, so that a million of them need no room.
type EachLister interface {
	// EachEntry calls each for what is in a folder, in no order. An error of each ends it and is returned.
	EachEntry(ctx context.Context, name string, each func(fs.DirEntry) error) error
}

// EachEntry lists a folder name by name where the file system can do that, and at once where it cannot.
func EachEntry(ctx context.Context, fsys FS, name string, each func(fs.DirEntry) error) error {
	n := 0
	counted := func(e fs.DirEntry) error {
		if n++; n > maxNames {
			return ErrManyNames
		}
		if n%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		return each(e)
	}
	if l, ok := fsys.(EachLister); ok {
		return l.EachEntry(ctx, name, counted)
	}
	entries, err := fsys.ReadDir(name)
	for _, e := range entries {
		if e := counted(e); e != nil {
			return e
		}
	}
	return err
}

// readDir makes a sorted list of what EachEntry gives.
func readDir(l EachLister, name string) ([]fs.DirEntry, error) {
	var entries []fs.DirEntry
	err := l.EachEntry(context.Background(), name, func(e fs.DirEntry) error {
		if len(entries) >= maxNames {
			return ErrManyNames
		}
		entries = append(entries, e)
		return nil
	})
	if err != nil {
		return nil, err
	}
	sort.Slice(entries, func(i, j int) bool { return entries[i].Name() < entries[j].Name() })
	return entries, nil
}

// EachEntry lists a local folder.
func (l localFS) EachEntry(ctx context.Context, name string, each func(fs.DirEntry) error) error {
	if err := checkName("readdir", name); err != nil {
		return err
	}
	d, err := os.Open(l.path(name))
	if err != nil {
		return err
	}
	defer d.Close()
	for ctx.Err() == nil {
		entries, err := d.ReadDir(1024)
		for _, e := range entries {
			if err := each(e); err != nil {
				return err
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
	return ctx.Err()
}

// EachEntry lists a folder with the account's own rights first, and with more where those do not do.
func (f elevatedFS) EachEntry(ctx context.Context, name string, each func(fs.DirEntry) error) error {
	_, err := with(f, struct{}{}, EachEntry(ctx, f.plain, name, each), func(h *shellFS) (struct{}, error) {
		return struct{}{}, h.EachEntry(ctx, name, each)
	})
	return err
}
