package logset

import (
	"bytes"
	"errors"
	"io"

	"envask/internal/stamp"
)

// lineBuffer is how much of a line is at hand at a time, in bytes. A longer line is passed on piece by piece; its time
// stands in its first piece.
const lineBuffer = 256 << 10

// encoding is how a file's characters are written, as far as line ends and times are concerned.
type encoding uint8

const (
	bytewise encoding = iota // ASCII, UTF-8, Latin-1 and their like
	utf16LE
	utf16BE
)

// encodingOf tells UTF-16 by its byte order mark.
func encodingOf(head []byte) encoding {
	switch {
	case bytes.HasPrefix(head, []byte{0xff, 0xfe}):
		return utf16LE
	case bytes.HasPrefix(head, []byte{0xfe, 0xff}):
		return utf16BE
	}
	return bytewise
}

// lineReader gives the lines of a stream in bounded memory.
type lineReader struct {
	r          io.Reader
	enc        encoding
	buf        []byte
	start, end int
	err        error
	known      bool
}

func newLineReader(r io.Reader, buf []byte) *lineReader {
	if cap(buf) < lineBuffer {
		buf = make([]byte, lineBuffer)
	}
	return &lineReader{r: r, buf: buf[:lineBuffer]}
}

// fill reads more behind what is there.
func (l *lineReader) fill() {
	if l.start > 0 {
		copy(l.buf, l.buf[l.start:l.end])
		l.start, l.end = 0, l.end-l.start
	}
	n, err := l.r.Read(l.buf[l.end:])
	l.end += n
	l.err = err
	if n == 0 && err == nil {
		l.err = io.ErrNoProgress
	}
}

// next gives the next line with its line end, or its first piece; whole is false when more of it follows. At the end it
// gives io.EOF, or the error that ended the stream.
func (l *lineReader) next() (line []byte, whole bool, err error) {
	searched := 0
	for {
		if !l.known && l.end-l.start >= 2 {
			l.enc, l.known = encodingOf(l.buf[l.start:l.end]), true
		}
		if n := l.newline(l.buf[l.start+searched : l.end]); n >= 0 {
			n += searched
			line = l.buf[l.start : l.start+n]
			l.start += n
			return line, true, nil
		}
		searched = (l.end - l.start) &^ 1
		if l.end-l.start == len(l.buf) {
			line = l.buf[l.start:l.end]
			l.start = l.end
			return line, false, nil
		}
		if l.err != nil {
			if line = l.buf[l.start:l.end]; len(line) > 0 {
				l.start = l.end
				return line, true, nil
			}
			return nil, true, l.err
		}
		l.fill()
	}
}

// newline gives the length of the line at the start of b, with its end; -1 when it does not end in b.
func (l *lineReader) newline(b []byte) int {
	if l.enc == bytewise {
		if i := bytes.IndexByte(b, '\n'); i >= 0 {
			return i + 1
		}
		return -1
	}
	for i := 0; i+1 < len(b); i += 2 {
		if l.enc == utf16LE && b[i] == '\n' && b[i+1] == 0 || l.enc == utf16BE && b[i] == 0 && b[i+1] == '\n' {
			return i + 2
		}
	}
	return -1
}

// rest gives the pieces of a line whose first piece was not whole, to each.
func (l *lineReader) rest(each func([]byte) error) error {
	for {
		piece, whole, err := l.next()
		if err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		if err := each(piece); err != nil {
			return err
		}
		if whole {
			return nil
		}
	}
}

// text gives a line as bytes in which times are recognised. buf is reused.
func (e encoding) text(buf *[]byte, line []byte) []byte {
	if e == bytewise {
		return line
	}
	if len(line) > 2*stamp.KeyedLimit {
		line = line[:2*stamp.KeyedLimit]
	}
	*buf = stamp.Narrow(*buf, line, e == utf16BE)
	return *buf
}

// wholeLines gives the part of a sample that consists of whole lines; first says that it begins at the file's start, last
// that it ends at the file's end. A sample of UTF-16 is narrowed.
func wholeLines(b []byte, enc encoding, first, last bool) []byte {
	if enc != bytewise {
		b = stamp.Narrow(nil, b, enc == utf16BE)
	}
	if !first {
		i := bytes.IndexByte(b, '\n')
		if i < 0 {
			return nil
		}
		b = b[i+1:]
	}
	if !last {
		if i := bytes.LastIndexByte(b, '\n'); i >= 0 {
			b = b[:i+1]
		}
	}
	return b
}
