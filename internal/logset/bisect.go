package logset

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"envask/internal/fault"
	"envask/internal/stamp"
	"envask/internal/window"
)

// What disorder the fast cut covers. A file whose lines are out of place by no more than either of these is cut exactly as
// if it were read whole; more is noticed where the probes meet it.
const (
	DisorderTime  = 5 * time.Second // at least; four times the disorder that the samples show, up to DisorderMost
	DisorderMost  = time.Minute
	DisorderLines = 64
)

// Sizes of reads, in bytes.
const (
	probeSize    = 4 << 10
	probeMost    = 64 << 10 // no dated line within this: the file is not for bisection
	bisectTo     = 4 << 10  // when the place is known this well, lines are read
	spreadProbes = 24       // over the whole file, at a time, to see whether it is in order
	nearPiece    = 256 << 10
	farPiece     = 2 << 20
)

// errDisorder means that a file cannot be cut by bisection.
var errDisorder = errors.New("not in order")

// Range is a stretch of a file's bytes.
type Range struct{ From, To int64 }

// prober finds places in a plain file by time, without reading it.
type prober struct {
	c     Content
	look  *Look
	size  int64
	mu    sync.Mutex
	n     int    // probes
	buf   []byte // for lines
	bound time.Duration
}

// point is a dated line.
type point struct {
	at int64 // where it begins
	t  time.Time
}

// probe finds the first dated line that begins at or behind an offset, but before limit. ok is false when there is none.
func (p *prober) probe(off, limit int64) (pt point, ok bool, err error) {
	p.mu.Lock()
	p.n++
	p.mu.Unlock()
	r := p.look.Profile.At()
	for size := int64(probeSize); ; size *= 4 {
		buf := make([]byte, min(size, p.size-off))
		n, err := p.c.ReadAt(buf, off)
		if err != nil && err != io.EOF {
			return point{}, false, err
		}
		buf = buf[:n]
		at := off
		if off > 0 { // to the beginning of a line
			i := bytes.IndexByte(buf, '\n')
			if i < 0 {
				i = n - 1
			}
			at += int64(i) + 1
			buf = buf[i+1:]
		}
		last := off+int64(n) >= p.size
		for len(buf) > 0 && at < limit {
			i := bytes.IndexByte(buf, '\n')
			if i < 0 {
				if !last && len(buf) < 1024 { // it may hold more than is here
					break
				}
				i = len(buf) - 1
			}
			if t, ok := r.Time(buf[:i+1]); ok && p.look.sane(t) {
				return point{at, t}, true, nil
			}
			at += int64(i) + 1
			buf = buf[i+1:]
		}
		if at >= limit || last {
			return point{}, false, nil
		}
		if size >= probeMost {
			return point{}, false, fmt.Errorf("%w: no dated line in %d bytes", errDisorder, size)
		}
	}
}

// spread probes the whole file evenly, several at a time, and says whether what it finds is in order.
func (p *prober) spread(ctx context.Context) error {
	points := make([]point, spreadProbes)
	found := make([]bool, spreadProbes)
	errs := make([]error, spreadProbes)
	var wg sync.WaitGroup
	gate := make(chan struct{}, 8)
	for i := range spreadProbes {
		wg.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()
			if errs[i] = ctx.Err(); errs[i] == nil {
				errs[i] = fault.Safely(func() (err error) {
					points[i], found[i], err = p.probe(p.size/spreadProbes*int64(i), p.size)
					return err
				})
			}
		})
	}
	wg.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	var most time.Time
	for i, pt := range points {
		if !found[i] {
			continue
		}
		if most.Sub(pt.t) > p.bound {
			return fmt.Errorf("%w: it goes back by %s", errDisorder, plainDuration(most.Sub(pt.t)))
		}
		if pt.t.After(most) {
			most = pt.t
		}
	}
	return nil
}

// find gives two dated lines, the first before t and the second not before it, with at most bisectTo bytes (and lines
// without a time) between them.
func (p *prober) find(ctx context.Context, t time.Time, from, to int64) (lo, hi int64, err error) {
	lo, hi = from, to
	for end := to; end-lo > bisectTo; {
		if err := ctx.Err(); err != nil {
			return 0, 0, err
		}
		mid := lo + (end-lo)/2
		pt, ok, err := p.probe(mid, end)
		switch {
		case err != nil:
			return 0, 0, err
		case !ok: // nothing dated begins between: what is there goes with a line before
			end = mid
		case pt.t.Before(t):
			lo = pt.at
		default:
			end, hi = mid, pt.at
		}
	}
	return lo, hi, nil
}

// back gives the beginning of the n-th line before off.
func (p *prober) back(off int64, n int) (int64, error) {
	for size := int64(16 << 10); ; size *= 4 {
		from := max(0, off-size)
		buf := make([]byte, off-from)
		if k, err := p.c.ReadAt(buf, from); err != nil && err != io.EOF || int64(k) < off-from {
			return 0, errors.Join(err, io.ErrUnexpectedEOF)
		}
		end := len(buf)
		for k := 0; k <= n; k++ {
			i := bytes.LastIndexByte(buf[:max(0, end-1)], '\n')
			if i < 0 {
				end = -1
				break
			}
			end = i + 1
		}
		if end >= 0 {
			return from + int64(end), nil
		}
		if from == 0 {
			return 0, nil
		}
		if size > 4<<20 { // lines of megabytes: whatever is there will do
			return from, nil
		}
	}
}

// forward gives the beginning of the n-th line behind off.
func (p *prober) forward(off int64, n int) (int64, error) {
	for size := int64(16 << 10); ; size *= 4 {
		buf := make([]byte, min(size, p.size-off))
		k, err := p.c.ReadAt(buf, off)
		if err != nil && err != io.EOF {
			return 0, err
		}
		buf = buf[:k]
		at, left := 0, n
		for left >= 0 {
			i := bytes.IndexByte(buf[at:], '\n')
			if i < 0 {
				break
			}
			at += i + 1
			left--
		}
		if left < 0 {
			return off + int64(at), nil
		}
		if off+int64(k) >= p.size || size > 4<<20 {
			return off + int64(k), nil
		}
	}
}

// segment is a stretch to be copied as it is, or line by line.
type segment struct {
	Range
	byLine bool
}

// plan finds the stretches of a plain file in which lines of the window lie.
func (p *prober) plan(ctx context.Context, spans []window.Span) ([]segment, error) {
	if err := p.spread(ctx); err != nil {
		return nil, err
	}
	var out []segment
	for _, s := range spans {
		var edges [4]int64 // from-bound, from+bound, to-bound, to+bound
		lo := int64(0)
		for i, t := range []time.Time{s.From.Add(-p.bound), s.From.Add(p.bound), s.To.Add(-p.bound), s.To.Add(p.bound).Add(1)} {
			a, b, err := p.find(ctx, t, lo, p.size)
			if err != nil {
				return nil, err
			}
			lo = a
			if i == 0 || i == 2 {
				edges[i], err = p.back(a, 2*DisorderLines)
			} else {
				edges[i], err = p.forward(b, 2*DisorderLines)
			}
			if err != nil {
				return nil, err
			}
		}
		out = join(out, edges)
	}
	return out, nil
}

// join adds the stretches of one span. Where they meet those of the span before, all of both is read line by line.
func join(out []segment, e [4]int64) []segment {
	add := []segment{{Range{e[0], e[1]}, true}, {Range{e[1], e[2]}, false}, {Range{e[2], e[3]}, true}}
	if e[1] >= e[2] {
		add = []segment{{Range{e[0], max(e[1], e[3])}, true}}
	}
	if n := len(out); n > 0 && out[n-1].To > e[0] {
		first := n - 1
		for first > 0 && out[first-1].To == out[first].From {
			first--
		}
		from := out[first].From
		return append(out[:first], segment{Range{from, max(out[n-1].To, e[3])}, true})
	}
	return append(out, add...)
}

// disorder gives how far back in time the lines of the sample go.
func (l *Look) disorder(samples ...[]byte) time.Duration {
	worst := time.Duration(0)
	for _, text := range samples {
		r := l.Profile.At()
		var most time.Time
		eachPiece(text, func(line []byte) {
			t, ok := r.Time(line)
			if !ok || !l.sane(t) {
				return
			}
			worst = max(worst, most.Sub(t))
			if t.After(most) {
				most = t
			}
		})
	}
	return worst
}

// nearChange says whether an edge of the window lies where the clocks change, so that local times do not tell the order.
func nearChange(spans []window.Span, p *stamp.Profile) bool {
	if p.Offsets >= p.Dated {
		return false
	}
	zone := p.Facts.Zone
	for _, s := range spans {
		for _, t := range []time.Time{s.From, s.To} {
			_, a := t.Add(-4 * time.Hour).In(zone).Zone()
			_, b := t.Add(4 * time.Hour).In(zone).Zone()
			if a != b {
				return true
			}
		}
	}
	return false
}
