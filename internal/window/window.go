package window

import (
	"fmt"
	"sort"
	"strings"
	"time"
)

// Span is one stretch of time; both ends belong to it.
type Span struct {
	From time.Time `json:"from" yaml:"from"`
	To   time.Time `json:"to" yaml:"to"`
}

// Window is the time that matters. Without spans there is no limit.
type Window struct {
	Spans []Span
	Zone  *time.Location // in which it is printed; nil means UTC
}

// New sorts the spans and joins those that touch. A span that ends before it begins is an error.
func New(spans []Span, zone *time.Location) (Window, error) {
	sorted := append([]Span(nil), spans...)
	sort.Slice(sorted, func(i, j int) bool { return sorted[i].From.Before(sorted[j].From) })
	w := Window{Zone: zone}
	for _, s := range sorted {
		if s.To.Before(s.From) {
			return Window{}, fmt.Errorf("the span ends (%s) before it begins (%s)", show(s.To, zone), show(s.From, zone))
		}
		if n := len(w.Spans); n > 0 && !s.From.After(w.Spans[n-1].To) {
			if s.To.After(w.Spans[n-1].To) {
				w.Spans[n-1].To = s.To
			}
			continue
		}
		w.Spans = append(w.Spans, s)
	}
	return w, nil
}

// Limited says whether there is any span at all.
func (w Window) Limited() bool { return len(w.Spans) > 0 }

// First gives the earliest moment of the window; ok is false when there is no limit.
func (w Window) First() (t time.Time, ok bool) {
	if !w.Limited() {
		return time.Time{}, false
	}
	return w.Spans[0].From, true
}

// Last gives the latest moment of the window; ok is false when there is no limit.
func (w Window) Last() (t time.Time, ok bool) {
	if !w.Limited() {
		return time.Time{}, false
	}
	return w.Spans[len(w.Spans)-1].To, true
}

// Overlaps says whether the stretch from..to has a moment in common with the window. A zero from or to means
// "unknown", which is taken as far as it can reach: what is unknown never excludes.
func (w Window) Overlaps(from, to time.Time) bool {
	if !w.Limited() {
		return true
	}
	for _, s := range w.Spans {
		if (to.IsZero() || !to.Before(s.From)) && (from.IsZero() || !from.After(s.To)) {
			return true
		}
	}
	return false
}

// Grow gives the window with extra time on both sides of every span.
func (w Window) Grow(by time.Duration) Window {
	var spans []Span
	for _, s := range w.Spans {
		spans = append(spans, Span{From: s.From.Add(-by), To: s.To.Add(by)})
	}
	g, err := New(spans, w.Zone)
	if err != nil { // only a negative by can turn a span round; then nothing of it is left
		return Window{Zone: w.Zone}
	}
	return g
}

// ZoneName gives the name of the window's zone.
func (w Window) ZoneName() string {
	if w.Zone == nil {
		return "UTC"
	}
	return w.Zone.String()
}

// String gives all spans with the zone, e.g. "2026-03-14 05:30 to 06:45 (Europe/Lisbon, +00:00)".
func (w Window) String() string {
	if !w.Limited() {
		return "no limit"
	}
	var parts []string
	for _, s := range w.Spans {
		from, to := show(s.From, w.Zone), show(s.To, w.Zone)
		if from[:10] == to[:10] {
			to = to[11:]
		}
		parts = append(parts, from+" to "+to)
	}
	zone := w.Zone
	if zone == nil {
		zone = time.UTC
	}
	offset := w.Spans[0].From.In(zone).Format("-07:00")
	return strings.Join(parts, ", ") + " (" + zone.String() + ", " + offset + ")"
}

func show(t time.Time, zone *time.Location) string {
	if zone == nil {
		zone = time.UTC
	}
	t = t.In(zone)
	switch {
	case t.Nanosecond() != 0:
		return t.Format("2006-01-02 15:04:05.999")
	case t.Second() != 0:
		return t.Format("2006-01-02 15:04:05")
	}
	return t.Format("2006-01-02 15:04")
}
