package logset

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/require"
)

// bigLog writes a log of 24 hours.
func bigLog(b *testing.B, size int64, packed bool) string {
	b.Helper()
	name := filepath.Join(b.TempDir(), "gate.log")
	f, err := os.Create(name)
	require.NoError(b, err)
	var w io.Writer = f
	if packed {
		z, err := gzip.NewWriterLevel(f, 6)
		require.NoError(b, err)
		defer z.Close()
		w = z
	}
	buf := bufio.NewWriterSize(w, 1<<20)
	const line = "%s INFO  pass  [reader-2] pass OT%08d accepted zone=2 lane=1 in %d ms\n"
	n := size / 100
	for i := range n {
		at := six.Add(time.Duration(i) * (24 * time.Hour / time.Duration(n)))
		_, err := fmt.Fprintf(buf, line, at.Format("2006-01-02T15:04:05.000-07:00"), i, 40+i%90)
		require.NoError(b, err)
	}
	require.NoError(b, buf.Flush())
	return name
}

// BenchmarkCutTenMinutes cuts ten minutes out of a log of 1 GiB and 24 hours.
func BenchmarkCutTenMinutes(b *testing.B) {
	name := bigLog(b, 1<<30, false)
	out, err := os.Create(filepath.Join(b.TempDir(), "out"))
	require.NoError(b, err)
	w := spans(b, 10*time.Hour, 10*time.Hour+10*time.Minute)
	for b.Loop() {
		f, err := os.Open(name)
		require.NoError(b, err)
		info, err := f.Stat()
		require.NoError(b, err)
		var read atomic.Int64 // what would travel over a network
		c := Content{Open: func() (io.ReadCloser, error) { return os.Open(name) }, Size: info.Size(),
			ReadAt: func(p []byte, off int64) (int, error) { read.Add(int64(len(p))); return f.ReadAt(p, off) }}
		_, err = out.Seek(0, io.SeekStart)
		require.NoError(b, err)
		o, err := Cut(context.Background(), c, Inspect(c, facts()), Wish{Window: w}, nil, out)
		require.NoError(b, err)
		b.ReportMetric(float64(o.Probes), "probes")
		b.ReportMetric(float64(o.Bytes)/1e6, "MB-kept")
		b.ReportMetric(float64(read.Load()+sampleEnd)/1e6, "MB-read")
		f.Close()
	}
}

// BenchmarkCutOfGzip cuts ten minutes out of 256 MiB in gzip.
func BenchmarkCutOfGzip(b *testing.B) {
	name := bigLog(b, 256<<20, true)
	w := spans(b, 10*time.Hour, 10*time.Hour+10*time.Minute)
	b.SetBytes(256 << 20)
	for b.Loop() {
		info, err := os.Stat(name)
		require.NoError(b, err)
		c := Content{Open: func() (io.ReadCloser, error) { return os.Open(name) }, Size: info.Size()}
		_, err = Cut(context.Background(), c, Inspect(c, facts()), Wish{Window: w}, nil, io.Discard)
		require.NoError(b, err)
	}
}
