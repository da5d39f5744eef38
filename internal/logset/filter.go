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
	bytes   int64 // written
	all     bool  // every byte was written
	header  int64 // bytes kept because they are heads of columns
	pending bool  // a record has begun whose time has not come yet
	blank   bool  // the last line was blank
	ended   error // why the stream could not be read to its end
}

// pass writes what belongs to the window from a stream of lines.
func pass(ctx context.Context, r io.Reader, w io.Writer, l *Look, reader *stamp.Reader, spans []window.Span) (*passed, error) {
	p := &passed{filter: filter{r: reader, look: l, spans: spans}, all: true}
	in, blocks := newLineReader(r, nil), l.Profile.Blocks()
	out := &collector{w: w}
	var narrow, held []byte
	for n := 0; ; n++ {
		if n%1024 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		line, whole, err := in.next()
		if err != nil {
			if !errors.Is(err, io.EOF) {
				p.ended = err
			}
			break
		}
		if n == 0 && in.enc != bytewise { // its byte order mark belongs to any part of the file
			if err := out.write(line[:2]); err != nil {
				return nil, err
			}
			p.header += 2
			line = line[2:]
		}
		text := in.enc.text(&narrow, line)
		if blocks {
			p.block(text)
		}
		keep := p.line(text)
		if blocks && p.pending && len(held)+len(line) <= headLimit && whole {
			p.kept -= int64(b2i(keep))
			held = append(held, line...)
			continue
		}
		switch {
		case blocks && p.dated && len(held) > 0: // the lines of the record before the one with its time
			if err := p.releaseBlock(out, held, keep); err != nil {
				return nil, err
			}
			held = nil
		case !p.dated && len(held)+len(line) <= headLimit && whole:
			held = append(held, line...)
			continue
		case len(held) > 0:
			if err := p.release(out, held, keep, l); err != nil {
				return nil, err
			}
			held = nil
		}
		each := func([]byte) error { return nil }
		if keep {
			each = out.write
		} else {
			p.all = false
		}
		if err := each(line); err != nil {
			return nil, err
		}
		if !whole {
			if err := in.rest(each); err != nil {
				var bad *writeError
				if errors.As(err, &bad) {
					return nil, bad.err
				}
				p.ended = err
				break
			}
		}
	}
	if len(held) > 0 && p.dated {
		if err := p.releaseBlock(out, held, p.keep); err != nil {
			return nil, err
		}
	} else if len(held) > 0 {
		if err := p.release(out, held, !p.dated, l); err != nil {
			return nil, err
		}
	}
	err := out.flush()
	p.bytes = out.n
	return p, err
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

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// releaseBlock decides about the lines of a record that stand before its time.
func (p *passed) releaseBlock(out *collector, held []byte, keep bool) error {
	if !keep {
		p.all = false
		return nil
	}
	p.kept += int64(bytes.Count(held, []byte("\n")))
	return out.write(held)
}

// release decides about what stood before the first dated line: heads of columns are kept, the rest goes with that line.
func (p *passed) release(out *collector, held []byte, keep bool, l *Look) error {
	header := isHeader(l, held)
	if !keep && !header {
		p.all = false
		return nil
	}
	p.kept += int64(bytes.Count(held, []byte("\n")))
	if header {
		p.header += int64(len(held))
	}
	return out.write(held)
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
