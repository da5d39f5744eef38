package report

import (
	"cmp"
	"fmt"
	"sort"
	"time"

	"github.com/dustin/go-humanize"

	"envask/internal/archive"
	"envask/internal/collect"
	"envask/internal/window"
)

// maxLinks bounds how many files of one system are listed, and how many that were cut; the manifest lists them all.
const maxLinks = 300

// view is the content in the order in which the page needs it.
type view struct {
	*Content
	zone     *time.Location // of all times on the page: that of the window
	items    []string
	shown    []systemView
	findings []count
	problems []collect.Cell
	left     []leftView
	wasCut   []archive.File
	moreCut  int
	most     int // files of a table
}

type systemView struct {
	name  string
	cells []*collect.Cell // in the order of items; nil where the item is not wanted from the system
	files []archive.File
	more  int
	bytes int64
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

func newView(c *Content) *view {
	v := &view{Content: c, zone: time.UTC, most: cmp.Or(c.links, maxLinks)}
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
			v.shown = append(v.shown, systemView{name: cell.System})
		}
	}
	for i := range v.shown {
		v.shown[i].cells = make([]*collect.Cell, len(v.items))
	}
	for i := range c.Coverage {
		cell := &c.Coverage[i]
		if cell.System != "" {
			v.shown[rows[cell.System]].cells[columns[cell.Item]] = cell
		}
		if cell.State != collect.Taken && cell.State != collect.Skipped || cell.Reason != "" || cell.System == "" {
			v.problems = append(v.problems, *cell)
		}
	}
	for _, f := range c.Files {
		v.addCut(f)
		row, ok := rows[f.System]
		if !ok {
			continue
		}
		s := &v.shown[row]
		s.bytes += f.Size
		if len(s.files) < v.most {
			s.files = append(s.files, f)
		} else {
			s.more++
		}
	}
	for rule, n := range c.Redaction.Findings {
		v.findings = append(v.findings, count{rule, n})
	}
	sort.Slice(v.findings, func(i, j int) bool {
		a, b := v.findings[i], v.findings[j]
		return a.n > b.n || a.n == b.n && a.rule < b.rule
	})
	v.left = groupLeft(c.LeftOut)
	return v
}

func (v *view) addCut(f archive.File) {
	if f.Cut == nil && f.State != collect.Cut {
		return
	}
	if len(v.wasCut) < v.most {
		v.wasCut = append(v.wasCut, f)
	} else {
		v.moreCut++
	}
}

// groupLeft puts what was left out for the same kind of reason into one line.
func groupLeft(left []archive.LeftOut) []leftView {
	at := map[string]int{}
	var out []leftView
	for _, l := range left {
		k := fmt.Sprintf("%s, item %s: %s", l.System, l.Item, l.State)
		i, ok := at[k]
		if !ok {
			i = len(out)
			at[k] = i
			out = append(out, leftView{what: k, sample: l.Source + ": " + l.Reason})
		}
		out[i].n++
	}
	return out
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
