package archive

import (
	"bytes"
	"context"
	"hash/crc32"
	"io"
)

// spool is one file, redacted and (unless it is small) compressed, waiting for its turn.
type spool struct {
	src    Source
	format *Format
	level  Level
	size   int64
	crc    uint32  // of a member of a zip file
	buf    []byte  // all of a small file
	frames *frames // compressed pieces; nil while the file is small
	piece  piece   // the one that is written now
	in     int     // so many bytes are in it
	packed []byte  // a small file, compressed, of a zip file
	tmpDir string
	err    error
	ready  chan struct{}
}

func (s *spool) fill(ctx context.Context) {
	s.err = s.src.Write(ctxWriter{ctx, s})
	switch {
	case s.err != nil:
	case s.frames != nil:
		s.err = s.piece.end(true)
		s.piece = nil
	case s.format.zip:
		var b bytes.Buffer
		s.err = s.format.put(&b, s.buf, s.level)
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
	if s.frames == nil && len(s.buf)+len(b) <= smallFile {
		s.buf = append(s.buf, b...)
		return len(b), nil
	}
	if s.frames == nil {
		s.frames = &frames{tmpDir: s.tmpDir}
		small := s.buf
		s.buf = nil
		if err := s.compress(small); err != nil {
			return 0, err
		}
	}
	return len(b), s.compress(b)
}

// compress writes on in pieces to the frames. A piece is not ended before more comes: the last one is told as such.
func (s *spool) compress(b []byte) (err error) {
	for len(b) > 0 && err == nil {
		if s.in == pieceSize {
			err = s.piece.end(false)
			s.piece, s.in = nil, 0
		}
		if s.piece == nil && err == nil {
			s.piece, err = s.format.begin(s.frames, s.level)
		}
		if err == nil {
			n := min(len(b), pieceSize-s.in)
			_, err = s.piece.Write(b[:n])
			s.in += n
			b = b[n:]
		}
	}
	return err
}

func (s *spool) discard() {
	if s.frames != nil {
		_ = s.frames.discard() // the folder goes, too
		s.frames = nil
	}
	s.buf = nil
}
