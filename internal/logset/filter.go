package logset

import (
	"bytes"
	"context"
	"errors"
	"io"
	"time"

	"envask/internal/stamp"
	"envask/internal/window"
)

// headLimit bounds how much of what stands before the first dated line is held back until that line decides, in bytes.
const headLimit = 64 << 10

// filter decides line by line what belongs to the window. A line without a time of its own goes with the dated one before
// it; so does one whose time is nonsense.
type filter struct {
	r     *stamp.Reader
	look  *Look
	spans []window.Span
	keep  bool
	dated bool  // a dated line was met
	lines int64 // all
	kept  int64 // of them
	odd   int64 // dated far from all others
	first time.Time
	last  time.Time
	at    time.Time // of the last line, where it has a time
	timed bool
}

// line says whether a line is kept.
func (f *filter) line(text []byte) bool {
	f.lines++
	t, ok := f.r.Time(text)
	if ok && !f.look.sane(t) {
		f.odd++
		ok = false
	}
	if f.at, f.timed = t, ok; ok {
		f.dated = true
		f.keep = inside(f.spans, t)
		if f.keep {
			if f.first.IsZero() || t.Before(f.first) {
				f.first = t
			}
			if t.After(f.last) {
				f.last = t
			}
		}
	}
	if f.keep {
		f.kept++
	}
	return f.keep
}

func inside(spans []window.Span, t time.Time) bool {
	for _, s := range spans {
		if !t.Before(s.From) && !t.After(s.To) {
			return true
		}
	}
	return false
}

// isHeader says whether what stands before the first dated line are the heads of columns or comments, which later lines
// cannot be read without.
func isHeader(l *Look, head []byte) bool {
	if len(head) == 0 {
		return false
	}
	if l.Profile.Table() {
		return true
	}
	for _, line := range bytes.Split(bytes.TrimRight(head, "\r\n"), []byte("\n")) {
		if len(line) > 0 && line[0] != '#' {
			return false
		}
	}
	return true
}

// passed is what came of filtering a stream.
type passed struct {
	filter
	bytes    int64 // written
	all      bool  // every byte was written
	header   int64 // bytes kept because they are heads of columns
	out      *collector
	held     []byte // lines that wait for a later one to decide
	released bool   // what stood before the first dated line was decided
	blocks   bool   // records span several lines, see stamp.Profile.Blocks
	pending  bool   // a record has begun whose time has not come yet
	blank    bool   // the last line was blank
	ended    error  // why the stream could not be read to its end
}

// pass writes what belongs to the window from a stream of lines.
func pass(ctx context.Context, r io.Reader, w io.Writer, l *Look, reader *stamp.Reader, spans []window.Span) (*passed, error) {
	p := &passed{filter: filter{r: reader, look: l, spans: spans}, all: true, blocks: l.Profile.Blocks(), out: &collector{w: w}}
	in := newLineReader(r, nil)
	var narrow []byte
	for n := 0; p.ended == nil; n++ {
		if n%1024 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		line, whole, err := in.next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			p.ended = err
			break
		}
		if n == 0 && in.enc != bytewise { // its byte order mark belongs to any part of the file
			if err := p.out.write(line[:2]); err != nil {
				return nil, err
			}
			p.header += 2
			line = line[2:]
		}
		text := in.enc.text(&narrow, line)
		if waits, err := p.decide(line, text, whole); waits || err != nil {
			if err != nil {
				return nil, err
			}
			continue
		}
		if err := p.copy(in, line, whole); err != nil {
			return nil, err
		}
	}
	if err := p.release(p.keep || !p.dated); err != nil {
		return nil, err
	}
	err := p.out.flush()
	p.bytes = p.out.n
	return p, err
}

// decide decides about a line and what waited for it. waits says that the line itself waits for another to decide.
func (p *passed) decide(line, text []byte, whole bool) (waits bool, err error) {
	if p.blocks {
		p.block(text)
	}
	keep := p.line(text)
	if (p.blocks && p.pending || !p.dated) && whole && len(p.held)+len(line) <= headLimit {
		if keep { // by what came before; it is counted when it is released
			p.kept--
		}
		p.held = append(p.held, line...)
		return true, nil
	}
	return false, p.release(keep)
}

// copy passes a line on, or over it.
func (p *passed) copy(in *lineReader, line []byte, whole bool) error {
	each := func([]byte) error { return nil }
	if p.keep {
		each = p.out.write
	} else {
		p.all = false
	}
	if err := each(line); err != nil || whole {
		return err
	}
	err := in.rest(each)
	var bad *writeError
	if errors.As(err, &bad) {
		return err
	}
	p.ended = err
	return nil
}

// block notices where a record of several lines begins: its lines wait for the one with the time.
func (p *passed) block(text []byte) {
	starts, blank := stamp.RecordStart(text)
	switch {
	case starts || p.blank && !blank:
		p.pending = true
	case blank:
		p.pending = false
	}
	p.blank = blank
	if p.pending {
		if _, ok := p.r.Stamp(text); ok {
			p.pending = false
		}
	}
}

// release writes what waited, if it is kept: lines of a record before the one with its time, or what stands before the
// first dated line. Of that, heads of columns are kept in any case.
func (p *passed) release(keep bool) error {
	held := p.held
	p.held = nil
	if len(held) == 0 {
		return nil
	}
	header := !p.released && !p.blocks && isHeader(p.look, held)
	p.released = true
	if !keep && !header {
		p.all = false
		return nil
	}
	p.kept += int64(bytes.Count(held, []byte("\n")))
	if header {
		p.header += int64(len(held))
	}
	return p.out.write(held)
}

type writeError struct{ err error }

func (e *writeError) Error() string { return e.err.Error() }

// collector gathers small writes.
type collector struct {
	w   io.Writer
	buf []byte
	n   int64
}

func (c *collector) write(b []byte) error {
	c.n += int64(len(b))
	if len(c.buf)+len(b) > 64<<10 {
		if err := c.flush(); err != nil {
			return err
		}
		if len(b) > 32<<10 {
			if _, err := c.w.Write(b); err != nil {
				return &writeError{err}
			}
			return nil
		}
	}
	c.buf = append(c.buf, b...)
	return nil
}

func (c *collector) flush() error {
	if len(c.buf) == 0 {
		return nil
	}
	_, err := c.w.Write(c.buf)
	c.buf = c.buf[:0]
	if err != nil {
		return &writeError{err}
	}
	return nil
}
