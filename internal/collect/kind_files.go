package collect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sort"

	"golang.org/x/sync/errgroup"

	"envask/internal/ask"
	"envask/internal/logset"
	"envask/internal/reach"
)

// fetchers is how many files of one system are on the way at a time: enough to hide the time that answers take.
const fetchers = 4

type match struct {
	name string
	info fs.FileInfo
}

// takeFiles takes the files that the item's patterns match.
func takeFiles(ctx context.Context, w *work) error {
	spec := w.item.Spec.(ask.Files)
	var matches []match
	x := &expander{ctx: ctx, fsys: w.target.FS(), seen: map[string]bool{},
		found: func(name string, info fs.FileInfo) { matches = append(matches, match{name, info}) },
		problem: func(name string, err error) {
			w.add(Entry{Source: source(name), State: stateOf(err), Reason: plain(err)})
		},
	}
	for _, p := range spec.Patterns {
		if err := x.expand(p); err != nil {
			return err
		}
		if err := lost(w.target); err != nil {
			return err
		}
	}
	sort.Slice(matches, func(i, j int) bool { return matches[i].name < matches[j].name })
	w.report(Event{Kind: ItemSize, System: w.sys.Name, Item: w.item.ID, Files: len(matches)})
	links := &resolver{fsys: w.target.FS(), folders: map[string]folder{}}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(fetchers)
	for _, m := range matches {
		if ctx.Err() != nil {
			break
		}
		g.Go(func() error { return takeFile(ctx, w, spec, links, m) })
	}
	return g.Wait()
}

// source is how an entry names a file.
func source(name string) string {
	safe := SafePath(name)
	if len(safe) > 1 && safe[1] == '/' && len(name) > 1 && name[0] >= 'A' && name[0] <= 'Z' {
		return safe // a drive letter
	}
	return "/" + safe
}

// takeFile decides about one file and takes it. An error means that going on with this item makes no sense.
func takeFile(ctx context.Context, w *work, spec ask.Files, links *resolver, m match) error {
	e := Entry{Source: source(m.name), Size: m.info.Size(), ModTime: m.info.ModTime().UTC()}
	if had, ok := w.done[e.Source]; ok {
		w.add(had)
		return w.failure()
	}
	name, ok := admit(w, spec, links, m, &e)
	if !ok {
		w.add(e)
		return w.failure()
	}
	if spec.Cut != "none" {
		info := fs.FileInfo(m.info)
		if name != m.name {
			if real, err := w.target.FS().Lstat(name); err == nil {
				info = real
			}
		}
		v := logset.Judge(func() (io.ReadCloser, error) { return w.target.FS().Open(name) }, info, w.req.Window, w.zone())
		e.First, e.Reason = v.First.UTC(), v.Why
		if v.First.IsZero() {
			e.First = v.First
		}
		if v.Err != nil && lost(w.target) == nil {
			e.State, e.Reason = stateOf(v.Err), plain(v.Err)
			w.add(e)
			return w.failure()
		}
		if !v.Take {
			e.State = Empty
			w.add(e)
			return w.failure()
		}
	}
	if w.dryRun {
		e.State, e.Bytes, e.Name = Taken, e.Size, "files"+e.Source
		if f, err := w.target.FS().Open(name); err != nil {
			e.State, e.Reason, e.Name = stateOf(err), plain(err), ""
		} else {
			f.Close()
		}
		w.add(e)
		return nil
	}
	return takeContent(ctx, w, name, e)
}

// takeContent fetches a file that was decided for.
func takeContent(ctx context.Context, w *work, name string, e Entry) error {
	target := "files/" + name0(e.Source) // the source is safe already
	got, err := fetch(ctx, w.target.FS(), name, w.part(), w.final(target), w.count)
	var local *localError
	switch {
	case err == nil:
		e.Name, e.Size, e.Bytes, e.SHA256, e.ModTime = target, got.size, got.bytes, got.sha256, got.modified.UTC()
		e.State, e.Reason = Taken, join(e.Reason, got.note)
		if got.short {
			e.State, e.Reason = Cut, got.note
		}
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &local):
		return err
	default:
		if gone := lost(w.target); gone != nil {
			return gone
		}
		e.State, e.Reason = stateOf(err), plain(err)
	}
	w.add(e)
	return w.failure()
}

// name0 takes the leading slash off an already safe path.
func name0(source string) string {
	if source != "" && source[0] == '/' {
		return source[1:]
	}
	return source
}

// admit says under which name a file is read, after links, or why it is not read at all.
func admit(w *work, spec ask.Files, links *resolver, m match, e *Entry) (string, bool) {
	if t := m.info.Mode(); !t.IsRegular() && t&fs.ModeSymlink == 0 {
		e.State, e.Reason, e.Special = Refused, plain(errSpecial(t)), true
		return "", false
	}
	if guarded(m.name, w.req.AllowPaths) {
		e.State, e.Reason = Refused, "holds secrets of the system itself; --allow-path "+e.Source+" takes it"
		return "", false
	}
	name, err := links.resolve(m.name, m.info)
	if err != nil {
		e.State, e.Reason = stateOf(err), plain(err)
		switch {
		case notThere(err):
			e.State, e.Reason = Missing, "a link that leads nowhere"
		case errors.Is(err, errLoop): // no evidence, whatever it was meant to be
			e.State, e.Special = Refused, true
		}
		return "", false
	}
	if name == m.name {
		return name, true
	}
	switch {
	case guarded(name, w.req.AllowPaths):
		e.State, e.Reason = Refused, "a link to "+source(name)+", which holds secrets of the system itself"
	case matchesAny(spec.Patterns, name):
		e.State, e.Reason, e.Special = Skipped, "a link to "+source(name)+", which is taken itself", true
	case !matchesAny(w.req.Ask.Patterns(), name) && !matchesAny(w.req.AllowPaths, name):
		e.State, e.Reason = Refused, "a link to "+source(name)+", out of the approved paths; --allow-path takes it"
	default:
		return resolvedKind(w, name, e)
	}
	return "", false
}

// resolvedKind makes sure that a link's target is a file.
func resolvedKind(w *work, name string, e *Entry) (string, bool) {
	info, err := w.target.FS().Lstat(name)
	if err != nil {
		e.State, e.Reason = stateOf(err), plain(err)
		return "", false
	}
	if !info.Mode().IsRegular() {
		e.State, e.Reason, e.Special = Refused, "a link to "+source(name)+": "+plain(errSpecial(info.Mode())), true
		return "", false
	}
	e.Size, e.ModTime = info.Size(), info.ModTime().UTC()
	return name, true
}

// stateOf maps an error of a file to a state.
func stateOf(err error) State {
	switch {
	case errors.Is(err, fs.ErrPermission):
		return Denied
	case errors.Is(err, fs.ErrNotExist):
		return Missing
	case silent(err):
		return TimedOut
	}
	return Failed
}

// silent says whether the other side did not answer in time.
func silent(err error) bool {
	return errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, reach.ErrSilent)
}

// plain gives the reason in an error without the path, which stands beside it.
func plain(err error) string {
	var p *fs.PathError
	for errors.As(err, &p) {
		err = p.Err
		p = nil
	}
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "permission denied"
	case errors.Is(err, fs.ErrNotExist):
		return "not there any more"
	}
	return fmt.Sprint(err)
}

// lost gives the reason when the connection to a system is gone.
func lost(s reach.System) error {
	if h, ok := s.(reach.Health); ok {
		return h.Lost()
	}
	return nil
}
