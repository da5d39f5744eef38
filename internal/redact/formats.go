package redact

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"
)

// Form says how a file was looked at.
type Form string

// The forms.
const (
	Plain  Form = "text"
	Gzip   Form = "gzip"   // opened, redacted inside, closed again
	Opaque Form = "opaque" // cannot be read; nothing in it was redacted
)

// headSize is how much of a file is looked at to tell its form, in bytes.
const headSize = 8 << 10

// MaxExpanded bounds what one compressed file may grow to, in bytes; MaxRatio bounds how many times larger than the
// compressed data it may be. Both guard against archives that are made to fill a disk.
const (
	MaxExpanded = 64 << 30
	MaxRatio    = 1200
)

// ErrBomb means that a compressed file grows beyond all measure.
var ErrBomb = errors.New("the compressed file grows beyond measure")

// format redacts files of one form.
type format struct {
	Form  Form
	Is    func(head []byte) bool
	Apply func(e *Engine, w io.Writer, r io.Reader) (Result, error)
}

// formats is the table of forms; the first that fits is used.
var formats = []format{
	{Gzip, isGzip, applyGzip},
	{Opaque, isOpaque, nil},
	{Plain, func([]byte) bool { return true }, applyText},
}

// Result is what became of one file.
type Result struct {
	Form   Form
	Inner  Form // of what a container holds
	Counts Counts
	Note   string // what could not be done
}

// File redacts one file of any form. An opaque file is not written at all: Result.Form or Result.Inner says so, and the
// caller decides. A nil w only learns.
func (e *Engine) File(w io.Writer, r io.Reader) (Result, error) {
	if e.br == nil {
		e.br = bufio.NewReaderSize(r, headSize)
	}
	e.br.Reset(r)
	defer e.br.Reset(nil)
	br := e.br
	head, err := br.Peek(headSize)
	if err != nil && err != io.EOF && err != bufio.ErrBufferFull {
		return Result{}, err
	}
	for _, f := range formats {
		if !f.Is(head) {
			continue
		}
		if f.Apply == nil {
			return Result{Form: f.Form}, nil
		}
		res, err := f.Apply(e, w, br)
		res.Form = f.Form
		return res, err
	}
	panic("the last form takes everything")
}

func applyText(e *Engine, w io.Writer, r io.Reader) (Result, error) {
	counts, err := e.Text(w, r)
	return Result{Counts: counts}, err
}

func isGzip(head []byte) bool { return bytes.HasPrefix(head, []byte{0x1f, 0x8b, 8}) }

// applyGzip opens a gzip file, redacts what is in it and closes it again. A file that ends early gives what is whole.
func applyGzip(e *Engine, w io.Writer, r io.Reader) (Result, error) {
	in := &countReader{r: r}
	zr, err := gzip.NewReader(in)
	if err != nil {
		return Result{Inner: Opaque, Note: "the gzip head is broken"}, nil
	}
	defer zr.Close()
	soft := &softReader{r: &boundReader{r: zr, in: in}}
	br := bufio.NewReaderSize(soft, headSize)
	head, _ := br.Peek(headSize) // its error comes again with the next read
	if isGzip(head) || isOpaque(head) {
		return Result{Inner: Opaque}, soft.hard
	}
	res := Result{Inner: Plain}
	if w == nil {
		res.Counts, err = e.Text(nil, br)
	} else {
		// No name and no time in the head: the same input gives the same bytes.
		zw, zerr := gzip.NewWriterLevel(w, gzip.DefaultCompression)
		if zerr != nil {
			return res, zerr
		}
		res.Counts, err = e.Text(zw, br)
		err = errors.Join(err, zw.Close())
	}
	if soft.hard != nil {
		return res, soft.hard
	}
	if soft.broken != nil {
		res.Note = fmt.Sprintf("the gzip file is broken after %d bytes (%v); what is whole was kept", soft.n, soft.broken)
	}
	return res, err
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

type countReader struct {
	r io.Reader
	n int64
}

func (c *countReader) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n += int64(n)
	return n, err
}

// boundReader stops a stream that grows beyond measure.
type boundReader struct {
	r  io.Reader
	in *countReader
	n  int64
}

func (r *boundReader) Read(b []byte) (int, error) {
	n, err := r.r.Read(b)
	r.n += int64(n)
	if r.n > MaxExpanded || r.n > 64<<20 && r.n/MaxRatio > r.in.n {
		return n, ErrBomb
	}
	return n, err
}

// magics begin files whose inside is not text.
var magics = [][]byte{
	[]byte("PK\x03\x04"), []byte("\x28\xb5\x2f\xfd"), []byte("BZh"), []byte("\xfd7zXZ\x00"), []byte("7z\xbc\xaf\x27\x1c"), []byte("\x7fELF"),
	[]byte("SQLite format 3\x00"), []byte("\x89PNG"), []byte("\xff\xd8\xff"), []byte("GIF8"), []byte("%PDF"), []byte("\xd4\xc3\xb2\xa1"),
	[]byte("\xa1\xb2\xc3\xd4"), []byte("\x0a\x0d\x0d\x0a"), []byte("\xca\xfe\xba\xbe"), []byte("LPKSHHRH"), []byte("MZ\x90"), []byte("\xff\xfe"), []byte("\xfe\xff"),
}

// isOpaque tells from its beginning that a file is no text: it begins like a known binary form, or more than a tenth of
// it are control characters. A text file with NUL bytes at its end (as a power cut leaves them) is text.
func isOpaque(head []byte) bool {
	for _, m := range magics {
		if bytes.HasPrefix(head, m) {
			return true
		}
	}
	if len(head) > 262 && string(head[257:262]) == "ustar" {
		return true
	}
	body := bytes.TrimRight(head, "\x00")
	if len(body) == 0 {
		return false // empty, or nothing but NUL bytes
	}
	control := 0
	for _, c := range body {
		if c < 0x20 && c != '\n' && c != '\r' && c != '\t' && c != 0x1b && c != '\f' && c != '\b' || c == 0x7f {
			control++
		}
	}
	return control*10 > len(body)
}
