package draft

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"envask/internal/logset"
	"envask/internal/parts"
	"envask/internal/reach"
	"envask/internal/stamp"
)

// Look is how to look at a system.
type Look struct {
	System   reach.System
	Elevated bool           // commands may run with the system's elevation
	Zone     *time.Location // of times in logs that name none
	ZoneFrom string
	Now      time.Time // of our own clock
	Told     func(doing string)
}

// Proposal is one thing to ask for.
type Proposal struct {
	Title   string
	Reasons []string
	Worth   int // more is better
	Block   parts.Block
}

// Found is what a look at a system found.
type Found struct {
	Proposals []Proposal // the best first
	LeftOut   []string   // what was seen and is not proposed, with the reason
	Remarks   []string   // what could not be looked at
}

// looking is one look at a system.
type looking struct {
	Look
	fsys reach.FS
	run  *running
	walk *walk
	sets []*Set
	out  *Found
	took map[*Set]bool
	left []string // files of logs that are left out
	fit  []*parts.Part
	ids  map[string]bool
}

// System looks at a system and proposes what to ask of it. Only reading is done: Script is run where there is a POSIX shell, folders are
// listed, and of logs both ends are read.
func System(ctx context.Context, l Look) (*Found, error) {
	w := &looking{Look: l, fsys: l.System.FS(), out: &Found{}, took: map[*Set]bool{}, ids: map[string]bool{}, run: &running{}}
	if w.Told == nil {
		w.Told = func(string) {}
	}
	if err := w.processes(ctx); err != nil {
		return nil, err
	}
	w.Told("looking for logs")
	w.logs(ctx)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	w.Told("choosing")
	w.proposeParts()
	w.proposeLogs()
	w.proposeServices()
	w.leaveOut()
	slices.SortStableFunc(w.out.Proposals, func(a, b Proposal) int { return b.Worth - a.Worth })
	return w.out, ctx.Err()
}

// processes finds out what runs.
func (w *looking) processes(ctx context.Context) error {
	r, ok := w.System.(reach.Runner)
	switch {
	case !ok:
		w.out.Remarks = append(w.out.Remarks, "it runs no commands: which services run and what they write is not known")
		return nil
	case reach.OnWindows(w.System):
		return nil
	}
	if e, ok := w.System.(reach.Elevator); ok && w.Elevated {
		r = reach.WithElevation(e)
	}
	w.Told("looking at what runs")
	got, err := run(ctx, r)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if got != nil {
		w.run = got
	}
	switch {
	case err != nil && reach.Broken(err):
		return err
	case err != nil:
		w.out.Remarks = append(w.out.Remarks, "what runs is not known: "+err.Error())
	case len(got.processes) == 0:
		w.out.Remarks = append(w.out.Remarks, "it has no /proc: which processes run and what they write is not known")
	case len(got.written) == 0:
		w.out.Remarks = append(w.out.Remarks, "the account sees no files that other accounts' processes hold open; with elevate: in the "+
			"systems file it would")
	case got.partly:
		w.out.Remarks = append(w.out.Remarks, "what runs is known in part only: the answer was cut off")
	}
	return nil
}

// now is the system's clock where it was told, else ours.
func (w *looking) now() time.Time {
	if !w.run.now.IsZero() {
		return w.run.now
	}
	return w.Now
}

// windowsRoots are folders in which programs keep logs on Windows.
var windowsRoots = []string{"/C/ProgramData/*/log", "/C/ProgramData/*/logs", "/C/Program Files/*/log", "/C/Program Files/*/logs"}

// logs finds the logs of the system, with their dates and who writes them.
func (w *looking) logs(ctx context.Context) {
	w.walk = &walk{ctx: ctx, fsys: w.fsys, files: map[string]fs.FileInfo{}, seen: map[string]bool{}}
	tops := logRoots
	if reach.OnWindows(w.System) {
		tops = windowsRoots
	}
	for _, dir := range roots(w.fsys, tops) {
		w.walk.below(dir, maxDepth)
	}
	for i := range w.run.written {
		f := &w.run.written[i]
		dir := path.Dir(f.Path)
		switch base := path.Base(dir); {
		case f.Deleted || f.By.Container != "":
		case base == "log" || base == "logs":
			w.walk.below(dir, 1)
		case logName().MatchString(path.Base(f.Path)):
			set := logset.PlaceOf(f.Path).Set // of its folder nothing else: it need not be one of logs
			w.walk.members(dir, func(name string) bool { return logset.PlaceOf(path.Join(dir, name)).Set == set })
		}
	}
	w.sets = w.walk.sets()
	by := map[string][]*Process{}
	for _, f := range w.run.written {
		if !f.Deleted && f.By.Container == "" && !slices.ContainsFunc(by[f.Path], func(p *Process) bool { return p.Name == f.By.Name }) {
			by[f.Path] = append(by[f.Path], f.By)
		}
	}
	for _, s := range w.sets {
		for _, m := range s.Members {
			s.By = append(s.By, by[m]...)
		}
	}
	slices.SortStableFunc(w.sets, func(a, b *Set) int { return b.Written.Compare(a.Written) })
	dated, cancel := context.WithTimeout(ctx, datesTimeout)
	defer cancel()
	for i, s := range w.sets {
		if i >= maxDated || w.stale(s) {
			break
		}
		w.Told(s.Head)
		s.date(dated, w.fsys, w.walk.files, stamp.Facts{Zone: w.Zone, ZoneFrom: w.ZoneFrom})
	}
	if w.walk.full {
		w.out.Remarks = append(w.out.Remarks, fmt.Sprintf("more than %d files in folders of logs: not all were looked at", maxFiles))
	}
	for _, dir := range w.walk.denied {
		w.out.Remarks = append(w.out.Remarks, dir+" cannot be listed by the account; with elevate: in the systems file it could")
	}
}

// worth says how much a set of logs is worth: what is written now by somebody is worth most.
func (w *looking) worth(s *Set) int {
	worth := 0
	switch age := w.now().Sub(s.Written); {
	case age < time.Hour:
		worth = 3
	case age < 24*time.Hour:
		worth = 2
	case age < 7*24*time.Hour:
		worth = 1
	}
	if len(s.By) > 0 {
		worth += 2
	}
	if !s.First.IsZero() {
		worth++
	}
	return worth
}

// stale reports whether a set is too old to be proposed: held against the newest one, since a system may have been off for months.
func (w *looking) stale(s *Set) bool {
	return w.sets[0].Written.Sub(s.Written) > staleAfter && len(s.By) == 0
}

// freshFor is how old a log may be that a program which does not run wrote of late.
const freshFor = 7 * 24 * time.Hour

// proposeParts proposes the shipped parts that fit.
func (w *looking) proposeParts() {
	for _, p := range parts.All() {
		why, running := w.fits(p)
		if why == "" {
			continue
		}
		worth := 1
		if running {
			worth = 3
		}
		var reasons []string
		fresh := false
		for _, s := range w.sets {
			if w.took[s] || !slices.ContainsFunc(p.Patterns(), func(pattern string) bool { return matches(pattern, s.Head) }) {
				continue
			}
			w.took[s] = true
			if w.stale(s) {
				continue
			}
			reasons = append(reasons, w.about(s))
			worth = max(worth, w.worth(s)+1)
			fresh = fresh || w.now().Sub(s.Written) < freshFor
		}
		w.fit = append(w.fit, p)
		if !running && !fresh && w.seesAll() {
			w.out.LeftOut = append(w.out.LeftOut, fmt.Sprintf("%s: installed, it does not run, and no log of it is fresh; envask ask new "+
				"--for %s takes it", p.Title, p.Name))
			continue
		}
		block := parts.Choice{Part: p}.Block()
		w.add(Proposal{Title: "part " + p.Name, Reasons: append([]string{why}, atMost(reasons, 6, "logs")...), Worth: worth, Block: block})
	}
}

// matches reports whether a pattern of an ask matches a path.
func matches(pattern, file string) bool {
	if len(pattern) > 2 && pattern[1] == ':' {
		pattern = "/" + pattern[:1] + strings.ReplaceAll(pattern[2:], `\`, "/")
	}
	ok, err := doublestar.Match(pattern, file)
	return ok && err == nil
}

// fits says why a part fits; "" where it does not. running: one of its programs runs.
func (w *looking) fits(p *parts.Part) (why string, running bool) {
	if p.Fits.Windows || reach.OnWindows(w.System) {
		if p.Fits.Windows && reach.OnWindows(w.System) {
			return "it is a system with Windows", true
		}
		return "", false
	}
	inside := ""
	for _, x := range w.sorted() {
		if !slices.Contains(p.Fits.Programs, x.Name) {
			continue
		}
		if x.Container != "" {
			inside = x.Container
			continue
		}
		return strings.TrimSpace(x.Name + " " + x.since(w.now(), w.Zone)), true
	}
	for _, file := range p.Fits.Paths {
		info, err := w.fsys.Lstat(reach.Name(file))
		if err != nil {
			continue
		}
		if info.IsDir() {
			if entries, err := w.fsys.ReadDir(reach.Name(file)); err == nil && len(entries) == 0 {
				continue
			}
		}
		why = file + " is there"
		if len(p.Fits.Programs) > 0 && w.seesAll() {
			why += "; it does not run now"
		}
		return why, len(p.Fits.Programs) == 0
	}
	if inside != "" {
		w.out.LeftOut = append(w.out.LeftOut, fmt.Sprintf("%s runs within the container %s: list it as a system of its own, with "+
			"shell: [docker, exec, -i, %s, sh] or its like", p.Title, inside, inside))
	}
	return "", false
}

// seesAll reports whether the account sees the processes of all others (proc(5), hidepid): the first of all is root's.
func (w *looking) seesAll() bool { return w.run.processes["1"] != nil }

// sorted gives the processes by name, so that two looks say the same.
func (w *looking) sorted() []*Process {
	out := make([]*Process, 0, len(w.run.processes))
	for _, p := range w.run.processes {
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b *Process) int {
		if n := strings.Compare(a.Name, b.Name); n != 0 {
			return n
		}
		return a.Since.Compare(b.Since)
	})
	return out
}

func (w *looking) add(p Proposal) {
	if len(p.Reasons) > 0 {
		p.Block.Comment = append(p.Block.Comment, p.Reasons...)
	}
	w.out.Proposals = append(w.out.Proposals, p)
}

// atMost bounds a list of reasons.
func atMost(list []string, n int, what string) []string {
	if len(list) <= n {
		return list
	}
	return append(slices.Clone(list[:n-1]), fmt.Sprintf("and %d more %s", len(list)-n+1, what))
}

var errNothing = errors.New("nothing on it can be read that an ask could want")

// Err says why nothing can be proposed.
func (f *Found) Err() error {
	if len(f.Proposals) == 0 {
		return errNothing
	}
	return nil
}
