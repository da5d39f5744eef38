package collect

import (
	"context"
	"io"
	"time"

	"envask/internal/collect/transfer"
	"envask/internal/logset"
	"envask/internal/reach"
)

// slowLink is below which rate a link counts as slow, in bytes a second: then the system's gzip is faster than the wire.
const slowLink = 10 << 20

// squeezed gives how a file's stretches come compressed; nil for systems that cannot do it. Whether the link is slow is
// measured once, when the first large stretch is wanted.
func (f *filesWork) squeezed(name string) transfer.Stretch {
	s, ok := f.target.(reach.Squeezer)
	if !ok {
		return nil
	}
	return func(ctx context.Context, from, to int64) (io.ReadCloser, error) {
		if !f.slow(ctx, s, name, to-from) {
			return nil, nil
		}
		return s.Squeezed(ctx, name, from, to)
	}
}

// slow says whether stretches of this file should come compressed.
func (f *filesWork) slow(ctx context.Context, s reach.Squeezer, name string, size int64) bool {
	file, err := reach.OpenResolved(f.target.FS(), name)
	if err != nil {
		return false
	}
	defer file.Close()
	at, ok := file.(io.ReaderAt)
	if !ok {
		return false
	}
	buf := make([]byte, min(rateSample, size))
	n, err := at.ReadAt(buf[:8], 0)
	if err != nil || logset.PackingOf(buf[:n]) != "" {
		return false // it is compressed already
	}
	rate, known := f.rates.get(f.sys.Name)
	if !known {
		begun := time.Now()
		if n, err = at.ReadAt(buf, 0); err != nil && err != io.EOF {
			return false
		}
		rate = float64(n) / max(time.Since(begun).Seconds(), 1e-9)
		f.rates.put(f.sys.Name, rate)
	}
	return rate < slowLink && s.CanSqueeze(ctx)
}
