package logset

import (
	"crypto/sha256"
	"errors"
	"io"
	"sort"
	"time"

	"envask/internal/stamp"
)

// sampleEnd is how much of the beginning and of the end of a file is looked at, in bytes.
const sampleEnd = 32 << 10

// Look is what the two ends of a file tell of it.
type Look struct {
	Size     int64
	Packing  string // "" when it is not compressed
	Profile  *stamp.Profile
	First    time.Time // the first dated line; zero when none was found
	Last     time.Time // the last; zero also where it cannot be known without reading all
	Whole    bool      // the sample is the whole file
	Binary   bool      // it is no text
	Lineless bool      // its beginning is one line without end: what it holds cannot be told apart by line
	Err      error     // why an end could not be read
	Broken   error     // why what is compressed could not be opened
	enc      encoding
	head     []byte // the sample of the beginning, as it is
	start    int64  // where the first dated line begins, in bytes
	mark     [32]byte
	marked   bool
	Released bool // Profile and samples were given up
	lo, hi   time.Time
}

// Dated says whether any line of the sample has a time.
func (l *Look) Dated() bool { return !l.First.IsZero() }

// fewDates is how many dated lines make a log of a file in which most lines have none.
const fewDates = 3

// Inspect looks at both ends of a file, of what is in it when it is compressed.
func Inspect(c Content, f stamp.Facts) *Look {
	l := &Look{Size: c.Size}
	u, err := c.unpack()
	if err != nil {
		l.Err = err
		if !errors.Is(err, ErrSeveral) && c.openable() {
			l.Err, l.Broken = nil, err
		}
		l.Binary = true
		return l
	}
	defer u.Close()
	l.Packing = u.packing
	l.head = make([]byte, sampleEnd)
	if l.Packing == "" {
		l.head = l.head[:min(sampleEnd, c.Size+1)]
	}
	n, err := readUpTo(u, l.head)
	l.head = l.head[:n]
	if err != nil && len(l.head) == 0 {
		if l.Packing != "" {
			l.Broken = err
		} else {
			l.Err = err
		}
		return l
	}
	l.enc = encodingOf(l.head)
	if l.marked = len(l.head) >= markSize; l.marked {
		l.mark = sha256.Sum256(l.head[:markSize])
	}
	l.Whole = err == nil && len(l.head) < sampleEnd || l.Packing == "" && c.Size == sampleEnd
	l.Binary = l.enc == bytewise && binary(l.head)
	var tail []byte
	if !l.Whole && l.Packing == "" && c.ReadAt != nil && l.enc == bytewise {
		tail = make([]byte, min(sampleEnd, c.Size-int64(len(l.head))))
		n, err := c.ReadAt(tail, c.Size-int64(len(tail)))
		if err != nil && err != io.EOF {
			l.Err = err
			return l
		}
		tail = tail[:n]
	}
	l.learn(f, tail)
	return l
}

// readUpTo fills buf as far as there is something. The end of the stream is no error, one that comes too early is.
func readUpTo(r io.Reader, buf []byte) (n int, err error) {
	for n < len(buf) && err == nil {
		var k int
		k, err = r.Read(buf[n:])
		n += k
	}
	if err == io.EOF {
		err = nil
	}
	return n, err
}

// openable says whether the file itself can be read, so that what is wrong is its content.
func (c Content) openable() bool {
	f, err := c.Open()
	if err != nil {
		return false
	}
	defer f.Close()
	_, err = f.Read(make([]byte, 1))
	return err == nil || err == io.EOF
}

func (l *Look) learn(f stamp.Facts, tail []byte) {
	if len(l.head) == sampleEnd && (&lineReader{enc: l.enc}).newline(l.head) < 0 {
		l.Lineless = true
		return
	}
	head := wholeLines(l.head, l.enc, true, l.Whole)
	end := wholeLines(tail, bytewise, false, true)
	l.Profile = stamp.Learn(f, l.Whole, head, end)
	r := l.Profile.Reader()
	if !l.Whole && l.Profile.Anywhere() {
		r = l.Profile.At()
	}
	var all []time.Time
	at := int64(0)
	eachPiece(head, func(line []byte) {
		if t, ok := r.Time(line); ok {
			if len(all) == 0 {
				l.start = at
			}
			all = append(all, t)
		}
		at += int64(len(line))
	})
	n := len(all)
	if l.Whole || l.Profile.Anywhere() {
		eachPiece(end, func(line []byte) {
			if t, ok := r.Time(line); ok {
				all = append(all, t)
			}
		})
	}
	if p := l.Profile; p.Dated < fewDates && p.Dated*5 < p.Lines && !p.Blocks() {
		return // a date in a comment makes no log of a file
	}
	l.plausible(all)
	for _, t := range all[:n] {
		if l.sane(t) {
			l.First = t
			break
		}
	}
	if l.Whole || len(all) > n {
		for i := len(all) - 1; i >= 0; i-- {
			if l.sane(all[i]) {
				l.Last = all[i]
				break
			}
		}
	}
	if l.Whole { // the order is known, and with it the earliest and the latest
		for _, t := range all {
			if l.sane(t) && t.Before(l.First) {
				l.First = t
			}
			if l.sane(t) && t.After(l.Last) {
				l.Last = t
			}
		}
	}
}

// oddSpan is how far from the middle of a file's times a line's time may be before it counts as nonsense, such as 1970 or
// 2099 from a clock that was not set.
const oddSpan = 10 * 365 * 24 * time.Hour

func (l *Look) plausible(all []time.Time) {
	if len(all) == 0 {
		return
	}
	s := append([]time.Time(nil), all...)
	sort.Slice(s, func(i, j int) bool { return s[i].Before(s[j]) })
	middle := s[len(s)/2]
	l.lo, l.hi = middle.Add(-oddSpan), middle.Add(oddSpan)
}

// sane says whether a time is near enough to the others of the file.
func (l *Look) sane(t time.Time) bool { return t.After(l.lo) && t.Before(l.hi) }

// eachPiece gives the lines of a text with their ends.
func eachPiece(text []byte, each func(line []byte)) {
	for len(text) > 0 {
		n := len(text)
		for i, b := range text {
			if b == '\n' {
				n = i + 1
				break
			}
		}
		each(text[:n])
		text = text[n:]
	}
}

// binary says whether a beginning is that of no text: it holds NUL bytes that do not come in long runs, as a power cut
// leaves them.
func binary(head []byte) bool {
	lone := 0
	for i := 0; i < len(head); {
		if head[i] != 0 {
			i++
			continue
		}
		j := i
		for j < len(head) && head[j] == 0 {
			j++
		}
		if j-i < 16 && j < len(head) {
			lone++
		}
		i = j
	}
	return lone > 2
}

// Span tells the two ends in words.
func (l *Look) Span(zone *time.Location) string {
	switch {
	case l.First.IsZero():
		return "no dated line"
	case l.Last.IsZero():
		return "begins " + l.First.In(zone).Format(time.DateTime)
	}
	return SpanText(l.First, l.Last, zone)
}

// SpanText tells a stretch of time; the day is not said twice.
func SpanText(from, to time.Time, zone *time.Location) string {
	from, to = from.In(zone), to.In(zone)
	end := to.Format(time.DateTime)
	if from.Format(time.DateOnly) == to.Format(time.DateOnly) {
		end = to.Format(time.TimeOnly)
	}
	return from.Format(time.DateTime) + " to " + end
}

// markSize is how much of a file's beginning tells it from others, in bytes.
const markSize = 128

// Mark tells files with different beginnings apart, whatever their names; ok is false for a file that is too short.
func (l *Look) Mark() (mark [32]byte, ok bool) { return l.mark, l.marked }

// Content gives a small plain file's bytes, which looking at it has read already; ok is false where it is not all of them.
func (l *Look) Content() (data []byte, ok bool) {
	return l.head, l.Whole && l.Packing == "" && l.Err == nil && l.Size > 0 && int64(len(l.head)) == l.Size
}

// Release forgets all but the two ends in time, so that many files can be looked at before any is taken.
func (l *Look) Release() { l.head, l.Profile, l.Released = nil, nil, true }

// Cuttable says whether a file can be cut by line: it is text and has dated lines.
func (l *Look) Cuttable() bool { return l != nil && l.Dated() && !l.Binary }

// Depends says whether other facts would change what a file's times mean.
func (l *Look) Depends(f stamp.Facts, newer time.Time) bool {
	if l == nil || l.Profile == nil {
		return false
	}
	return f.Order != stamp.AnyOrder && l.Profile.Order() == stamp.AnyOrder && l.Profile.Orders != "" ||
		!newer.IsZero() && f.AsOf.Before(l.Profile.Facts.AsOf) && l.First.After(newer)
}

// OrderOf gives the order of numeric dates that one of a set's members has settled.
func OrderOf(set []*Look) stamp.Order {
	for _, l := range set {
		if l != nil && l.Profile != nil && l.Profile.Order() != stamp.AnyOrder {
			return l.Profile.Order()
		}
	}
	return stamp.AnyOrder
}
