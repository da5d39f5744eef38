package logset

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"envask/internal/window"
)

// smallFile is what is read whole rather than probed, in bytes.
const smallFile = 512 << 10

// Wish says what of a file is wanted.
type Wish struct {
	Window    window.Window
	Unordered bool // it is known not to be in order
}

// Outcome is how a file was cut.
type Outcome struct {
	All     bool // every byte belongs: the file is best taken as it is
	Bytes   int64
	Lines   int64 // kept; -1 where lines were not counted
	Of      int64 // lines of the file; -1 where it was not read whole
	First   time.Time
	Last    time.Time     // the first and last moment of what was kept
	Probes  int           // 0 when the file was read whole
	Bound   time.Duration // the disorder that bisection covered
	Odd     int64         // lines whose time was nonsense
	Ended   error         // why the file could not be read to its end
	Notes   []string
	Ranges  []Range // of a plain file that was not read whole
	Packing string
}

// Nothing says whether no line of the window was found.
func (o *Outcome) Nothing() bool { return o.First.IsZero() && !o.All }

// Cut writes to w what of a file belongs to the window. A plain file that its probes find in order is not read: the places
// are found by bisection, and only they are copied. Where a far file must be read whole, spool gives a copy of it that is
// near.
func Cut(ctx context.Context, c Content, l *Look, wish Wish, spool func() (Content, error), w io.Writer) (*Outcome, error) {
	spans := wish.Window.Spans
	if l.Bisectable(c, wish) {
		o, err := cutFast(ctx, c, l, spans, w)
		if err == nil || !errors.Is(err, errDisorder) {
			return o, err
		}
		o, slow := cutSlow(ctx, c, l, wish, spool, w)
		if o != nil {
			o.Notes = append(o.Notes, "read whole: "+err.Error())
		}
		return o, slow
	}
	return cutSlow(ctx, c, l, wish, spool, w)
}

// Bisectable says whether a file may be cut by bisection; its probes decide then whether it is.
func (l *Look) Bisectable(c Content, wish Wish) bool {
	return l.Packing == "" && l.enc == bytewise && c.ReadAt != nil && c.Size > smallFile && l.Profile.Anywhere() && !wish.Unordered &&
		!nearChange(wish.Window.Spans, l.Profile)
}

// cutSlow reads the whole file.
func cutSlow(ctx context.Context, c Content, l *Look, wish Wish, spool func() (Content, error), w io.Writer) (*Outcome, error) {
	profile := l.Profile
	open := !l.Whole && profile.Unsettled()
	if spool != nil && (open || c.Size > smallFile) { // a copy comes faster over a network than one piece after another
		near, err := spool()
		if err != nil {
			return nil, err
		}
		c = near
	}
	if open {
		p, err := learnWhole(ctx, c, profile.Facts)
		if err != nil {
			return nil, err
		}
		profile = p
	}
	u, err := c.unpack()
	if err != nil {
		return nil, err
	}
	defer u.Close()
	look := *l
	look.Profile = profile
	reader := profile.Reader()
	p, err := pass(ctx, u, w, &look, reader, wish.Window.Spans)
	if err != nil {
		var bad *writeError
		if errors.As(err, &bad) {
			err = bad.err
		}
		return nil, err
	}
	o := &Outcome{All: p.all && p.ended == nil, Bytes: p.bytes, Lines: p.kept, Of: p.lines, First: p.first, Last: p.last, Odd: p.odd,
		Ended: p.ended, Packing: u.packing}
	if p.kept == 0 && p.header > 0 {
		o.Lines = 0
	}
	o.Notes = reader.Doubts().Texts()
	return o, nil
}

// cutFast finds the window by bisection.
func cutFast(ctx context.Context, c Content, l *Look, spans []window.Span, w io.Writer) (*Outcome, error) {
	p := &prober{c: c, look: l, size: c.Size}
	p.bound = min(max(DisorderTime, 4*l.disorder(wholeLines(l.head, bytewise, true, false))), DisorderMost)
	segments, err := p.plan(ctx, spans)
	if err != nil {
		return nil, err
	}
	ranges, f, err := p.ranges(ctx, segments, spans)
	if err != nil {
		return nil, err
	}
	o := &Outcome{Lines: -1, Of: -1, Probes: p.n, Bound: p.bound, Odd: f.odd, First: f.first, Last: f.last}
	if n := l.start; n > 0 && (len(ranges) == 0 || ranges[0].From > 0) &&
		isHeader(l, l.head[:min(n, int64(len(l.head)))]) && len(ranges) > 0 {
		ranges = append([]Range{{0, min(n, int64(len(l.head)))}}, ranges...)
	}
	o.Ranges = ranges
	o.All = len(ranges) == 1 && ranges[0] == Range{0, c.Size}
	o.Notes = f.r.Doubts().Texts()
	if w == io.Discard {
		w = nil // only the size is asked for
	}
	if o.All || w == nil {
		for _, r := range ranges {
			o.Bytes += r.To - r.From
		}
		return o, nil
	}
	o.Bytes, err = copyRanges(ctx, c, ranges, w)
	return o, err
}

// ranges reads the edges line by line and gives the stretches that belong to the window.
func (p *prober) ranges(ctx context.Context, segments []segment, spans []window.Span) ([]Range, *filter, error) {
	f := &filter{r: p.look.Profile.At(), look: p.look, spans: spans}
	var out []Range
	add := func(from, to int64) {
		if n := len(out); n > 0 && out[n-1].To == from {
			out[n-1].To = to
		} else if to > from {
			out = append(out, Range{from, to})
		}
	}
	end := int64(-1)
	for _, s := range segments {
		if s.From != end {
			f.keep = false // what stands here without a time belongs to a line before the window
			if s.From == 0 {
				f.keep = p.look.start == 0 || inside(spans, p.look.First)
			}
		}
		end = s.To
		if !s.byLine {
			add(s.From, s.To)
			f.keep = true
			continue
		}
		if err := p.edge(ctx, s.Range, f, add); err != nil {
			return nil, nil, err
		}
	}
	return out, f, nil
}

// edge reads a stretch line by line. Lines that go back further than the bound show that the file is not for bisection.
func (p *prober) edge(ctx context.Context, r Range, f *filter, add func(from, to int64)) error {
	in := newLineReader(io.NewSectionReader(readerAt(p.c.ReadAt), r.From, r.To-r.From), p.buf)
	p.buf = in.buf
	in.known = true // the file's beginning has told the encoding
	at := r.From
	var most time.Time
	lines := 0
	for {
		line, whole, err := in.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if lines++; lines%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		keep := f.line(line)
		if f.timed {
			if most.Sub(f.at) > DisorderMost {
				return fmt.Errorf("%w: it goes back by %s", errDisorder, plainDuration(most.Sub(f.at)))
			}
			if f.at.After(most) {
				most = f.at
			}
		}
		n := int64(len(line))
		if !whole {
			if err := in.rest(func(b []byte) error { n += int64(len(b)); return nil }); err != nil {
				return err
			}
		}
		if keep {
			add(at, at+n)
		}
		at += n
	}
}

// stretchFrom is from what size on a stretch is asked for as a whole, in bytes.
const stretchFrom = 1 << 20

// copyStretch copies a large stretch in the faster way, if there is one. What it did not bring is left to be read.
func copyStretch(ctx context.Context, c Content, r Range, w io.Writer) (int64, error) {
	if c.Stretch == nil || r.To-r.From < stretchFrom {
		return 0, nil
	}
	in, err := c.Stretch(ctx, r.From, r.To)
	if err != nil || in == nil {
		return 0, nil // the plain way tells what is wrong
	}
	defer in.Close()
	keep := &writeErrors{w: w}
	n, _ := io.Copy(keep, io.LimitReader(in, r.To-r.From))
	if keep.err != nil {
		return n, keep.err
	}
	return n, ctx.Err()
}

// writeErrors tells failures to write from failures to read.
type writeErrors struct {
	w   io.Writer
	err error
}

func (w *writeErrors) Write(b []byte) (int, error) {
	n, err := w.w.Write(b)
	w.err = err
	return n, err
}

// copyRanges copies stretches of a file. Large reads let a remote file system send many packets at a time; near by, a
// buffer that fits the processor's cache is faster.
func copyRanges(ctx context.Context, c Content, ranges []Range, w io.Writer) (int64, error) {
	var buf []byte
	piece := int64(nearPiece)
	if c.Far {
		piece = farPiece
	}
	total := int64(0)
	for _, r := range ranges {
		done, err := copyStretch(ctx, c, r, w)
		total += done
		if err != nil {
			return total, err
		}
		for at := r.From + done; at < r.To; {
			if err := ctx.Err(); err != nil {
				return total, err
			}
			want := min(piece, r.To-at)
			if int64(cap(buf)) < want {
				buf = make([]byte, piece)
			}
			n, err := c.ReadAt(buf[:want], at)
			if n > 0 {
				if _, e := w.Write(buf[:n]); e != nil {
					return total, e
				}
				total += int64(n)
				at += int64(n)
			}
			if err != nil && (err != io.EOF || int64(n) < want) {
				if err == io.EOF {
					err = fmt.Errorf("shrank during collection: %w", io.ErrUnexpectedEOF)
				}
				return total, err
			}
		}
	}
	return total, nil
}
