package collect

import (
	"envask/internal/round"
	"hash/maphash"
)

// done is what a round has of one item on one system since an earlier try, or an earlier run: where in the round's log the entries
// stand, by the hash of their source, since it can be a million files. nil is nothing.
type done struct {
	round *round.Round
	seed  maphash.Seed
	at    map[uint64]int64 // offsets in the log
	bytes int64            // of the files
}

func newDone(r *round.Round) *done {
	return &done{round: r, seed: maphash.MakeSeed(), at: map[uint64]int64{}}
}

// hold notes an entry that stands at an offset of the log, if its file is here as a whole.
func (d *done) hold(e *round.Entry, offset int64) bool {
	if e.State != round.Taken || e.Name == "" || !d.round.Holds(e) {
		return false
	}
	d.at[maphash.String(d.seed, e.Source)] = offset
	d.bytes += e.Bytes
	return true
}

// get gives the entry of a source. A file that is not as it was any more is taken again.
func (d *done) get(source string) (round.Entry, bool) {
	if d == nil {
		return round.Entry{}, false
	}
	offset, ok := d.at[maphash.String(d.seed, source)]
	if !ok {
		return round.Entry{}, false
	}
	e, err := d.round.EntryAt(offset)
	return e, err == nil && e.Source == source && d.round.Holds(&e)
}

// each calls each for all of them.
func (d *done) each(each func(*round.Entry) error) error {
	if d == nil {
		return nil
	}
	for _, offset := range d.at {
		e, err := d.round.EntryAt(offset)
		if err == nil {
			err = each(&e)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// doneSince gives what the round has of an item on a system since its log was so long.
func doneSince(r *round.Round, offset int64, system, item string) (*done, error) {
	d := newDone(r)
	err := r.EachFrom(offset, func(l round.Line, at int64) error {
		if e := l.Entry; e != nil && e.System == system && e.Item == item {
			d.hold(e, at)
		}
		return nil
	})
	return d, err
}
