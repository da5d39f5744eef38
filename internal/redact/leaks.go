package redact

import (
	"io"
	"strings"
	"sync"

	"envask/internal/redact/alias"
)

// Leak is a learned original that stands where it must not.
type Leak struct {
	Rule   string
	Class  alias.Class
	Member string // of a container; "" is the file itself
	Offset int64  // in the (opened) file or member, in bytes; -1 for a name or an address of a packet
	Unread bool   // it stands in what could not be read, and went along on the engineer's word
	Text   string // the original; never to be written anywhere
}

// maxLeaks bounds how many hits of one file are listed.
const maxLeaks = 20

// leakScan searches what an engine would redact, instead of redacting it.
type leakScan struct {
	m      *Matcher
	leaks  []Leak // those in what was read, maxLeaks at most
	hits   map[Hits]int
	member string
	unread bool
}

// Hits are places of learned originals in one file, or in one member of a container, that one rule taught.
type Hits struct {
	Rule   string
	Member string
	Unread bool
}

func (s *leakScan) begin() { s.leaks, s.hits, s.member, s.unread = nil, map[Hits]int{}, "", false }

// LeakFinder searches files for learned originals: everything that redaction opens is opened. It is for one goroutine.
type LeakFinder struct{ e *Engine }

// NewLeakFinder makes one. What is disclosed on purpose is no leak.
func NewLeakFinder(m *Matcher, o Options) *LeakFinder {
	e := NewEngine(Options{TempDir: o.TempDir, Keep: o.Keep})
	e.scan = &leakScan{m: m}
	return &LeakFinder{e}
}

// Find gives the learned originals in a file. What it cannot read it searches as it is.
func (f *LeakFinder) Find(r io.Reader, name string) ([]Leak, error) {
	s := f.e.scan
	s.begin()
	_, err := f.e.File(nil, r, Source{Name: name, Unread: true})
	return s.leaks, err
}

// Hits counts what the last Find met, also in what it could not read.
func (f *LeakFinder) Hits() map[Hits]int { return f.e.scan.hits }

// InText gives the learned originals in a short text, such as a name.
func (f *LeakFinder) InText(text string) []Leak {
	s := f.e.scan
	s.begin()
	s.text(f.e, text)
	return s.leaks
}

// FindLeaks searches one stream.
func FindLeaks(m *Matcher, r io.Reader) ([]Leak, error) {
	return NewLeakFinder(m, Options{}).Find(r, "")
}

// add takes down a hit.
func (s *leakScan) add(e *Engine, m match, offset int64) {
	if e.ignore[m.Text] {
		return
	}
	s.hits[Hits{m.Rule, s.member, s.unread}]++
	if len(s.leaks) < maxLeaks && !s.unread { // what nobody could read must not hide what was read
		s.leaks = append(s.leaks, Leak{m.Rule, m.Class, s.member, offset, s.unread, m.Text})
	}
}

// text searches a short text, such as a name.
func (s *leakScan) text(e *Engine, text string) {
	s.m.each([]byte(text), 0, nil, func(m match) { s.add(e, m, -1) })
}

// scanBuffers save the making of large buffers for each of many small files.
var scanBuffers = sync.Pool{New: func() any { b := make([]byte, 0, blockSize+4*MaxLearned); return &b }}

// stream searches a stream.
func (s *leakScan) stream(e *Engine, r io.Reader) error {
	pooled := scanBuffers.Get().(*[]byte)
	defer scanBuffers.Put(pooled)
	buf := (*pooled)[:0]
	var base int64 // offset of buf[0]
	for {
		n, err := io.ReadFull(r, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		atEnd := err == io.EOF || err == io.ErrUnexpectedEOF
		if err != nil && !atEnd {
			return err
		}
		limit := len(buf) // a value that begins behind the limit waits for the rest of it
		if !atEnd {
			limit -= 2 * MaxLearned
		}
		next := 0
		s.m.each(buf, 0, nil, func(m match) {
			if m.start < limit {
				s.add(e, m, base+int64(m.start))
				next = m.end
			}
		})
		if atEnd {
			return nil
		}
		keep := max(0, max(limit, next)-1) // one byte more, to see what stands before a value
		base += int64(keep)
		buf = append(buf[:0], buf[keep:]...)
	}
}

// leaked says whether an identity that was found other than in text is a learned one.
func (s *leakScan) leaked(e *Engine, text string) {
	var found match
	s.m.each([]byte(text), 0, nil, func(m match) { found = m })
	if found.end == len(text) && strings.EqualFold(found.Text, text) {
		s.add(e, found, -1)
	}
}

// opaque searches what cannot be read as it is.
func (s *leakScan) opaque(e *Engine, r io.Reader) error {
	s.unread = true
	defer func() { s.unread = false }()
	return s.stream(e, r)
}
