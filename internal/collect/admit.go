package collect

import (
	"errors"
	"io/fs"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/round"
)

// admit says under which name a file is read, after links, or why it is not read at all.
func admit(w *work, spec ask.Files, links *resolver, m match, e *round.Entry) (string, bool) {
	if t := m.info.Mode(); !t.IsRegular() && t&fs.ModeSymlink == 0 {
		e.State, e.Reason, e.Special = round.Refused, transfer.Plain(transfer.ErrSpecial(t)), true
		return "", false
	}
	if guarded(m.name, w.req.AllowPaths) {
		e.State, e.Reason = round.Refused, "holds secrets of the system; --allow-path "+e.Source+" takes it"
		return "", false
	}
	name, err := links.resolve(m.name, m.info)
	if err != nil {
		e.State, e.Reason = stateOf(err), transfer.Plain(err)
		switch {
		case notThere(err):
			e.State, e.Reason = round.Missing, "a broken symlink"
		case errors.Is(err, errLoop): // no evidence, whatever it was meant to be
			e.State, e.Special = round.Refused, true
		}
		return "", false
	}
	if name == m.name {
		return name, true
	}
	switch {
	case guarded(name, w.req.AllowPaths):
		e.State, e.Reason = round.Refused, "a link to "+source(name)+", which holds secrets of the system"
	case matchesAny(spec.Patterns, name):
		e.State, e.Reason, e.Special = round.Skipped, "a link to "+source(name)+", which is taken itself", true
	case !matchesAny(w.approved(), name) && !matchesAny(w.req.AllowPaths, name):
		e.State, e.Reason = round.Refused, "a link to "+source(name)+", out of the approved paths; --allow-path takes it"
	default:
		return resolvedKind(w, name, e)
	}
	return "", false
}

// resolvedKind makes sure that a link's target is a file.
func resolvedKind(w *work, name string, e *round.Entry) (string, bool) {
	info, err := w.target.FS().Lstat(name)
	if err != nil {
		e.State, e.Reason = stateOf(err), transfer.Plain(err)
		return "", false
	}
	if !info.Mode().IsRegular() {
		e.State, e.Reason, e.Special = round.Refused, "a link to "+source(name)+": "+transfer.Plain(transfer.ErrSpecial(info.Mode())), true
		return "", false
	}
	e.Size, e.ModTime = info.Size(), info.ModTime().UTC()
	return name, true
}

// approved gives the patterns of all items, as they are on this system: the paths that the approval of the ask covers.
func (w *work) approved() []string {
	var all []string
	for _, p := range w.req.Ask.Patterns() {
		p, err := ask.FillPath(p, w.readAlready)
		if err == nil { // of what leads nowhere here nothing is approved
			all = append(all, w.at(p))
		}
	}
	return all
}
