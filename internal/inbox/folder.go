package inbox

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"time"
)

// Drop is a folder, on a stick or a share, into which a device puts files. It is only read: nothing of it is changed or removed.
type Drop struct {
	Dir   string
	Named func(name string) bool // others are left where they are
	Since time.Time              // what is older and there at the first look does not count
	Quiet time.Duration          // how long a file has to stay as it is until it counts as whole
	Pause time.Duration          // between two looks; 0 means DropPause
}

// DropPause is the time between two looks: shares tell nobody what changes in them, so that one has to look.
const DropPause = 500 * time.Millisecond

// mostDropped bounds how many names of a folder are read.
const mostDropped = 100_000

// dropping is what is known of the files of a folder.
type dropping struct {
	Drop
	store   *Store
	account *Account
	files   map[string]*dropped
	said    string // the last remark on the folder itself
	looks   int
}

// dropped is one file of a drop folder.
type dropped struct {
	size     int64
	modified time.Time
	since    time.Time // how long it has been so
	done     bool      // taken, or left for good
}

// Watch takes what is put into a folder, for an account, until the context ends. A folder that is not there yet is waited for.
func (s *Store) Watch(ctx context.Context, a *Account, d Drop) {
	if d.Pause == 0 {
		d.Pause = DropPause
	}
	w := &dropping{Drop: d, store: s, account: a, files: map[string]*dropped{}}
	tick := time.NewTicker(d.Pause)
	defer tick.Stop()
	for {
		w.look(ctx)
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// tell remarks on the folder itself, once for each state.
func (w *dropping) tell(text string) {
	if text != w.said {
		w.said = text
		if text != "" {
			w.store.remark("%s: %s: %s", w.account.System, w.Dir, text)
		}
	}
}

// look reads the folder once. All goes through a root, so that no name or link leads out of it.
func (w *dropping) look(ctx context.Context) {
	root, err := os.OpenRoot(w.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		w.tell("the folder does not exist yet; waiting for it")
		return
	}
	var list []fs.DirEntry
	if err == nil {
		defer root.Close()
		var f *os.File
		if f, err = root.Open("."); err == nil {
			list, err = f.ReadDir(mostDropped)
			f.Close()
		}
	}
	if err != nil && !errors.Is(err, io.EOF) {
		w.tell(plainError(err))
		return
	}
	w.tell("")
	before := 0
	for _, d := range list {
		if ctx.Err() != nil {
			return
		}
		if w.each(ctx, root, d.Name()) {
			before++
		}
	}
	if w.looks++; w.looks == 1 && before > 0 {
		w.store.remark("%s: %s: %d there before do not count: envask add FILE --item %s --system %s takes one", w.account.System, w.Dir,
			before, w.account.Item, w.account.System)
	}
}

// each looks at one name, and reports whether it is one that was there before and does not count.
func (w *dropping) each(ctx context.Context, root *os.Root, name string) (before bool) {
	x := w.files[name]
	if x != nil && x.done {
		return false
	}
	info, err := root.Lstat(name)
	if err != nil || info.IsDir() { // gone again, or not a file
		delete(w.files, name)
		return false
	}
	now := time.Now()
	switch {
	case x == nil && !w.Named(name):
		w.files[name] = &dropped{done: true} // another's
		return false
	case x == nil && !info.Mode().IsRegular():
		w.files[name] = &dropped{done: true}
		w.store.remark("%s: %q in %s is not a regular file: left", w.account.System, w.store.SafeName(name), w.Dir)
		return false
	case x == nil && w.looks == 0 && info.ModTime().Before(w.Since):
		w.files[name] = &dropped{done: true}
		return true
	case x == nil, x.size != info.Size(), !x.modified.Equal(info.ModTime()):
		w.files[name] = &dropped{size: info.Size(), modified: info.ModTime(), since: now}
		return false
	case now.Sub(x.since) < w.Quiet:
		return false
	}
	switch err := w.take(ctx, root, name, x); {
	case errors.Is(err, errChanging):
		x.since = now
	case err != nil && ctx.Err() == nil:
		x.done = true
		w.store.remark("%s: %q in %s was not taken: %s", w.account.System, w.store.SafeName(name), w.Dir, plainError(err))
	default:
		x.done = err == nil
	}
	return false
}

var errChanging = errors.New("it changed while it was read")

// take copies a file that stays as it is into the store.
func (w *dropping) take(ctx context.Context, root *os.Root, name string, x *dropped) error {
	f, err := root.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return fmt.Errorf("it is not a regular file any more")
	}
	in, err := w.store.begin(w.account, name, byFolder, w.Dir)
	if err != nil {
		return err
	}
	in.arrival.Modified = x.modified
	if _, err := io.Copy(in, reading{ctx, f}); err != nil {
		in.drop()
		return err
	}
	if info, err := f.Stat(); err != nil || info.Size() != x.size || !info.ModTime().Equal(x.modified) || in.next != x.size {
		in.drop()
		return errChanging
	}
	return in.Commit()
}

// reading is a file that is read until the context ends.
type reading struct {
	ctx context.Context
	f   io.Reader
}

func (r reading) Read(b []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.f.Read(b)
}

// plainError gives the cause of an error of files, without the path.
func plainError(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}
