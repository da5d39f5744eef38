package redact

import (
	"io"
)

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
