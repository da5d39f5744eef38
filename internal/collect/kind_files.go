package collect

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"sort"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/fault"
	"envask/internal/logset"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/spill"
)

// fetchers is how many files of one system are on the way at a time: enough to hide the time that answers take.
const fetchers = 4

// batchFiles is about how many files are looked at before they are taken.
const batchFiles = 64

// manyFiles is from how many files of one set on what was learned of each is not kept until it is taken.
const manyFiles = 500

// rotationPasses is how often the files are listed again because they were renamed while they were read.
const rotationPasses = 3

type match struct {
	name string
	info fs.FileInfo
	was  bool // it was listed before, and changed since
}

// candidate is a file that the item's patterns match and that may be read.
type candidate struct {
	match
	real   string // the name without links
	entry  round.Entry
	member *logset.Member
	chosen logset.Verdict
	whole  bool               // a companion: it is taken as it is
	again  bool               // another content was taken under the same name before
	target string             // its place in the round, where that does not follow from its path
	check  func(*round.Entry) // looks at what arrived, before it is recorded; may be nil
}

// filesWork is one item of files on one system.
type filesWork struct {
	*work
	spec   ask.Files
	links  *resolver
	names  *spill.Hashes   // of what was listed, where they matter later
	beside map[string]bool // companions that were looked at
	plain  map[string]bool // names given to what was unpacked
	marks  *spill.Hashes   // of the beginnings of what was taken or left
}

func newFilesWork(w *work, spec ask.Files) *filesWork {
	at := make([]string, len(spec.Patterns))
	for i, p := range spec.Patterns {
		at[i] = w.at(p)
	}
	spec.Patterns = at
	return &filesWork{work: w, spec: spec, links: &resolver{fsys: w.target.FS(), folders: map[string]folder{}},
		names: spill.NewHashes(), marks: spill.NewHashes(), beside: map[string]bool{}, plain: map[string]bool{}}
}

// takeFiles takes the files that the item's patterns match.
func takeFiles(ctx context.Context, w *work) error {
	f := newFilesWork(w, w.item.Spec.(ask.Files))
	if err := f.rotateFirst(ctx); err != nil {
		return err
	}
	var last *spill.List[listed]
	defer func() { closeList(last) }()
	for pass := range rotationPasses {
		all, err := f.list(ctx)
		if err != nil {
			return err
		}
		found := all
		if pass > 0 {
			if found, err = f.moved(last, all); err != nil || found.Len() == 0 {
				closeList(found)
				closeList(all)
				return transfer.Ours(err)
			}
		} else {
			w.report(Event{Kind: ItemSize, System: w.sys.Name, Item: w.item.ID, Files: found.Len()})
		}
		if err := f.keepNames(found); err != nil {
			return transfer.Ours(err)
		}
		if err := f.takeAll(ctx, found, pass > 0); err != nil {
			return err
		}
		if w.dryRun || !f.inspects() {
			closeList(all)
			return nil
		}
		if pass > 0 {
			closeList(found)
		}
		closeList(last)
		last = all // the next pass looks only at what changed since
	}
	return nil
}

// atATime bounds how many files of the system are read at a time.
func (f *filesWork) atATime(usual int) int {
	if n := f.sys.Limits.Connections; n > 0 {
		return min(n, usual)
	}
	return usual
}

// inspects says whether what is in the files decides about them.
func (f *filesWork) inspects() bool {
	return f.spec.Cut != "none" && f.window().Limited() || f.spec.Newest > 0
}

// source is how an entry names a file.
func source(name string) string {
	safe := SafePath(name)
	if len(safe) > 1 && safe[1] == '/' && len(name) > 1 && name[0] >= 'A' && name[0] <= 'Z' {
		return safe // a drive letter
	}
	return "/" + safe
}

// takeAll decides about files and takes them, some sets at a time: of many files not all need to be known at once. Where
// files are ranked over all sets, all are.
func (f *filesWork) takeAll(ctx context.Context, found *spill.List[listed], again bool) error {
	if f.spec.Newest > 0 || f.spec.Max > 0 || f.spec.NewestVersion {
		all, err := matchesOf(found)
		if err != nil {
			return transfer.Ours(err)
		}
		return f.takeBatch(ctx, f.newestVersions(all), again)
	}
	var batch []match
	var set []byte
	err := found.Each(func(l *listed) error {
		if len(batch) >= batchFiles && !bytes.Equal(l.Set, set) {
			if err := f.takeBatch(ctx, batch, again); err != nil {
				return err
			}
			batch = batch[:0]
		}
		set = l.Set
		batch = append(batch, l.match())
		return nil
	})
	if err != nil {
		return err
	}
	return f.takeBatch(ctx, batch, again)
}

// takeBatch decides about whole sets of files and takes them.
func (f *filesWork) takeBatch(ctx context.Context, found []match, again bool) error {
	files := f.admitAll(found, again)
	if f.inspects() {
		if err := f.inspectAll(ctx, files); err != nil {
			return err
		}
		files = f.unseen(files, again)
	}
	if files = f.choose(files); f.failure() != nil {
		return f.failure()
	}
	files = append(files, f.companions(files)...)
	if f.spec.Max > 0 {
		return f.takeWithin(ctx, files, f.spec.Max)
	}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(f.atATime(fetchers))
	for _, c := range files {
		if ctx.Err() != nil {
			break
		}
		g.Go(func() error {
			return fault.Safely(func() error { _, err := f.take(ctx, c, 0); return err })
		})
	}
	return g.Wait()
}

// admitAll leaves out what is never read, and what an interrupted run has already.
func (f *filesWork) admitAll(found []match, again bool) []*candidate {
	var out []*candidate
	for _, m := range found {
		e := round.Entry{Source: source(m.name), Size: m.info.Size(), ModTime: m.info.ModTime().UTC()}
		if had, ok := f.done.get(e.Source); ok && !again {
			f.add(had)
			continue
		}
		real, ok := admit(f.work, f.spec, f.links, m, &e)
		if !ok {
			f.add(e)
			continue
		}
		c := &candidate{match: m, real: real, entry: e}
		if real != m.name {
			if info, err := f.target.FS().Lstat(real); err == nil {
				c.info = info
			}
		}
		if again && m.was {
			c.again = true
			c.entry.Source += "%~again" // so that both are kept
		}
		c.member = &logset.Member{Name: real, Info: c.info}
		out = append(out, c)
	}
	return out
}

// leave records why a file is not taken.
func (f *filesWork) leave(c *candidate, s round.State, reason string) {
	if s == round.Denied {
		reason += f.whatWouldHelp(c.info)
	}
	c.entry.State, c.entry.Reason = s, reason
	c.entry.Name, c.entry.Bytes, c.entry.SHA256 = "", 0, ""
	f.add(c.entry)
}

// whatWouldHelp says what would make a file or folder readable that is not; info is nil where it is not known.
func (f *filesWork) whatWouldHelp(info fs.FileInfo) string {
	if f.sys.Elevate != "" {
		return ""
	}
	mode := ""
	if info != nil {
		mode = fmt.Sprintf(" (mode %04o)", info.Mode().Perm())
	}
	return mode + "; elevate: sudo in the systems file would help where the account may use it, else a right to read it"
}

func (f *filesWork) newestVersions(found []match) []match {
	if !f.spec.NewestVersion {
		return found
	}
	names := make([]string, len(found))
	for i, m := range found {
		names[i] = m.name
	}
	keep, newest := logset.NewestVersions(names)
	var out []match
	for i, m := range found {
		if keep[i] {
			out = append(out, m)
		} else {
			f.add(round.Entry{Source: source(m.name), Size: m.info.Size(), ModTime: m.info.ModTime().UTC(), State: round.Skipped,
				Reason: "an older version; the newest is " + newest[m.name]})
		}
	}
	return out
}

// inspectAll looks at both ends of every file, several at a time.
func (f *filesWork) inspectAll(ctx context.Context, files []*candidate) error {
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(f.atATime(2 * fetchers))
	for _, c := range files {
		g.Go(func() error {
			if inner.Err() != nil {
				return inner.Err()
			}
			if err := fault.Safely(func() error { f.inspect(c, f.facts(c.info)); return nil }); err != nil {
				c.member.Look = &logset.Look{Err: err}
			}
			return lostBy(f.target, c.member.Look.Err)
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	names := realNames(files)
	for _, set := range logset.Sets(names) {
		members := make([]*candidate, len(set))
		for i, k := range set {
			members[i] = files[k]
		}
		f.settle(members)
		if len(files) > manyFiles {
			for _, c := range members {
				c.member.Look.Release()
			}
		}
	}
	return ctx.Err()
}

// settle lets the members of a set settle what one alone leaves open: the order of day and month, and the year, which the
// next newer member bounds better than the time of the last change.
func (f *filesWork) settle(set []*candidate) {
	order := logset.OrderOf(looks(set))
	var newer time.Time
	for _, c := range set {
		l := c.member.Look
		facts := f.facts(c.info)
		facts.Order = order
		if !newer.IsZero() && newer.Before(facts.AsOf) {
			facts.AsOf = newer
		}
		if l.Depends(facts, newer) {
			f.inspect(c, facts)
			l = c.member.Look
		}
		if l.Dated() {
			newer = l.First
		}
	}
	members := make([]*logset.Member, len(set))
	for i, c := range set {
		members[i] = c.member
	}
	logset.Bound(members)
}

func realNames(files []*candidate) []string {
	names := make([]string, len(files))
	for i, c := range files {
		names[i] = c.real
	}
	return names
}

func looks(set []*candidate) []*logset.Look {
	var out []*logset.Look
	for _, c := range set {
		out = append(out, c.member.Look)
	}
	return out
}

// unseen leaves out what was taken or left under another name before, and remembers the rest.
func (f *filesWork) unseen(files []*candidate, again bool) []*candidate {
	var out []*candidate
	for _, c := range files {
		if mark, ok := c.member.Look.Mark(); ok {
			if f.marks.Put(mark[:]) && again {
				continue
			}
		} else if again && c.again && c.info.Size() == 0 {
			continue // the new current file, still empty
		}
		if again {
			c.entry.Reason = "appeared during collection (the log was rotated)"
		}
		out = append(out, c)
	}
	return out
}

// choose decides about each file by its history, its content and its age.
func (f *filesWork) choose(files []*candidate) []*candidate {
	files = f.history(files)
	if !f.inspects() {
		return files
	}
	w := f.window()
	var out []*candidate
	for _, c := range files {
		c.chosen = logset.Verdict{Take: true}
		if l := c.member.Look; l != nil {
			c.entry.First, c.entry.Last = l.First, l.Last
			if l.Err != nil && !errors.Is(l.Err, logset.ErrSeveral) {
				f.leave(c, stateOf(l.Err), transfer.Plain(l.Err))
				continue
			}
		}
		if f.spec.Cut != "none" {
			c.chosen = logset.Choose(c.member, w)
		}
		if !c.chosen.Take {
			f.leave(c, round.Empty, c.chosen.Why)
			continue
		}
		c.entry.Reason = round.Join(c.chosen.Why, c.entry.Reason)
		out = append(out, c)
	}
	if n := f.spec.Newest; n > 0 && len(out) > n {
		sort.SliceStable(out, func(i, j int) bool { return out[i].member.Newest().After(out[j].member.Newest()) })
		for _, c := range out[n:] {
			f.leave(c, round.Skipped, fmt.Sprintf("not among the newest %d", n))
		}
		out = out[:n]
	}
	return out
}

// history leaves out rotated members beyond the number that the item wants.
func (f *filesWork) history(files []*candidate) []*candidate {
	if f.spec.History == ask.AllHistory {
		return files
	}
	names := realNames(files)
	var out []*candidate
	for _, set := range logset.Sets(names) {
		for rank, i := range set {
			if rank <= f.spec.History {
				out = append(out, files[i])
			} else {
				f.leave(files[i], round.Skipped, fmt.Sprintf("a rotated file beyond the %d that the ask wants", f.spec.History))
			}
		}
	}
	return out
}

// companions finds what belongs to the files and must travel with them.
func (f *filesWork) companions(files []*candidate) []*candidate {
	var out []*candidate
	for _, c := range files {
		base := path.Base(c.name)
		stem := strings.TrimSuffix(base, path.Ext(base))
		for _, pattern := range f.spec.With {
			name := path.Join(path.Dir(c.name), strings.NewReplacer("{stem}", stem, "{name}", base).Replace(pattern))
			if f.names.Has([]byte(name)) || f.beside[name] {
				continue
			}
			f.beside[name] = true
			e := round.Entry{Source: source(name)}
			info, err := f.target.FS().Lstat(name)
			if err != nil {
				e.State, e.Reason = stateOf(err), "belongs to "+c.entry.Source+": "+transfer.Plain(err)
				if notThere(err) {
					e.Reason = "belongs to " + c.entry.Source + " and is missing"
				}
				f.add(e)
				continue
			}
			e.Size, e.ModTime = info.Size(), info.ModTime().UTC()
			spec := f.spec
			spec.Patterns = append([]string{reach.Path(name)}, spec.Patterns...)
			real, ok := admit(f.work, spec, f.links, match{name: name, info: info}, &e)
			if !ok {
				f.add(e)
				continue
			}
			e.Reason = "belongs to " + c.entry.Source
			out = append(out, &candidate{match: match{name: name, info: info}, real: real, entry: e, whole: true,
				member: &logset.Member{Name: real, Info: info}})
		}
	}
	return out
}

// takeWithin takes the newest files first, until the limit is reached.
func (f *filesWork) takeWithin(ctx context.Context, files []*candidate, limit int64) error {
	sort.SliceStable(files, func(i, j int) bool { return files[i].member.Newest().After(files[j].member.Newest()) })
	left := limit
	for _, c := range files {
		if left <= 0 {
			f.leave(c, round.Skipped, "the newest "+bytesText(limit)+" of the item are taken; this is older")
			continue
		}
		n, err := f.take(ctx, c, left)
		if err != nil {
			return err
		}
		left -= n
	}
	return nil
}
