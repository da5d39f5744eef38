package logset

import (
	"fmt"
	"io/fs"
	"sort"
	"time"

	"envask/internal/window"
)

// ClockSlack is how wrong a system's clock may be, where it could not be measured, before a file of the window could be
// left out by mistake.
const ClockSlack = 5 * time.Minute

// Member is one file of a set.
type Member struct {
	Name string
	Info fs.FileInfo
	Look *Look // nil when it was not looked into
	// Until is the moment after which nothing can be in the member; zero when that is not known.
	Until time.Time
}

// Verdict says whether a file is taken and why.
type Verdict struct {
	Take bool
	Why  string
	Cut  bool // only some of its lines can be of the window
}

// Bound gives each member of a set the moment after which nothing can be in it: its own last line, else the first line of
// the member that is newer. Members come newest first. Where names and contents disagree, nothing is concluded.
func Bound(set []*Member) {
	dated := make([]*Member, 0, len(set))
	for _, m := range set {
		if m.Look != nil && m.Look.Dated() {
			dated = append(dated, m)
		}
	}
	sort.SliceStable(dated, func(i, j int) bool { return dated[i].Look.First.After(dated[j].Look.First) })
	for i, m := range dated {
		switch {
		case !m.Look.Last.IsZero():
			m.Until = m.Look.Last
		case i > 0:
			m.Until = dated[i-1].Look.First
		}
	}
}

// Choose decides about one member by what is in it. Only where no line is dated the time of the last change decides: copies
// and restores have a new one.
func Choose(m *Member, w window.Window) Verdict {
	switch l := m.Look; {
	case !w.Limited():
		return Verdict{Take: true, Why: "no window"}
	case l == nil || l.Err != nil:
		return Verdict{Take: true, Why: "its beginning could not be read"}
	case l.Broken != nil:
		return byChange(m, w, "damaged ("+l.Broken.Error()+")")
	case l.Lineless:
		return byChange(m, w, "no line ends")
	case !l.Dated():
		return byChange(m, w, "no dated line")
	}
	wide := w.Grow(DisorderMost)
	zone := zoneOf(w)
	first, until := m.Look.First, m.Until
	if !until.IsZero() && until.Before(first) {
		until = time.Time{}
	}
	if wide.Overlaps(first, until) {
		cut := until.IsZero() || !covers(w, first, until)
		return Verdict{Take: true, Why: m.Look.Span(zone), Cut: cut}
	}
	span := m.Look.Span(zone)
	if m.Look.Last.IsZero() && !until.IsZero() {
		span += ", and the next begins " + until.In(zone).Format(time.DateTime)
	}
	from, _ := w.First()
	to, _ := w.Last()
	switch {
	case !until.IsZero() && until.Before(from):
		return Verdict{Why: span + ": before the window"}
	case first.After(to):
		return Verdict{Why: span + ": after the window"}
	}
	return Verdict{Why: span + ": between the spans of the window"}
}

// covers says whether a stretch lies wholly within one span.
func covers(w window.Window, from, to time.Time) bool {
	for _, s := range w.Spans {
		if !from.Before(s.From) && !to.After(s.To) {
			return true
		}
	}
	return false
}

func byChange(m *Member, w window.Window, what string) Verdict {
	changed := m.Info.ModTime()
	if !changed.IsZero() && !w.Grow(ClockSlack).Overlaps(time.Time{}, changed) {
		return Verdict{Why: fmt.Sprintf("%s; last changed %s, before the window", what, changed.In(zoneOf(w)).Format(time.DateTime))}
	}
	return Verdict{Take: true, Why: what + "; taken whole"}
}

func zoneOf(w window.Window) *time.Location {
	if w.Zone == nil {
		return time.UTC
	}
	return w.Zone
}

// Newest gives the time by which files are ranked: by what is in them, else by the time of the last change.
func (m *Member) Newest() time.Time {
	switch {
	case m.Look != nil && !m.Look.Last.IsZero():
		return m.Look.Last
	case !m.Until.IsZero():
		return m.Until
	}
	return m.Info.ModTime()
}
