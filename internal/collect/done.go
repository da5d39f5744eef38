package collect

import (
	"bufio"
	"hash/maphash"
	"io"
	"math"
	"os"
	"path/filepath"
)

// done is what a round has of one item on one system since an earlier try, or an earlier run: where in the round's log the entries
// stand, by the hash of their source, since it can be a million files. nil is nothing.
type done struct {
	round *Round
	seed  maphash.Seed
	at    map[uint64]int64 // offsets in the log
	bytes int64            // of the files
}

func newDone(r *Round) *done {
	return &done{round: r, seed: maphash.MakeSeed(), at: map[uint64]int64{}}
}

// hold notes an entry that stands at an offset of the log, if its file is here as a whole.
func (d *done) hold(e *Entry, offset int64) bool {
	if e.State != Taken || e.Name == "" || !d.round.holds(e) {
		return false
	}
	d.at[maphash.String(d.seed, e.Source)] = offset
	d.bytes += e.Bytes
	return true
}

// get gives the entry of a source. A file that is not as it was any more is taken again.
func (d *done) get(source string) (Entry, bool) {
	if d == nil {
		return Entry{}, false
	}
	offset, ok := d.at[maphash.String(d.seed, source)]
	if !ok {
		return Entry{}, false
	}
	e, err := d.round.entryAt(offset)
	return e, err == nil && e.Source == source && d.round.holds(&e)
}

// each calls each for all of them.
func (d *done) each(each func(*Entry) error) error {
	if d == nil {
		return nil
	}
	for _, offset := range d.at {
		e, err := d.round.entryAt(offset)
		if err == nil {
			err = each(&e)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// holds reports whether the file of an entry is here, and of its size.
func (r *Round) holds(e *Entry) bool {
	info, err := os.Lstat(filepath.Join(r.RawDir(), e.System, filepath.FromSlash(e.Name)))
	return err == nil && info.Size() == e.Bytes
}

// entryAt reads the entry that stands at an offset of the open log.
func (r *Round) entryAt(offset int64) (e Entry, err error) {
	err = readFrom(r.log, offset, func(l line, _ int64) error {
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

// doneSince gives what the round has of an item on a system since its log was so long.
func (r *Round) doneSince(offset int64, system, item string) (*done, error) {
	d := newDone(r)
	err := readFrom(r.log, offset, func(l line, at int64) error {
		if e := l.Entry; e != nil && e.System == system && e.Item == item {
			d.hold(e, at)
		}
		return nil
	})
	return d, err
}

// readFrom calls each for every whole line of a log from an offset on, with its own offset.
func readFrom(log io.ReaderAt, offset int64, each func(line, int64) error) error {
	in := bufio.NewReaderSize(io.NewSectionReader(log, offset, math.MaxInt64-offset), 4<<10)
	_, err := readLines(in, func(l line, at int64) error { return each(l, offset+at) })
	return err
}
