package form

import (
	"bufio"
	"compress/bzip2"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"sync"

	dsnet "github.com/dsnet/compress/bzip2"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// Compression is one way in which a file is compressed.
type Compression struct {
	kind   Kind
	ending string                                       // of names; what a member is called without it
	Open   func(r io.Reader) (io.Reader, func(), error) // and what is to be called in the end
	Close  func(w io.Writer) (io.WriteCloser, error)
}

// Compressions are the ways that are known.
var Compressions = map[Kind]Compression{
	Gzip:  {Gzip, ".gz", openGzip, closeGzip},
	Zstd:  {Zstd, ".zst", openZstd, closeZstd},
	Bzip2: {Bzip2, ".bz2", openBzip2, closeBzip2},
	XZ:    {XZ, ".xz", openXZ, closeXZ},
}

// applyCompressed redacts files that are compressed in one way.
func applyCompressed(kind Kind) func(o *Opener, w io.Writer, r io.Reader, in Source) (Result, error) {
	return func(o *Opener, w io.Writer, r io.Reader, in Source) (Result, error) {
		return o.compressed(w, r, in, Compressions[kind])
	}
}

func openGzip(r io.Reader) (io.Reader, func(), error) {
	z, err := gzip.NewReader(r)
	if err != nil {
		return nil, nil, err
	}
	return z, func() { z.Close() }, nil
}

// closeGzip writes no name and no time into the head: the same input gives the same bytes.
func closeGzip(w io.Writer) (io.WriteCloser, error) {
	z := gzipWriters.Get().(*gzip.Writer)
	z.Reset(w)
	return &lentGzip{z}, nil
}

// gzipWriters are used again: the tables of one take a megabyte, and many a folder is full of small files that are packed.
var gzipWriters = sync.Pool{New: func() any { return gzip.NewWriter(io.Discard) }}

type lentGzip struct{ *gzip.Writer }

// Close may be called once.
func (l *lentGzip) Close() error {
	err := l.Writer.Close()
	l.Writer.Reset(io.Discard)
	gzipWriters.Put(l.Writer)
	l.Writer = nil
	return err
}

// maxZstdWindow bounds the memory that a zstd file may ask for, in bytes; RFC 8878 recommends to accept 8 MiB, and the usual
// programs go up to 128 MiB.
const maxZstdWindow = 128 << 20

func openZstd(r io.Reader) (io.Reader, func(), error) {
	z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxZstdWindow), zstd.WithDecoderLowmem(true))
	if err != nil {
		return nil, nil, err
	}
	return z, z.Close, nil
}

func closeZstd(w io.Writer) (io.WriteCloser, error) {
	return zstd.NewWriter(w, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedDefault))
}

func openBzip2(r io.Reader) (io.Reader, func(), error) {
	return bzip2.NewReader(r), func() {}, nil
}

func closeBzip2(w io.Writer) (io.WriteCloser, error) {
	return dsnet.NewWriter(w, &dsnet.WriterConfig{Level: 6})
}

// maxXZDictionary bounds the memory that an xz file may ask for, in bytes.
const maxXZDictionary = 128 << 20

func openXZ(r io.Reader) (io.Reader, func(), error) {
	z, err := xz.ReaderConfig{DictCap: maxXZDictionary}.NewReader(r)
	return z, func() {}, err
}

func closeXZ(w io.Writer) (io.WriteCloser, error) {
	return xz.WriterConfig{DictCap: 8 << 20}.NewWriter(w)
}

// compressed opens a compressed file, redacts what is in it and closes it again. A file that ends early gives what is whole.
func (o *Opener) compressed(w io.Writer, r io.Reader, in Source, c Compression) (Result, error) {
	packed := &countReader{r: r}
	plain, done, err := c.Open(packed)
	if err != nil {
		return Result{Inner: Opaque, Note: fmt.Sprintf("the %s head is broken", c.kind)}, nil
	}
	defer done()
	bound, outermost := o.bounded(packed)
	if outermost {
		defer func() { o.growth = nil }()
	}
	soft := &softReader{r: &boundReader{r: plain, growth: bound}}
	late := &lateWriter{w: w, open: c.Close}
	var target io.Writer = late
	if w == nil {
		target = nil
	}
	res, err := o.inner(target, soft, in, innerName(in.Name, c.ending))
	err = errors.Join(err, late.Close())
	out := Result{Inner: res.Form, Counts: res.Counts, Note: res.Note, Unread: res.Unread}
	if res.Unreadable() {
		out.Inner = Opaque
	} else if err == nil && w != nil && late.zw == nil { // nothing in it
		err = errors.Join(late.begin(), late.Close())
	}
	if soft.hard != nil {
		return out, soft.hard
	}
	if soft.broken != nil {
		out.Note = fmt.Sprintf("the %s file is broken after %d bytes (%v); what is whole was kept", c.kind, soft.n, soft.broken)
	}
	return out, err
}

// innerName gives the name of what a compressed file holds.
func innerName(name, ending string) string {
	low := strings.ToLower(name)
	switch {
	case strings.HasSuffix(low, ending):
		return name[:len(name)-len(ending)]
	case strings.HasSuffix(low, ".tgz"), strings.HasSuffix(low, ".txz"), strings.HasSuffix(low, ".tbz"):
		return name[:len(name)-4] + ".tar"
	}
	return path.Base(name)
}

// lateWriter begins a compressed stream with its first byte, so that nothing is written of what cannot be read.
type lateWriter struct {
	w    io.Writer
	open func(w io.Writer) (io.WriteCloser, error)
	zw   io.WriteCloser
}

func (l *lateWriter) begin() (err error) {
	l.zw, err = l.open(l.w)
	return err
}

func (l *lateWriter) Write(b []byte) (int, error) {
	if l.zw == nil {
		if err := l.begin(); err != nil {
			return 0, err
		}
	}
	return l.zw.Write(b)
}

func (l *lateWriter) Close() error {
	if l.zw == nil {
		return nil
	}
	return l.zw.Close()
}

// softReader ends quietly where a compressed stream breaks, and remembers it.
type softReader struct {
	r            io.Reader
	n            int64
	broken, hard error
}

func (s *softReader) Read(b []byte) (int, error) {
	n, err := s.r.Read(b)
	s.n += int64(n)
	if err == nil || err == io.EOF {
		return n, err
	}
	if errors.Is(err, ErrBomb) {
		s.hard = err
		return n, err
	}
	s.broken = err
	return n, io.EOF
}

func (c *countReader) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n += int64(n)
	return n, err
}

// ReadByte lets decompressors read bytes without a buffer of their own.
func (c *countReader) ReadByte() (byte, error) {
	if br, ok := c.r.(io.ByteReader); ok {
		b, err := br.ReadByte()
		if err == nil {
			c.n++
		}
		return b, err
	}
	var one [1]byte
	_, err := io.ReadFull(c, one[:])
	return one[0], err
}

var _ io.ByteReader = (*bufio.Reader)(nil)

// bounded gives the growth that a compressed file within others counts to, and whether it is the outermost of them: layers that each
// grow within bounds can grow beyond measure together, and so can files that share their data.
func (o *Opener) bounded(packed *countReader) (g *growth, outermost bool) {
	if outermost = o.growth == nil; outermost {
		o.growth = &growth{packed: packed}
	}
	return o.growth, outermost
}

// boundReader stops a stream that grows beyond measure.
type boundReader struct {
	r      io.Reader
	growth *growth
}

func (r *boundReader) Read(b []byte) (int, error) {
	n, err := r.r.Read(b)
	g := r.growth
	g.grown += int64(n)
	if g.grown > MaxExpanded || g.grown > 64<<20 && g.grown/MaxRatio > g.packed.n {
		return n, ErrBomb
	}
	return n, err
}

// growth is what has come out of a compressed file so far, with all that is compressed within it.
type growth struct {
	packed *countReader // what went into the outermost one
	grown  int64        // bytes
}

type countReader struct {
	r io.Reader
	n int64
}
