package redact

import (
	"bufio"
	"io"
	"sync"

	"github.com/klauspost/compress/gzip"
)

// Leak is a learned original that stands where it must not.
type Leak struct {
	Rule   string
	Class  Class
	Offset int64  // in the (opened) file, in bytes
	Text   string // the original; never to be written anywhere
}

// maxLeaks bounds how many hits of one file are listed.
const maxLeaks = 20

// FindLeaks searches a stream for learned originals. Gzip is opened.
func FindLeaks(m *Matcher, r io.Reader) ([]Leak, error) {
	br := headReaders.Get().(*bufio.Reader)
	br.Reset(r)
	defer headReaders.Put(br)
	if head, err := br.Peek(3); err == nil && isGzip(head) {
		if zr, err := gzip.NewReader(br); err == nil {
			defer zr.Close()
			return m.scan(zr)
		}
	}
	return m.scan(br)
}

// headReaders and scanBuffers save the making of large buffers for each of many small files.
var headReaders = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, headSize) }}

var scanBuffers = sync.Pool{New: func() any { b := make([]byte, 0, blockSize+MaxLearned); return &b }}

func (m *Matcher) scan(r io.Reader) ([]Leak, error) {
	var leaks []Leak
	pooled := scanBuffers.Get().(*[]byte)
	defer scanBuffers.Put(pooled)
	buf := (*pooled)[:0]
	var base int64 // offset of buf[0]
	for {
		n, err := io.ReadFull(r, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		atEnd := err == io.EOF || err == io.ErrUnexpectedEOF
		if err != nil && !atEnd {
			return leaks, err
		}
		limit := len(buf) // a value that begins behind the limit waits for the rest of it
		if !atEnd {
			limit -= MaxLearned
		}
		next := 0
		for len(leaks) < maxLeaks {
			start, v, ok := m.Next(buf, next)
			if !ok || start >= limit {
				break
			}
			leaks = append(leaks, Leak{v.Rule, v.Class, base + int64(start), v.Text})
			next = start + len(v.Text)
		}
		if atEnd {
			return leaks, nil
		}
		keep := max(0, max(limit, next)-1) // one byte more, to see what stands before a value
		base += int64(keep)
		buf = append(buf[:0], buf[keep:]...)
	}
}
