package window

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"
)

// Edge says which end of a span a time is meant for. It matters only for a wall-clock time that occurs twice
// (the hour after clocks go back): the wider reading is taken, so that nothing is lost.
type Edge int

const (
	Begin Edge = iota // the earlier of two readings
	End               // the later of two readings
)

var withOffset = []string{
	"2006-01-02T15:04:05Z07:00", "2006-01-02T15:04Z07:00", "2006-01-02 15:04:05Z07:00", "2006-01-02 15:04Z07:00",
	"2006-01-02 15:04:05 Z07:00", "2006-01-02 15:04 Z07:00",
}

var wallClock = []string{
	"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05", "2006-01-02T15:04",
}

var clockOnly = []string{"15:04:05", "15:04"}

// ParseTime reads a time as a person writes it: RFC 3339, "2026-03-14 06:12", "06:12" (today), "yesterday 22:00", or
// "now". A time without offset is read in zone; now says which day is today.
func ParseTime(text string, zone *time.Location, now time.Time, edge Edge) (time.Time, error) {
	t, err := parseTime(text, zone, now, edge)
	if err == nil && (t.Year() < firstYear || t.Year() > lastYear) {
		return time.Time{}, fmt.Errorf("%q lies before %d or after %d; is the year right?", text, firstYear, lastYear)
	}
	return t, err
}

// Years outside of these are typing mistakes: there were no logs, and the offsets of zones were odd seconds.
const (
	firstYear = 1970
	lastYear  = 2200
)

func parseTime(text string, zone *time.Location, now time.Time, edge Edge) (time.Time, error) {
	s := strings.TrimSpace(text)
	if s == "now" {
		return now, nil
	}
	for _, layout := range withOffset {
		if t, err := time.Parse(layout, s); err == nil {
			return t, nil
		}
	}
	for _, layout := range wallClock {
		if t, err := time.Parse(layout, s); err == nil {
			return inZone(t, zone, edge)
		}
	}
	day := now.In(zone)
	if rest, ok := strings.CutPrefix(s, "yesterday "); ok {
		day, s = day.AddDate(0, 0, -1), rest
	} else if rest, ok := strings.CutPrefix(s, "today "); ok {
		s = rest
	}
	for _, layout := range clockOnly {
		if t, err := time.Parse(layout, s); err == nil {
			wall := time.Date(day.Year(), day.Month(), day.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
			return inZone(wall, zone, edge)
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time; write 2026-03-14T06:12:00Z, \"2026-03-14 06:12\", "+
		"06:12 (today) or \"yesterday 22:00\"", text)
}

// inZone reads the wall clock of t in zone. A wall-clock time that never occurs there is an error.
func inZone(wall time.Time, zone *time.Location, edge Edge) (time.Time, error) {
	t := time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(), wall.Nanosecond(), zone)
	if t.Hour() != wall.Hour() || t.Minute() != wall.Minute() {
		return time.Time{}, fmt.Errorf("%s does not exist in %s: clocks went forward; give the time with an offset",
			wall.Format("2006-01-02 15:04"), zone)
	}
	// The same wall clock may be shown a second time. Zones shift by 30, 60 or 120 minutes.
	for _, shift := range []time.Duration{30 * time.Minute, time.Hour, 2 * time.Hour} {
		for _, other := range []time.Time{t.Add(-shift), t.Add(shift)} {
			if other.Format("2006-01-02 15:04:05") != t.Format("2006-01-02 15:04:05") {
				continue
			}
			if (edge == Begin && other.Before(t)) || (edge == End && other.After(t)) {
				return other, nil
			}
		}
	}
	return t, nil
}

// Given is what a person wrote to choose a window.
type Given struct {
	From, To []string // pairs
	Last     string   // a duration back from now
	Around   []string // moments
	Margin   string   // half-width around each moment; "" means DefaultMargin
}

// DefaultMargin is the half-width around a moment when none is given.
const DefaultMargin = 30 * time.Minute

// Any says whether anything was given at all.
func (g Given) Any() bool {
	return len(g.From)+len(g.To)+len(g.Around) > 0 || g.Last != "" || g.Margin != ""
}

// Parse makes a window of what a person wrote.
func Parse(g Given, zone *time.Location, now time.Time) (Window, error) {
	if err := g.check(); err != nil {
		return Window{}, err
	}
	var spans []Span
	for i := range g.From {
		from, err := ParseTime(g.From[i], zone, now, Begin)
		if err != nil {
			return Window{}, err
		}
		to := now
		if i < len(g.To) {
			if to, err = ParseTime(g.To[i], zone, now, End); err != nil {
				return Window{}, err
			}
		}
		spans = append(spans, Span{From: from, To: to})
	}
	if g.Last != "" {
		d, err := ParseDuration(g.Last)
		if err != nil {
			return Window{}, err
		}
		spans = append(spans, Span{From: now.Add(-d), To: now})
	}
	margin := DefaultMargin
	if g.Margin != "" {
		d, err := ParseDuration(g.Margin)
		if err != nil {
			return Window{}, err
		}
		margin = d
	}
	for _, a := range g.Around {
		first, err := ParseTime(a, zone, now, Begin)
		if err != nil {
			return Window{}, err
		}
		last, err := ParseTime(a, zone, now, End)
		if err != nil {
			return Window{}, err
		}
		spans = append(spans, Span{From: first.Add(-margin), To: last.Add(margin)})
	}
	return New(spans, zone)
}

func (g Given) check() error {
	switch {
	case len(g.To) > len(g.From):
		return errors.New("--to without --from: give each span both ends, or only --from for a span that lasts until now")
	case len(g.From) > len(g.To)+1:
		return errors.New("several --from need a --to each; only one span may last until now")
	case g.Last != "" && len(g.Around) > 0:
		return errors.New("--last and --around do not go together: --last DURATION ends now, --around TIME --margin DURATION lies " +
			"around a moment")
	case g.Margin != "" && len(g.Around) == 0:
		return errors.New("--margin goes with --around")
	}
	return nil
}

// ParseDuration reads a positive duration such as 90s, 30m, 2h or 1d (a day counts 24 hours).
func ParseDuration(text string) (time.Duration, error) {
	s := strings.TrimSpace(text)
	var days time.Duration
	if head, rest, ok := strings.Cut(s, "d"); ok {
		n := 0
		if _, err := fmt.Sscanf(head+"\n", "%d\n", &n); err != nil || n < 0 || n > 36500 {
			return 0, badDuration(text)
		}
		days, s = time.Duration(n)*24*time.Hour, rest
		if s == "" {
			s = "0s"
		}
	}
	d, err := time.ParseDuration(s)
	if err != nil || d < 0 || d+days <= 0 {
		return 0, badDuration(text)
	}
	return d + days, nil
}

func badDuration(text string) error {
	return fmt.Errorf("%q is not a length of time; write 90s, 30m, 2h or 1d", text)
}

// LocalZone gives this machine's zone with its name where that can be found: what is written down as "Local" means
// something else on the next machine.
var LocalZone = sync.OnceValue(func() *time.Location {
	if time.Local.String() != "Local" {
		return time.Local
	}
	link, err := os.Readlink("/etc/localtime")
	if _, name, ok := strings.Cut(link, "zoneinfo/"); err == nil && ok {
		if z, err := time.LoadLocation(name); err == nil {
			return z
		}
	}
	return time.Local
})

// ParseZone reads a zone: an IANA name, UTC, or "local".
func ParseZone(name string) (*time.Location, error) {
	switch name {
	case "local", "Local":
		return LocalZone(), nil
	case "":
		return nil, errors.New("the zone is empty; write a name such as Europe/Lisbon or UTC")
	}
	loc, err := time.LoadLocation(name)
	if err != nil {
		return nil, fmt.Errorf("%q is not a known time zone; write an IANA name such as Europe/Lisbon, or UTC", name)
	}
	return loc, nil
}
