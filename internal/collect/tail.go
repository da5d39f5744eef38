package collect

import (
	"bytes"
	"io"
	"os"
)

// tailFile keeps the newest max bytes of what is written to it, in at most twice that space on disk and no memory: two
// halves take turns.
type tailFile struct {
	max      int64
	old, cur *os.File
	curLen   int64
	oldLen   int64
	total    int64
	onLocal  func(error) // told of a failure on our side
	runaway  int64       // after this many bytes in all, stop is called
	stop     func()
	onWrite  func(int64) // told of bytes as they arrive; may be nil
	onlyOnce bool
}

func newTailFile(dir string, max int64) (*tailFile, error) {
	t := &tailFile{max: max}
	for _, f := range []**os.File{&t.old, &t.cur} {
		var err error
		if *f, err = os.CreateTemp(dir, "output-*"); err != nil {
			t.remove()
			return nil, ours(err)
		}
	}
	return t, nil
}

func (t *tailFile) Write(b []byte) (int, error) {
	given := len(b)
	t.total += int64(given)
	if t.onWrite != nil {
		t.onWrite(int64(given))
	}
	if t.runaway > 0 && t.total > t.runaway && !t.onlyOnce {
		t.onlyOnce = true
		t.stop()
	}
	for len(b) > 0 {
		if t.curLen == t.max {
			if err := t.turn(); err != nil {
				return 0, t.local(err)
			}
		}
		n := min(int64(len(b)), t.max-t.curLen)
		if _, err := t.cur.Write(b[:n]); err != nil {
			return 0, t.local(err)
		}
		t.curLen += n
		b = b[n:]
	}
	return given, nil
}

func (t *tailFile) local(err error) error {
	err = ours(err)
	if t.onLocal != nil {
		t.onLocal(err)
	}
	return err
}

// turn makes the full half the old one and starts the other anew.
func (t *tailFile) turn() error {
	t.old, t.cur = t.cur, t.old
	t.oldLen, t.curLen = t.curLen, 0
	if err := t.cur.Truncate(0); err != nil {
		return err
	}
	_, err := t.cur.Seek(0, io.SeekStart)
	return err
}

// dropped is how many bytes at the beginning are not kept.
func (t *tailFile) dropped() int64 { return max(0, t.total-t.max) }

// copyTo writes the newest max bytes.
func (t *tailFile) copyTo(w io.Writer) error {
	fromOld := min(t.oldLen, max(0, min(t.total, t.max)-t.curLen))
	if _, err := io.Copy(w, io.NewSectionReader(t.old, t.oldLen-fromOld, fromOld)); err != nil {
		return err
	}
	_, err := io.Copy(w, io.NewSectionReader(t.cur, 0, t.curLen))
	return err
}

// begin gives the first bytes of what copyTo writes, as text.
func (t *tailFile) begin(n int64) string {
	fromOld := min(t.oldLen, max(0, min(t.total, t.max)-t.curLen))
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

func (t *tailFile) remove() {
	for _, f := range []*os.File{t.old, t.cur} {
		if f != nil {
			f.Close()
			os.Remove(f.Name())
		}
	}
}
