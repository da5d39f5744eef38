package round

import (
	"bufio"
	"bytes"
	"cmp"
	"envask/internal/durable"
	"errors"
	"io"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"syscall"
	"time"

	"github.com/go-json-experiment/json/v1"
)

// Line is one line of a round's log: an entry, a cell that is done, a clock that was read, or how a system was reached.
type Line struct {
	Entry   *Entry   `json:"entry,omitempty"`
	Cell    *Cell    `json:"cell,omitempty"`
	Clock   *Clock   `json:"clock,omitempty"`
	Place   *Place   `json:"place,omitempty"`
	Members *Members `json:"members,omitempty"`
}

// System gives the system that a line is about.
func (l Line) System() string {
	switch {
	case l.Entry != nil:
		return l.Entry.System
	case l.Cell != nil:
		return l.Cell.System
	case l.Members != nil:
		return l.Members.System
	}
	return ""
}

// OpenLog opens the round's log for more entries, after dropping a torn last line.
func (r *Round) OpenLog() error {
	for _, d := range []string{r.RawDir(), r.PartDir()} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return err
		}
	}
	f, err := os.OpenFile(r.LogFile(), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	good, err := readLines(f, nil)
	if err == nil {
		err = f.Truncate(good)
	}
	if err != nil {
		f.Close()
		return err
	}
	r.log, r.logged = f, good
	return nil
}

// A line that does not fit on a full disk is tried again for a while.
const (
	recordTries = 10
	recordPause = 100 * time.Millisecond
)

// Record writes one line down, and gives where it stands in the log. Cells are flushed to the disk, and with them the entries before
// them.
func (r *Round) Record(l Line) (offset int64, err error) {
	data, err := json.Marshal(l)
	if err != nil {
		return 0, err
	}
	data = append(data, '\n')
	r.mu.Lock()
	defer r.mu.Unlock()
	offset = r.logged
	for try := 0; ; try++ {
		if _, err = r.log.WriteAt(data, offset); err == nil {
			break
		}
		if !errors.Is(err, syscall.ENOSPC) || try == recordTries {
			return 0, err
		}
		if err := r.log.Truncate(offset); err != nil { // half a line would spoil what follows
			return 0, err
		}
		time.Sleep(recordPause) // evidence that does not fit is removed meanwhile
	}
	r.logged += int64(len(data))
	durable.Point("after a line of the round")
	if l.Cell != nil {
		return offset, r.log.Sync()
	}
	return offset, nil
}

// Length is how long the log is.
func (r *Round) Length() int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.logged
}

// CloseLog ends the log. An interrupted run does not wait for the disk: what it wrote can be gone on with as far as it got there.
func (r *Round) CloseLog(flush bool) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.log == nil {
		return nil
	}
	var err error
	if flush {
		err = r.log.Sync()
	}
	err = errors.Join(err, r.log.Close())
	r.log = nil
	return err
}

// readLines calls each for every whole line, with its offset, and gives the length of the good part.
func readLines(f io.Reader, each func(Line, int64) error) (good int64, err error) {
	br, ok := f.(*bufio.Reader)
	if !ok {
		br = bufio.NewReaderSize(f, 256<<10)
	}
	for {
		text, err := br.ReadBytes('\n')
		if err == io.EOF {
			return good, nil // what stands behind the last line end was torn off
		}
		if err != nil {
			return good, err
		}
		var l Line
		if err := json.Unmarshal(bytes.TrimSuffix(text, []byte("\n")), &l); err != nil {
			return good, nil // a torn line in the middle: a full disk; what follows it cannot be trusted
		}
		if l.Cell != nil {
			l.Cell.Code = codeOfOld(*l.Cell)
		}
		if each != nil {
			if err := each(l, good); err != nil {
				return good, err
			}
		}
		good += int64(len(text))
	}
}

// Entries calls each for the entries of the round: for every item on every system those of the last time that it was
// taken, sorted by system, item and source.
func (r *Round) Entries(each func(Entry) error) error {
	brought, err := r.Brought()
	if err != nil {
		return err
	}
	if !r.Sorted {
		all, err := r.entries()
		if err != nil {
			return err
		}
		all = append(all, brought...)
		Sort(all)
		return eachOf(all, each)
	}
	err = r.EachLine(func(l Line, _ int64) error {
		if l.Entry == nil {
			return nil
		}
		for len(brought) > 0 && before(&brought[0], l.Entry) {
			if err := each(brought[0]); err != nil {
				return err
			}
			brought = brought[1:]
		}
		return each(*l.Entry)
	})
	if err != nil {
		return err
	}
	return eachOf(brought, each)
}

func eachOf(list []Entry, each func(Entry) error) error {
	for _, e := range list {
		if err := each(e); err != nil {
			return err
		}
	}
	return nil
}

// NewestLines gives the time of the newest dated line of each system, in all files whose lines were dated, also those outside the window.
func (r *Round) NewestLines() (map[string]time.Time, error) {
	newest := map[string]time.Time{}
	err := r.EachLine(func(l Line, _ int64) error {
		if e := l.Entry; e != nil && e.Last.After(newest[e.System]) {
			newest[e.System] = e.Last
		}
		return nil
	})
	return newest, err
}

type key struct{ system, item, source string }

// entries gives them of a log that was not sorted yet: of a round that is not finished, or was finished by an older version.
func (r *Round) entries() ([]Entry, error) {
	last := map[key]Entry{}
	err := r.EachLine(func(l Line, _ int64) error {
		if l.Entry != nil {
			last[key{l.Entry.System, l.Entry.Item, l.Entry.Source}] = *l.Entry
		}
		return nil
	})
	out := make([]Entry, 0, len(last))
	for _, e := range last {
		out = append(out, e)
	}
	Sort(out)
	return out, err
}

// Sort sorts by system, item and source.
func Sort(out []Entry) {
	sort.SliceStable(out, func(i, j int) bool { return before(&out[i], &out[j]) })
}

func before(a, b *Entry) bool {
	return cmp.Or(strings.Compare(a.System, b.System), strings.Compare(a.Item, b.Item), strings.Compare(a.Source, b.Source)) < 0
}

func (r *Round) EachLine(each func(Line, int64) error) error {
	f, err := os.Open(r.LogFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = readLines(f, each)
	return err
}

// Holds reports whether the file of an entry is here, and of its size.
func (r *Round) Holds(e *Entry) bool {
	info, err := os.Lstat(filepath.Join(r.RawDir(), e.System, filepath.FromSlash(e.Name)))
	return err == nil && info.Size() == e.Bytes
}

// EntryAt reads the entry that stands at an offset of the open log.
func (r *Round) EntryAt(offset int64) (e Entry, err error) {
	err = r.EachFrom(offset, func(l Line, _ int64) error {
		if l.Entry != nil {
			e = *l.Entry
		}
		return io.EOF
	})
	if err == io.EOF {
		err = nil
	}
	return e, err
}

// EachFrom calls each for every whole line of the open log from an offset on, with its own offset.
func (r *Round) EachFrom(offset int64, each func(Line, int64) error) error {
	in := bufio.NewReaderSize(io.NewSectionReader(r.log, offset, math.MaxInt64-offset), 4<<10)
	_, err := readLines(in, func(l Line, at int64) error { return each(l, offset+at) })
	return err
}
