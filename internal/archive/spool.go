package archive

import (
	"bytes"
	"context"
	"hash/crc32"
	"io"
	"sync"
)

// spool is one file, redacted and (unless it is small) compressed, waiting for its turn.
type spool struct {
	src    Source
	format *Format
	level  Level
	size   int64
	crc    uint32           // of a member of a zip file
	buf    []byte           // content that is not compressed yet
	piece  *[pieceSize]byte // what buf lies in, once the file is not small any more
	frames *frames          // compressed pieces; nil while the file is small
	packed []byte           // a small file, compressed, of a zip file
	tmpDir string
	err    error
	ready  chan struct{}
}

func (s *spool) fill(ctx context.Context) {
	s.err = s.src.Write(ctxWriter{ctx, s})
	switch {
	case s.err != nil:
	case s.frames != nil || len(s.buf) > smallFile:
		s.err = s.compress(true)
		s.release() // it may wait for its turn
	case s.format.zip:
		var b bytes.Buffer
		s.err = s.format.piece(&b, s.buf, s.level, true)
		s.packed, s.buf = b.Bytes(), nil
	}
}

// ctxWriter stops writing when the context ends.
type ctxWriter struct {
	ctx context.Context
	w   io.Writer
}

func (c ctxWriter) Write(b []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.w.Write(b)
}

func (s *spool) Write(b []byte) (int, error) {
	if s.format.zip {
		s.crc = crc32.Update(s.crc, crc32.IEEETable, b)
	}
	s.size += int64(len(b))
	given := len(b)
	for len(b) > 0 {
		if len(s.buf) == pieceSize { // not before more comes: the last piece is told as such
			if err := s.compress(false); err != nil {
				return 0, err
			}
		}
		n := min(len(b), pieceSize-len(s.buf))
		if len(s.buf)+n > smallFile {
			s.grow()
		}
		s.buf = append(s.buf, b[:n]...)
		b = b[n:]
	}
	return given, nil
}

// pieceBuffers hold a piece each.
var pieceBuffers = sync.Pool{New: func() any { return new([pieceSize]byte) }}

// grow gives a file that is not small room for a whole piece.
func (s *spool) grow() {
	if s.piece == nil {
		s.piece = pieceBuffers.Get().(*[pieceSize]byte)
		s.buf = s.piece[:copy(s.piece[:], s.buf)]
	}
}

func (s *spool) release() {
	s.buf = nil
	if s.piece != nil {
		pieceBuffers.Put(s.piece)
		s.piece = nil
	}
}

// compress writes the buffer as one piece to the file of frames.
func (s *spool) compress(last bool) error {
	if s.frames == nil {
		s.frames = &frames{tmpDir: s.tmpDir}
	}
	err := s.format.piece(s.frames, s.buf, s.level, last)
	s.buf = s.buf[:0]
	return err
}

func (s *spool) discard() {
	if s.frames != nil {
		_ = s.frames.discard() // the folder goes, too
		s.frames = nil
	}
	s.release()
}
