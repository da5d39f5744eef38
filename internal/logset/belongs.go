// Package logset decides which files of a log can belong to a window.
package logset

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"io/fs"
	"time"

	"envask/internal/stamp"
	"envask/internal/window"
)

// ClockSlack is how wrong a system's clock may be before a file of the window could be left out by mistake.
const ClockSlack = 5 * time.Minute

// HeadLimit is how much of a file is read, in bytes, to find its first dated line.
const HeadLimit = 64 << 10

// Verdict says whether a file is taken and why.
type Verdict struct {
	Take  bool
	Why   string
	First time.Time // the first dated line; zero when none was found
	Err   error     // why its beginning could not be read; Take is set then
}

// Judge decides whether a file can belong to the window: it was not last changed before it, and its first dated line
// does not come after it. open is called at most once, and only when the modification time does not settle it. What
// cannot be known (no dated line, a head that cannot be read) never excludes a file.
func Judge(open func() (io.ReadCloser, error), info fs.FileInfo, w window.Window, zone *time.Location) Verdict {
	if !w.Limited() {
		return Verdict{Take: true, Why: "no window"}
	}
	wide := w.Grow(ClockSlack)
	if changed := info.ModTime(); !changed.IsZero() && !wide.Overlaps(time.Time{}, changed) {
		return Verdict{Why: "last changed " + stampText(changed, w) + ", before the window"}
	}
	r, err := open()
	if err != nil {
		return Verdict{Take: true, Why: "its beginning could not be read", Err: err}
	}
	defer r.Close()
	first, ok := FirstDated(r, stamp.Context{Zone: zone, Reference: info.ModTime()})
	if !ok {
		return Verdict{Take: true, Why: "no dated line near its beginning"}
	}
	if !wide.Overlaps(first, time.Time{}) {
		return Verdict{Why: "begins " + stampText(first, w) + ", after the window", First: first}
	}
	if !wide.Overlaps(first, info.ModTime()) && !first.After(info.ModTime()) {
		return Verdict{Why: fmt.Sprintf("runs %s to %s, between the spans of the window", stampText(first, w), stampText(info.ModTime(), w)), First: first}
	}
	return Verdict{Take: true, Why: "begins " + stampText(first, w), First: first}
}

// FirstDated gives the time of the first dated line within HeadLimit; gzip is opened.
func FirstDated(r io.Reader, c stamp.Context) (time.Time, bool) {
	br := bufio.NewReaderSize(r, 4096)
	if magic, err := br.Peek(2); err == nil && bytes.Equal(magic, []byte{0x1f, 0x8b}) {
		zr, err := gzip.NewReader(br)
		if err != nil {
			return time.Time{}, false
		}
		defer zr.Close()
		r = zr
	} else {
		r = br
	}
	// A short or broken head is still worth looking at, so the error is not of interest.
	head, _ := io.ReadAll(io.LimitReader(r, HeadLimit))
	for len(head) > 0 {
		line, rest, _ := bytes.Cut(head, []byte("\n"))
		if t, ok := stamp.Find(line, c); ok {
			return t, true
		}
		head = rest
	}
	return time.Time{}, false
}

func stampText(t time.Time, w window.Window) string {
	zone := w.Zone
	if zone == nil {
		zone = time.UTC
	}
	return t.In(zone).Format("2006-01-02 15:04:05")
}
