package collect

import (
	"context"
	"sort"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/durable"
	"envask/internal/logset"
	"envask/internal/patience"
	"envask/internal/posix"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/undo"
)

// What a command made is what was not there before it ran: neither a file of that name, nor one that had another name then. A log that
// was written to meanwhile, or rotated, is none of it. Outside of our folder nothing is removed unless the ask says so, and then only
// the very file that was taken.

// before takes down what is there already.
func (m *maker) before(ctx context.Context) error {
	var names []string
	if err := m.expand(ctx, func(x match) { names = append(names, x.name) }); err != nil {
		return err
	}
	ids, err := m.identities(ctx, names)
	for i, name := range names {
		if err == nil {
			m.state.Before[name] = ids[i]
		}
	}
	return err
}

func (m *maker) identities(ctx context.Context, names []string) ([]string, error) {
	paths := make([]string, len(names))
	for i, n := range names {
		paths[i] = reach.Path(n)
	}
	ids, err := reach.Identities(ctx, m.run, paths)
	if err != nil {
		if gone := lostBy(m.target, err); gone != nil {
			return nil, gone
		}
	}
	return ids, err
}

// product is a file that a command made.
type product struct {
	match
	id string // what tells it apart; "" where the system does not tell
}

// results finds what the command made, once its sizes stay the same.
func (m *maker) results(ctx context.Context) ([]product, error) {
	var sizes map[string]int64
	for end := time.Now().Add(settleMost); ; {
		var found []match
		now := map[string]int64{}
		err := m.expand(ctx, func(x match) {
			if _, there := m.state.Before[x.name]; !there {
				found = append(found, x)
				now[x.name] = x.info.Size()
			}
		})
		if err != nil {
			return nil, err
		}
		same := len(now) == len(sizes)
		for name, size := range now {
			same = same && sizes[name] == size
		}
		if same || time.Now().After(end) {
			sort.Slice(found, func(i, j int) bool { return found[i].name < found[j].name })
			return m.made(ctx, found)
		}
		sizes = now
		if err := patience.Wait(ctx, settleWait); err != nil {
			return nil, err
		}
	}
}

// made leaves out what had another name before: a log that was rotated meanwhile.
func (m *maker) made(ctx context.Context, found []match) ([]product, error) {
	names := make([]string, len(found))
	for i, x := range found {
		names[i] = x.name
	}
	ids, err := m.identities(ctx, names)
	if err != nil {
		return nil, err
	}
	was := map[string]string{}
	for name, id := range m.state.Before {
		was[id] = name
	}
	var out []product
	for i, x := range found {
		if old, there := was[ids[i]]; there && ids[i] != "" {
			m.add(round.Entry{Source: source(x.name), Size: x.info.Size(), ModTime: x.info.ModTime().UTC(),
				State: round.Skipped, Special: true,
				Reason: "not made by the command: it was " + source(old) + " before"})
			continue
		}
		out = append(out, product{x, ids[i]})
	}
	return out, nil
}

// takeAllOf takes what was made. What could not be taken is left: it may have taken an hour to make.
func (m *maker) takeAllOf(ctx context.Context, files []product) (left int, err error) {
	var all []*candidate
	of := map[*candidate]product{}
	for _, x := range files {
		c := m.candidate(x)
		if err := m.failure(); err != nil {
			return left, err
		}
		if c != nil {
			all, of[c] = append(all, c), x
		}
	}
	if m.inspects() {
		if err := m.inspectAll(ctx, all); err != nil {
			return len(all), err
		}
		var dated, bare []*candidate
		for _, c := range all {
			if c.member.Look != nil && c.member.Look.Dated() {
				dated = append(dated, c)
			} else { // its time of change is that of the command: it says nothing of the window
				c.whole = true
				bare = append(bare, c)
			}
		}
		all = append(m.choose(dated), bare...)
	}
	for _, c := range all {
		x := of[c]
		if err := m.takeOne(ctx, x, c, m.inside(x)); err != nil {
			return left, err
		}
		if s := c.entry.State; s != round.Taken && s != round.Empty {
			left++
		}
	}
	return left, m.failure()
}

// inside reports whether something was made in our folder.
func (m *maker) inside(x product) bool {
	return strings.HasPrefix(x.name, reach.Name(m.state.Folder)+"/made/")
}

// candidate gives what is to be taken of a product; nil when it is here already or is never taken.
func (m *maker) candidate(x product) *candidate {
	rel, inside := strings.CutPrefix(x.name, reach.Name(m.state.Folder)+"/made/")
	e := round.Entry{Source: source(x.name), Size: x.info.Size(), ModTime: x.info.ModTime().UTC()}
	if had, ok := m.done.get(madeAs(e.Source, rel, inside)); ok {
		m.add(had)
		return nil
	}
	real, ok := admit(m.work, ask.Files{Patterns: m.patterns()}, m.links, x.match, &e)
	e.Source = madeAs(e.Source, rel, inside)
	if !ok { // a link, something special, or secrets of the system
		e.Special = true
		m.add(e)
		return nil
	}
	c := &candidate{match: x.match, real: real, entry: e, whole: !m.inspects(), member: &logset.Member{Name: real, Info: x.info}}
	if inside {
		c.target = "made/" + m.item.ID + "/" + SafePath(rel)
	}
	return c
}

func madeAs(source, rel string, inside bool) string {
	if inside {
		return "{folder}/" + SafePath(rel)
	}
	return source
}

// takeOne takes one file, and removes it there if the ask wants that.
func (m *maker) takeOne(ctx context.Context, x product, c *candidate, inside bool) error {
	goes := !inside && m.spec.Remove && x.id != ""
	if goes {
		if _, err := m.changes.BeginOf(KindFile, m.sys.Name, reach.Path(x.name), undo.Identity+x.id); err != nil {
			return &transfer.LocalError{Err: err}
		}
	}
	c.check = func(e *round.Entry) { m.compare(ctx, x.match, e) }
	if _, err := m.take(ctx, c, 0); err != nil || c.entry.State != round.Taken || !goes {
		return err
	}
	return m.removeMade(ctx, x.name)
}

// patterns gives those of makes as they are on the system.
func (m *maker) patterns() []string {
	var out []string
	for _, p := range m.spec.Makes {
		out = append(out, m.placed(p))
	}
	return out
}

// removeTaken removes what a run before took, and had no time to remove or to strike off.
func (m *maker) removeTaken(ctx context.Context) error {
	if m.done == nil {
		return nil
	}
	pending, err := m.changes.Pending()
	if err != nil {
		return &transfer.LocalError{Err: err}
	}
	for _, ch := range pending {
		name := reach.Name(ch.Path)
		if _, ok := m.done.get(source(name)); ok && ch.Kind == KindFile && ch.Where == m.sys.Name {
			if err := m.removeMade(ctx, name); err != nil {
				return err
			}
		}
	}
	return nil
}

// removeMade removes a file that a command made for us outside our folder: only one that the ledger says is ours, and only if it is
// still that one.
func (m *maker) removeMade(ctx context.Context, name string) error {
	change, ours, err := m.changes.Find(KindFile, m.sys.Name, reach.Path(name))
	if err != nil {
		return &transfer.LocalError{Err: err}
	}
	if !ours {
		return nil
	}
	durable.Point("before a file that was made is removed")
	defer durable.Point("after a file that was made was removed")
	if _, err := shellText(ctx, m.run, RemoveFile(change)); err != nil {
		return lostBy(m.target, err) // what a system refuses to remove is left to tidy
	}
	if err := m.changes.Done(change.ID, "removed"); err != nil {
		return &transfer.LocalError{Err: err}
	}
	return nil
}

// RemoveFile is the script that removes a file that a command made for us: if it is still the one that was taken.
func RemoveFile(c undo.Change) string {
	if id, ok := strings.CutPrefix(c.Of, undo.Identity); ok {
		return reach.RemoveIfStill(c.Path, id)
	}
	return "rm -f " + posix.Word(c.Path) // of a version that took down the path alone
}
