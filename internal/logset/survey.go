package logset

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sort"
	"time"

	"envask/internal/stamp"
)

// Lines that are out of order by no more than this are still called nearly sorted.
const nearly = 30 * time.Second

// gapFactor says how many times the usual distance between lines a gap must be; gapLeast is its least length.
const (
	gapFactor = 20
	gapLeast  = 10 * time.Minute
)

// maxJumps bounds how many jumps and gaps of a file are kept.
const maxJumps = 8

// Jump is a place where a file's time does not just go on.
type Jump struct {
	Line  int64     `json:"line"` // counted from 1
	Kind  string    `json:"kind"` // one of the Jump kinds
	From  time.Time `json:"from"`
	To    time.Time `json:"to"`
	Times int       `json:"times,omitempty"` // how often, where several are told as one
}

// Kinds of jumps.
const (
	JumpGap     = "gap"
	JumpBack    = "clock set back"
	JumpDST     = "daylight-saving change"
	JumpRestart = "restart"
)

// Survey is what a file looks like in time.
type Survey struct {
	Profile  *stamp.Profile
	Packing  string // how it is compressed
	Lines    int64
	Dated    int64
	First    time.Time // the earliest
	Last     time.Time // the latest
	Order    string    // "sorted", "nearly sorted", "not sorted"; "" without dates
	Disorder time.Duration
	Odd      int64 // lines dated far from all others, such as 1970
	Jumps    []Jump
	Doubts   []string
	Broken   error // why the file could not be read to its end
}

// The orders of a file's lines.
const (
	Sorted       = "sorted"
	NearlySorted = "nearly sorted"
	NotSorted    = "not sorted"
)

// Examine reads a file once or twice: for what its lines leave open, and for its times. each, if not nil, gets every line's
// number, time and doubt (zero time where there is none), and the start of the line.
func Examine(ctx context.Context, c Content, f stamp.Facts, each func(n int64, t time.Time, d stamp.Doubt, line []byte) error) (*Survey,
	error) {
	p, err := learnWhole(ctx, c, f)
	if err != nil {
		return nil, err
	}
	s := &Survey{Profile: p}
	r := p.Reader()
	k := &surveyor{s: s}
	err = eachLine(ctx, c, s, func(line []byte) error {
		s.Lines++
		st, ok := r.Stamp(line)
		var t time.Time
		if ok {
			t, ok = r.Moment(&st)
		}
		d := stamp.Doubt(0)
		if ok {
			d = r.Doubt()
			k.dated(t, &st)
		}
		if each != nil {
			return each(s.Lines, t, d, line)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	k.finish()
	s.Doubts = r.Doubts().Texts()
	return s, nil
}

// learnWhole learns a file from its first part, and from all of it when that leaves something open.
func learnWhole(ctx context.Context, c Content, f stamp.Facts) (*stamp.Profile, error) {
	u, err := c.unpack()
	if err != nil {
		return nil, err
	}
	head, err := io.ReadAll(io.LimitReader(u, sampleWhole+1))
	u.Close()
	if err != nil && len(head) == 0 {
		return nil, err
	}
	whole := err == nil && len(head) <= sampleWhole
	enc := encodingOf(head)
	p := stamp.Learn(f, whole, wholeLines(head, enc, true, whole))
	if whole || !p.Unsettled() {
		return p, nil
	}
	l := stamp.NewLearner(f)
	err = eachLine(ctx, c, &Survey{}, func(line []byte) error { l.Line(line); return nil })
	return l.Profile(true), err
}

// sampleWhole is how much of a file is looked at before all of it is, in bytes.
const sampleWhole = 4 << 20

// eachLine gives the start of every line. A file that cannot be read to its end gives what is there.
func eachLine(ctx context.Context, c Content, s *Survey, each func(line []byte) error) error {
	u, err := c.unpack()
	if err != nil {
		return err
	}
	defer u.Close()
	s.Packing = u.packing
	l := newLineReader(u, nil)
	var narrow []byte
	for n := 0; ; n++ {
		if n%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		line, whole, err := l.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			s.Broken = err
			return nil
		}
		if err := each(l.enc.text(&narrow, line)); err != nil {
			return err
		}
		if !whole {
			if err := l.rest(func([]byte) error { return nil }); err != nil {
				s.Broken = err
				return nil
			}
		}
	}
}

// surveyor gathers what the times of a file tell.
type surveyor struct {
	s         *Survey
	prev      time.Time
	most      time.Time
	steps     int64 // distances between lines that follow each other in time
	sum       time.Duration
	backs     []Jump
	gaps      []Jump
	offset    int
	hasZone   bool
	changes   []Jump
	back      int
	any, last time.Time // the first and the latest line that was dated, however oddly
	restarts  []Jump
	up        time.Duration
}

func (k *surveyor) dated(t time.Time, st *stamp.Stamp) {
	s := k.s
	s.Dated++
	k.bounds(t)
	if _, off := t.In(s.Profile.Facts.Zone).Zone(); !st.Absolute() {
		if k.hasZone && off != k.offset {
			k.changes = append(k.changes, Jump{Line: s.Lines, Kind: JumpDST, From: k.prev, To: t})
		}
		k.offset, k.hasZone = off, true
	} else if off, ok := st.Offset(); ok {
		if k.hasZone && off != k.offset && abs(off-k.offset) <= 7200 && len(k.changes) < 2*maxJumps {
			k.changes = append(k.changes, Jump{Line: s.Lines, Kind: JumpDST, From: k.prev, To: t})
		}
		k.offset, k.hasZone = off, true
	}
	if up, ok := st.SinceStart(); ok {
		if up+time.Second < k.up {
			k.restarts = append(k.restarts, Jump{Line: s.Lines, Kind: JumpRestart, From: k.prev, To: t})
		}
		k.up = up
	}
	if !k.prev.IsZero() && !k.far(t) && !k.far(k.prev) {
		k.step(t)
	}
	k.prev = t
	if t.After(k.most) && !k.far(t) {
		k.most = t
	}
}

func abs(n int) int { return max(n, -n) }

// step looks at the distance to the line before.
func (k *surveyor) step(t time.Time) {
	d := t.Sub(k.prev)
	if behind := k.most.Sub(t); behind > k.s.Disorder {
		k.s.Disorder = behind
	}
	switch {
	case d < -nearly:
		k.back++
		k.backs = append(k.backs, Jump{Line: k.s.Lines, Kind: JumpBack, From: k.prev, To: t})
		if len(k.backs) > 4*maxJumps {
			k.backs = longest(k.backs, 2*maxJumps)
		}
	case d > 0:
		k.steps++
		k.sum += d
		if d >= gapLeast {
			k.gaps = append(k.gaps, Jump{Line: k.s.Lines, Kind: JumpGap, From: k.prev, To: t})
			if len(k.gaps) > 4*maxJumps {
				k.gaps = longest(k.gaps, 2*maxJumps)
			}
		}
	}
}

// bounds keeps the earliest and the latest time; those far from all others do not count.
func (k *surveyor) bounds(t time.Time) {
	if k.any.IsZero() {
		k.any = t
	}
	k.last = t
	s := k.s
	if k.far(t) {
		s.Odd++
		return
	}
	if s.First.IsZero() || t.Before(s.First) {
		s.First = t
	}
	if t.After(s.Last) {
		s.Last = t
	}
}

// Years outside of these are those of clocks that were never set, or set to nonsense.
const (
	oddBefore = 1990
	oddAfter  = 2090
)

func (k *surveyor) far(t time.Time) bool { return t.Year() < oddBefore || t.Year() > oddAfter }

func longest(jumps []Jump, n int) []Jump {
	sort.SliceStable(jumps, func(i, j int) bool {
		return jumps[i].To.Sub(jumps[i].From).Abs() > jumps[j].To.Sub(jumps[j].From).Abs()
	})
	return jumps[:min(n, len(jumps))]
}

func (k *surveyor) finish() {
	s := k.s
	if s.Dated == 0 {
		return
	}
	switch {
	case s.Disorder == 0:
		s.Order = Sorted
	case s.Disorder <= nearly:
		s.Order = NearlySorted
	default:
		s.Order = NotSorted
	}
	if s.First.IsZero() { // nothing but odd dates
		s.First, s.Last = k.any, k.last
	}
	typical := time.Duration(0)
	if k.steps > 0 {
		typical = k.sum / time.Duration(k.steps)
	}
	var jumps []Jump
	for _, g := range longest(k.gaps, maxJumps) {
		if d := g.To.Sub(g.From); d >= gapFactor*typical || k.steps < gapFactor && d >= time.Hour {
			jumps = append(jumps, g)
		}
	}
	if len(k.backs) > maxJumps { // a file that is merged from several: its steps back say nothing one by one
		worst := longest(k.backs, 1)[0]
		worst.Times = k.back
		jumps = append(jumps, worst)
	} else {
		jumps = append(jumps, k.backs...)
	}
	jumps = append(append(jumps, k.changes[:min(maxJumps, len(k.changes))]...), k.restarts[:min(maxJumps, len(k.restarts))]...)
	sort.SliceStable(jumps, func(i, j int) bool { return jumps[i].Line < jumps[j].Line })
	s.Jumps = jumps
}

// String tells a jump in words, with times in a zone.
func (j Jump) In(zone *time.Location) string {
	const form = "2006-01-02 15:04:05"
	d := j.To.Sub(j.From)
	switch j.Kind {
	case JumpGap:
		return fmt.Sprintf("line %d: nothing for %s, from %s", j.Line, plainDuration(d), j.From.In(zone).Format(form))
	case JumpBack:
		times := ""
		if j.Times > 1 {
			times = fmt.Sprintf(" (and %d times more)", j.Times-1)
		}
		return fmt.Sprintf("line %d: back by %s, from %s%s", j.Line, plainDuration(-d), j.From.In(zone).Format(form), times)
	case JumpDST:
		return fmt.Sprintf("line %d: the clocks were changed, %s", j.Line, j.To.In(zone).Format(form+" -07:00"))
	}
	return fmt.Sprintf("line %d: %s, %s", j.Line, j.Kind, j.To.In(zone).Format(form))
}

func plainDuration(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%.1f days", d.Hours()/24)
	case d >= time.Minute:
		return d.Round(time.Second).String()
	}
	return d.Round(time.Millisecond).String()
}
