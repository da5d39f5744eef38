package spill

import (
	"bufio"
	"bytes"
	"encoding/gob"
	"errors"
	"io"
	"os"
)

// kept is how much of a list stays in memory, in bytes.
const kept = 1 << 20

// List keeps records in the order in which they were added. It may be read again and again, but nothing is added after it was read
// first. Fields of a record that are not exported are lost, as gob has it. The zero value is not usable.
type List[T any] struct {
	dir  string
	out  swap
	enc  *gob.Encoder
	n    int
	read bool
}

// NewList begins a list whose file, if it needs one, lies in a folder; "" keeps all of it in memory.
func NewList[T any](dir string) *List[T] {
	l := &List[T]{dir: dir, out: swap{dir: dir}}
	l.enc = gob.NewEncoder(&l.out)
	return l
}

// errRead is the error for adding to a list that was read already.
var errRead = errors.New("the list was read already")

// Add adds a record.
func (l *List[T]) Add(record *T) error {
	if l.read {
		return errRead
	}
	l.n++
	return l.enc.Encode(record)
}

// Len is how many records there are.
func (l *List[T]) Len() int { return l.n }

// Reader gives the records from the first on. Several readers may be used beside each other.
func (l *List[T]) Reader() (*Reader[T], error) {
	l.read = true
	in, err := l.out.reader()
	if err != nil {
		return nil, err
	}
	return &Reader[T]{dec: gob.NewDecoder(in), left: l.n}, nil
}

// Each calls each for every record, in order.
func (l *List[T]) Each(each func(*T) error) error {
	r, err := l.Reader()
	if err != nil {
		return err
	}
	for {
		record, err := r.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if err := each(record); err != nil {
			return err
		}
	}
}

// Close removes what waits on the disk.
func (l *List[T]) Close() error { return l.out.close() }

// Reader reads a list.
type Reader[T any] struct {
	dec  *gob.Decoder
	left int
}

// Next gives the next record, or io.EOF.
func (r *Reader[T]) Next() (*T, error) {
	if r.left == 0 {
		return nil, io.EOF
	}
	r.left--
	record := new(T)
	if err := r.dec.Decode(record); err != nil {
		if errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
		return nil, err
	}
	return record, nil
}

// swap holds bytes in memory, and from some size on in a file.
type swap struct {
	dir  string
	mem  bytes.Buffer
	file *os.File
	buf  *bufio.Writer
	size int64
}

func (s *swap) Write(b []byte) (int, error) {
	if s.file == nil && s.dir != "" && s.mem.Len()+len(b) > kept {
		f, err := os.CreateTemp(s.dir, "list-*")
		if err != nil {
			return 0, err
		}
		s.file, s.buf = f, bufio.NewWriterSize(f, 128<<10)
		if _, err := s.buf.Write(s.mem.Bytes()); err != nil {
			return 0, err
		}
		s.mem = bytes.Buffer{}
	}
	s.size += int64(len(b))
	if s.file != nil {
		return s.buf.Write(b)
	}
	return s.mem.Write(b)
}

func (s *swap) reader() (io.Reader, error) {
	if s.file == nil {
		return bytes.NewReader(s.mem.Bytes()), nil
	}
	if err := s.buf.Flush(); err != nil {
		return nil, err
	}
	return bufio.NewReaderSize(io.NewSectionReader(s.file, 0, s.size), 128<<10), nil
}

func (s *swap) close() error {
	if s.file == nil {
		return nil
	}
	return errors.Join(s.file.Close(), os.Remove(s.file.Name()))
}
