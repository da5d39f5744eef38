package collect

import (
	"bytes"
	"cmp"
	"context"
	"io"
	"io/fs"
	"path"
	"time"

	"envask/internal/collect/transfer"
	"envask/internal/logset"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/spill"
)

// listed is a file that the patterns match, as it was listed: all that is known of a file while it waits among a million others. Names
// on systems are bytes.
type listed struct {
	Set  []byte // its set, by its name alone; see logset.PlaceOf
	Path []byte
	Len  int64
	Bits fs.FileMode
	Mod  time.Time
	Disk int64 // bytes that it takes on the disk; -1 is not known
	Was  bool  // see match
}

// bySet sorts files by their sets.
func bySet(a, b *listed) int {
	return cmp.Or(bytes.Compare(a.Set, b.Set), bytes.Compare(a.Path, b.Path))
}

func newListed(name string, info fs.FileInfo) listed {
	l := listed{Set: []byte(logset.PlaceOf(name).Set), Path: []byte(name), Len: info.Size(), Bits: info.Mode(),
		Mod: info.ModTime(), Disk: -1}
	if takes, known := reach.Occupied(info); known {
		l.Disk = takes
	}
	return l
}

// A listed file is what the system said of it.
func (l *listed) Name() string       { return path.Base(string(l.Path)) }
func (l *listed) Size() int64        { return l.Len }
func (l *listed) Mode() fs.FileMode  { return l.Bits }
func (l *listed) ModTime() time.Time { return l.Mod }
func (l *listed) IsDir() bool        { return l.Bits.IsDir() }
func (l *listed) Sys() any           { return nil }

func (l *listed) match() match { return match{name: string(l.Path), info: l, was: l.Was} }

// occupied gives how many bytes of a disk a file takes.
func occupied(info fs.FileInfo) (bytes int64, known bool) {
	if l, ok := info.(*listed); ok {
		return l.Disk, l.Disk >= 0
	}
	return reach.Occupied(info)
}

// spillDir is where lists wait that do not fit in memory; a dry run keeps them there.
func (w *work) spillDir() string {
	if w.dryRun {
		return ""
	}
	return w.round.PartDir()
}

func closeList(l *spill.List[listed]) {
	if l != nil {
		_ = l.Close() // the folder goes, too
	}
}

// matchesOf gives all of a list.
func matchesOf(found *spill.List[listed]) ([]match, error) {
	var all []match
	err := found.Each(func(l *listed) error {
		all = append(all, l.match())
		return nil
	})
	return all, err
}

// list finds what the patterns match, sorted by sets.
func (f *filesWork) list(ctx context.Context) (*spill.List[listed], error) {
	sorter := spill.NewSorter(ctx, f.spillDir(), bySet)
	defer sorter.Close()
	var last, full error
	x := &expander{ctx: ctx, fsys: f.target.FS(),
		found: func(name string, info fs.FileInfo) {
			if err := sorter.Add(newListed(name, info)); err != nil {
				full = err
			}
		},
		problem: func(name string, err error) {
			last = err
			e := round.Entry{Source: source(name), State: stateOf(err), Reason: transfer.Plain(err)}
			if e.State == round.Denied {
				e.Reason += f.whatWouldHelp(nil)
			}
			f.add(e)
		},
	}
	for _, p := range f.spec.Patterns {
		if err := x.expand(p); err != nil {
			return nil, err
		}
		if err := lostBy(f.target, last); err != nil {
			return nil, err
		}
		if full != nil {
			return nil, transfer.Ours(full)
		}
	}
	out := spill.NewList[listed](f.spillDir())
	var before []byte
	err := sorter.Each(func(l *listed) error {
		if bytes.Equal(before, l.Path) { // several patterns match it
			return nil
		}
		before = l.Path
		return out.Add(l)
	})
	if err != nil && ctx.Err() == nil {
		err = transfer.Ours(err)
	}
	return out, err
}

// keepNames remembers what was listed, where it matters later: for companions, for names of what is unpacked, and for what is listed again.
func (f *filesWork) keepNames(found *spill.List[listed]) error {
	if !f.inspects() && len(f.spec.With) == 0 {
		return nil
	}
	return found.Each(func(l *listed) error {
		f.names.Put(l.Path)
		return nil
	})
}

// moved gives the files that came up, or changed their content for another, since they were listed: a log was rotated
// while it was read.
func (f *filesWork) moved(before, now *spill.List[listed]) (*spill.List[listed], error) {
	out := spill.NewList[listed](f.spillDir())
	in, err := before.Reader()
	if err != nil {
		return out, err
	}
	was, err := in.Next()
	if err != nil && err != io.EOF {
		return out, err
	}
	err = now.Each(func(l *listed) error {
		for was != nil && bySet(was, l) < 0 {
			if was, err = in.Next(); err == io.EOF {
				was = nil
			} else if err != nil {
				return err
			}
		}
		l.Was = f.names.Has(l.Path)
		if was == nil || !bytes.Equal(was.Path, l.Path) || changedFor(was, l) {
			return out.Add(l)
		}
		return nil
	})
	return out, err
}

// changedFor reports whether a file of the same name is another now. A current file grows; a rotated one does not.
func changedFor(was, now *listed) bool {
	switch {
	case now.Len < was.Len:
		return true
	case now.Len != was.Len || !now.Mod.Equal(was.Mod):
		return !logset.PlaceOf(string(now.Path)).Current
	}
	return false
}
