package report

import (
	"fmt"
	"path"
	"sort"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"envask/internal/archive"
	"envask/internal/round"
	"envask/internal/window"
)

// Bounds of what is listed; the manifest lists all of it.
const (
	maxLinks   = 300  // files of one system, and files that were cut
	maxListed  = 3000 // files of all systems together, as long as each has leastLinks
	leastLinks = 20   // files of one system, however many systems there are
	maxFolders = 200  // folders of one system
	unfolded   = 40   // up to so many files of a system stand in one table
)

// bounds are how many are listed.
type bounds struct {
	cuts     int // files that were cut
	ofSystem int // files of a system
	folders  int // of a system
	unfolded int // files of a system in one table
}

// view is the content in the order in which the page needs it.
type view struct {
	*Content
	zone        *time.Location // of all times on the page: that of the window
	items       []string
	shown       []systemView
	findings    []count
	problems    []round.Cell
	left        []leftView
	wasCut      []archive.File
	moreCut     int
	persons     []archive.File // what persons brought
	morePersons int
	bounds
	total  int   // files
	bytes  int64 // of them
	behind int   // files that were collected and stayed out
}

type systemView struct {
	name    string
	cells   []*round.Cell // in the order of items; nil where the item is not wanted from the system
	folders []*folderView
	byPath  map[string]*folderView
	listed  int        // files
	more    folderView // folders that are not listed
	total   int        // files
	bytes   int64
}

// folderView is one folder of the archive.
type folderView struct {
	path  string // below that of the system
	files []archive.File
	total int
	bytes int64
}

// add takes a file into account.
func (s *systemView) add(f *archive.File, b bounds) {
	s.total++
	s.bytes += f.Size
	dir := strings.TrimPrefix(path.Dir(f.Path), "systems/"+s.name+"/")
	if dir == "systems/"+s.name {
		dir = "."
	}
	to := s.byPath[dir]
	switch {
	case to != nil:
	case len(s.folders) < b.folders:
		to = &folderView{path: dir}
		s.folders, s.byPath[dir] = append(s.folders, to), to
	default:
		to = &s.more
	}
	to.total++
	to.bytes += f.Size
	if s.listed < b.ofSystem && to != &s.more {
		to.files = append(to.files, *f)
		s.listed++
	}
}

// files gives the listed files of all folders.
func (s *systemView) files() (out []archive.File) {
	for _, d := range s.folders {
		out = append(out, d.files...)
	}
	return out
}

type count struct {
	rule string
	n    int
}

type leftView struct {
	what   string
	n      int
	sample string
}

func newView(c *Content) (*view, error) {
	v := &view{Content: c, zone: time.UTC, bounds: bounds{maxLinks, maxLinks, maxFolders, unfolded}}
	if c.bounds != nil {
		v.bounds = *c.bounds
	}
	if zone, err := window.ParseZone(c.Window.Zone); err == nil && c.Window.Zone != "" {
		v.zone = zone
	}
	columns, rows := map[string]int{}, map[string]int{}
	for _, cell := range c.Coverage {
		if _, ok := columns[cell.Item]; !ok {
			columns[cell.Item] = len(v.items)
			v.items = append(v.items, cell.Item)
		}
		if _, ok := rows[cell.System]; !ok && cell.System != "" {
			rows[cell.System] = len(v.shown)
			v.shown = append(v.shown, systemView{name: cell.System, byPath: map[string]*folderView{}})
		}
	}
	for i := range v.shown {
		v.shown[i].cells = make([]*round.Cell, len(v.items))
	}
	for i := range c.Coverage {
		cell := &c.Coverage[i]
		if cell.System != "" {
			v.shown[rows[cell.System]].cells[columns[cell.Item]] = cell
		}
		if cell.State != round.Taken && cell.State != round.Skipped || cell.Reason != "" || cell.System == "" {
			v.problems = append(v.problems, *cell)
		}
	}
	v.ofSystem = min(v.ofSystem, max(leastLinks, maxListed/max(1, len(v.shown))))
	err := c.EachFile(func(f *archive.File) error {
		v.total++
		v.bytes += f.Size
		v.addCut(f)
		v.addBrought(f)
		if row, ok := rows[f.System]; ok {
			v.shown[row].add(f, v.bounds)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for rule, n := range c.Redaction.Findings {
		v.findings = append(v.findings, count{rule, n})
	}
	sort.Slice(v.findings, func(i, j int) bool {
		a, b := v.findings[i], v.findings[j]
		return a.n > b.n || a.n == b.n && a.rule < b.rule
	})
	at := map[string]int{}
	err = c.EachLeftOut(func(l *archive.LeftOut) error {
		v.addLeft(l, at)
		return nil
	})
	return v, err
}

func (v *view) addBrought(f *archive.File) {
	switch {
	case f.Brought == nil:
	case len(v.persons) < maxBrought:
		v.persons = append(v.persons, *f)
	default:
		v.morePersons++
	}
}

func (v *view) addCut(f *archive.File) {
	if f.Cut == nil && f.State != round.Cut {
		return
	}
	if len(v.wasCut) < v.cuts {
		v.wasCut = append(v.wasCut, *f)
	} else {
		v.moreCut++
	}
}

// addLeft puts what was left out for the same kind of reason into one line.
func (v *view) addLeft(l *archive.LeftOut, at map[string]int) {
	k := fmt.Sprintf("%s, item %s: %s", l.System, l.Item, l.State)
	i, ok := at[k]
	if !ok {
		i = len(v.left)
		at[k] = i
		v.left = append(v.left, leftView{what: k, sample: l.Source + ": " + l.Reason})
	}
	v.left[i].n++
	if l.State == round.Refused && l.Size > 0 {
		v.behind++
	}
}

func size(n int64) string { return humanize.IBytes(uint64(max(0, n))) }

func files(n int) string {
	if n == 1 {
		return "1 file"
	}
	return humanize.Comma(int64(n)) + " files"
}

// clock writes a moment in the zone of the page; "" is none.
func (v *view) clock(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.In(v.zone).Format(time.DateTime)
}

// span writes the time from one moment to another.
func (v *view) span(from, to time.Time) string {
	if from.IsZero() || to.IsZero() {
		return ""
	}
	from, to = from.In(v.zone), to.In(v.zone)
	if from.Format(time.DateOnly) == to.Format(time.DateOnly) {
		return from.Format(time.DateTime) + " – " + to.Format(time.TimeOnly)
	}
	return from.Format(time.DateTime) + " – " + to.Format(time.DateTime)
}
