package form

import (
	"bytes"
	"errors"
	"io"
	"os"
)

// spoolMemory is how much of a member is kept in memory before it goes to a temporary file, in bytes.
const spoolMemory = 1 << 20

var errNoTemp = errors.New("there is no folder for temporary files")

// spool keeps what is written until its length is known: short things in memory, long ones in a temporary file.
type spool struct {
	dir  string
	buf  bytes.Buffer
	file *os.File
	n    int64
}

func (s *spool) Write(b []byte) (int, error) {
	if s.file == nil && s.buf.Len()+len(b) > spoolMemory {
		if s.dir == "" { // never the system's: what is kept here is evidence, and a kill leaves it
			return 0, errNoTemp
		}
		f, err := os.CreateTemp(s.dir, "member-*")
		if err != nil {
			return 0, err
		}
		s.file = f
		if _, err := f.Write(s.buf.Bytes()); err != nil {
			return 0, err
		}
		s.buf.Reset()
	}
	s.n += int64(len(b))
	if s.file != nil {
		return s.file.Write(b)
	}
	return s.buf.Write(b)
}

// ReadAt reads what was written.
func (s *spool) ReadAt(b []byte, off int64) (int, error) {
	if s.file != nil {
		return s.file.ReadAt(b, off)
	}
	return bytes.NewReader(s.buf.Bytes()).ReadAt(b, off)
}

// copyTo writes everything to w.
func (s *spool) copyTo(w io.Writer) error {
	_, err := io.Copy(w, io.NewSectionReader(s, 0, s.n))
	return err
}

// Close forgets it all.
func (s *spool) Close() {
	if s.file != nil {
		s.file.Close()
		os.Remove(s.file.Name())
	}
}
