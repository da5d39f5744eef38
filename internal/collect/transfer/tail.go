package transfer

import (
	"bytes"
	"io"
	"os"
)

// Tail keeps the newest max bytes of what is written to it, in at most twice that space on disk and no memory: two
// halves take turns.
type Tail struct {
	Max      int64
	old, cur *os.File
	curLen   int64
	oldLen   int64
	Total    int64
	OnLocal  func(error) // told of a failure on our side
	Runaway  int64       // after this many bytes in all, stop is called
	Stop     func()
	OnWrite  func(int64) // told of bytes as they arrive; may be nil
	RanAway  bool
}

func NewTail(dir string, max int64) (*Tail, error) {
	t := &Tail{Max: max}
	for _, f := range []**os.File{&t.old, &t.cur} {
		var err error
		if *f, err = os.CreateTemp(dir, "output-*"); err != nil {
			t.Remove()
			return nil, Ours(err)
		}
	}
	return t, nil
}

func (t *Tail) Write(b []byte) (int, error) {
	given := len(b)
	t.Total += int64(given)
	if t.OnWrite != nil {
		t.OnWrite(int64(given))
	}
	if t.Runaway > 0 && t.Total > t.Runaway && !t.RanAway {
		t.RanAway = true
		t.Stop()
	}
	for len(b) > 0 {
		if t.curLen == t.Max {
			if err := t.turn(); err != nil {
				return 0, t.local(err)
			}
		}
		n := min(int64(len(b)), t.Max-t.curLen)
		if _, err := t.cur.Write(b[:n]); err != nil {
			return 0, t.local(err)
		}
		t.curLen += n
		b = b[n:]
	}
	return given, nil
}

func (t *Tail) local(err error) error {
	err = Ours(err)
	if t.OnLocal != nil {
		t.OnLocal(err)
	}
	return err
}

// turn makes the full half the old one and starts the other anew.
func (t *Tail) turn() error {
	t.old, t.cur = t.cur, t.old
	t.oldLen, t.curLen = t.curLen, 0
	if err := t.cur.Truncate(0); err != nil {
		return err
	}
	_, err := t.cur.Seek(0, io.SeekStart)
	return err
}

// Dropped is how many bytes at the beginning are not kept.
func (t *Tail) Dropped() int64 { return max(0, t.Total-t.Max) }

// CopyTo writes the newest max bytes.
func (t *Tail) CopyTo(w io.Writer) error {
	fromOld := min(t.oldLen, max(0, min(t.Total, t.Max)-t.curLen))
	if _, err := io.Copy(w, io.NewSectionReader(t.old, t.oldLen-fromOld, fromOld)); err != nil {
		return err
	}
	_, err := io.Copy(w, io.NewSectionReader(t.cur, 0, t.curLen))
	return err
}

// Begin gives the first bytes of what copyTo writes, as text.
func (t *Tail) Begin(n int64) string {
	fromOld := min(t.oldLen, max(0, min(t.Total, t.Max)-t.curLen))
	var b bytes.Buffer
	_, err := io.Copy(&b, io.NewSectionReader(t.old, t.oldLen-fromOld, min(n, fromOld)))
	if left := n - int64(b.Len()); err == nil && left > 0 {
		_, err = io.Copy(&b, io.NewSectionReader(t.cur, 0, min(left, t.curLen)))
	}
	if err != nil {
		return ""
	}
	return b.String()
}

func (t *Tail) Remove() {
	for _, f := range []*os.File{t.old, t.cur} {
		if f != nil {
			f.Close()
			os.Remove(f.Name())
		}
	}
}
