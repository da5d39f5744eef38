package collect

import (
	"context"
	"io"
	"sync"
	"time"

	"envask/internal/collect/transfer"
	"envask/internal/logset"
	"envask/internal/round"
	"envask/internal/window"
)

// price finds out what taking a file would cost, without taking it.
func (f *filesWork) price(ctx context.Context, c *candidate, lines bool) (int64, error) {
	e := &c.entry
	e.State, e.Name = round.Taken, "files"+e.Source
	content, _, done, err := f.content(c.real)
	if err != nil {
		e.State, e.Reason, e.Name = stateOf(err), transfer.Plain(err), ""
		f.add(*e)
		return 0, lost(f.target)
	}
	defer done()
	f.measureRate(content)
	p := &round.Price{Bytes: e.Size, Exact: true}
	if lines {
		w := f.window()
		p.Bytes, p.Exact = f.estimate(ctx, c, content, w)
		p.Packed = c.member.Look.Packing != ""
		if more := earlier(w, time.Hour); more.Limited() {
			n, _ := f.estimate(ctx, c, content, more)
			p.HourMore = max(0, n-p.Bytes)
		}
	}
	e.Price = p
	f.add(*e)
	return p.Bytes, ctx.Err()
}

// earlier gives a window whose spans begin earlier.
func earlier(w window.Window, by time.Duration) window.Window {
	var spans []window.Span
	for _, s := range w.Spans {
		spans = append(spans, window.Span{From: s.From.Add(-by), To: s.To})
	}
	out, err := window.New(spans, w.Zone)
	if err != nil {
		return window.Window{}
	}
	return out
}

// looked is up to what size a file is read to find out what cutting it gives, in bytes.
const looked = 8 << 20

// estimate gives the bytes that a window takes of a file: exactly where that costs little.
func (f *filesWork) estimate(ctx context.Context, c *candidate, content logset.Content, w window.Window) (bytes int64, exact bool) {
	l := c.member.Look
	wish := f.wish()
	wish.Window = w
	if content.Size <= looked && !content.Far || content.Size <= looked/32 || l.Bisectable(content, wish) {
		if o, err := logset.Cut(ctx, content, l, wish, nil, io.Discard); err == nil {
			return o.Bytes, true
		}
	}
	until := c.member.Until
	if until.IsZero() {
		until = c.info.ModTime()
	}
	all := until.Sub(l.First)
	if all <= 0 {
		return content.Size, false
	}
	in := time.Duration(0)
	for _, s := range w.Spans {
		from, to := s.From, s.To
		if from.Before(l.First) {
			from = l.First
		}
		if to.After(until) {
			to = until
		}
		in += max(0, to.Sub(from))
	}
	return int64(float64(content.Size) * min(1, in.Seconds()/all.Seconds())), false
}

// rateSample is how much is read to measure how fast a system gives its files, in bytes.
const rateSample = 1 << 20

// rates are how fast systems give their files.
type rates struct {
	mu       sync.Mutex
	bySystem map[string]float64 // bytes a second
}

// Rates gives how fast the systems gave their files while a dry run looked at them, in bytes a second.
func (c *Collector) Rates() map[string]float64 {
	c.rates.mu.Lock()
	defer c.rates.mu.Unlock()
	return c.rates.bySystem
}

func (r *rates) get(system string) (rate float64, known bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	rate, known = r.bySystem[system]
	return rate, known
}

func (r *rates) put(system string, rate float64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.bySystem == nil {
		r.bySystem = map[string]float64{}
	}
	r.bySystem[system] = rate
}

// measureRate reads a piece of a file, once for a system.
func (f *filesWork) measureRate(content logset.Content) {
	if _, known := f.rates.get(f.sys.Name); known || content.ReadAt == nil || content.Size < rateSample/4 {
		return
	}
	buf := make([]byte, min(rateSample, content.Size))
	begun := time.Now()
	n, err := content.ReadAt(buf, 0)
	if err == nil || err == io.EOF {
		f.rates.put(f.sys.Name, float64(n)/max(time.Since(begun).Seconds(), 1e-9))
	}
}
