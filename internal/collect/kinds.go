package collect

import (
	"context"
	"fmt"
	"hash/maphash"
	"path/filepath"
	"sync"
	"sync/atomic"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/inbox"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/undo"
)

// kind takes one kind of item from a system. Each entry goes to work.add as soon as it is known. The error is for what
// stops the whole item, such as a lost connection; what concerns one file is an entry.
type kind struct {
	Key  string
	Take func(ctx context.Context, w *work) error
}

// kinds is the table of item kinds; its keys are those of the ask file.
var kinds = []kind{
	{"files", takeFiles},
	{"run", takeRun},
	{"journal", takeJournal},
	{"events", takeEvents},
	{"steps", takeSteps},
	{"vitals", takeVitals},
}

// Kinds lists the keys of the table.
func Kinds() []string {
	var keys []string
	for _, k := range kinds {
		keys = append(keys, k.Key)
	}
	return keys
}

// work is one item on one system while it is taken.
type work struct {
	req     *Request
	sys     *site.System
	item    *ask.Item
	target  reach.System
	round   *round.Round
	dryRun  bool
	probing bool  // in a dry run: whether commands are there is looked up
	done    *done // what an earlier try, or an interrupted run of this round, has already
	report  func(Event)
	clock   *round.Clock // of the system
	rates   *rates
	parts   *atomic.Int64
	claims  *claims // of the system's places in the round
	budget  *budget
	facts   *facts // of the system
	changes undo.Log
	member  string // the fellow for which commands are filled in; "" for none
	fellows func(ctx context.Context, spec *ask.Members) *round.Members
	inbox   *inbox.Exchange
	account *inbox.Account // of the item, while its command runs
	hide    []string       // what is typed and must not stand in sessions
	refused bool           // what had to be changed before it could not be

	mu      sync.Mutex
	again   map[string]again // by source, of an item that belongs to a group
	tally   *round.Tally
	seen    map[uint64]struct{} // hashes of the sources of what was added, where something is done already
	entries []round.Entry       // of a dry run
	err     error               // the first failure to write an entry down
}

// add records an entry.
func (w *work) add(e round.Entry) {
	e.System, e.Item = w.sys.Name, w.item.ID
	e.Reason = w.round.Bounded(e.System, e.Item, e.Reason)
	w.mu.Lock()
	w.tally.Add(&e)
	if w.dryRun {
		w.entries = append(w.entries, e)
	}
	if w.done != nil {
		w.seen[maphash.String(w.done.seed, e.Source)] = struct{}{}
	}
	w.mu.Unlock()
	if !w.dryRun {
		w.write(&e)
	}
	w.report(Event{Kind: FileDone, System: w.sys.Name, Item: w.item.ID, Entry: &e})
}

// write writes an entry down, and where it has a place, who has that.
func (w *work) write(e *round.Entry) {
	offset, err := w.round.Record(round.Line{Entry: e})
	if err != nil {
		w.fail(&transfer.LocalError{Err: err})
		return
	}
	if e.Name != "" {
		w.claims.mu.Lock()
		w.claims.hold(e, offset)
		w.claims.mu.Unlock()
	}
}

// runner gives what runs the item's commands: with the system's elevation where the item says so. why says why there is none.
func (w *work) runner() (run reach.Runner, why string) {
	r, ok := w.target.(reach.Runner)
	if !ok {
		return nil, "this system cannot run commands"
	}
	if !w.item.Elevated {
		return r, ""
	}
	e, ok := w.target.(reach.Elevator)
	if w.sys.Elevate == "" && w.item.ElevatedIfGiven {
		return r, ""
	}
	if !ok || w.sys.Elevate == "" {
		return nil, "it needs more rights than the account has: give elevate: for this system in the systems file"
	}
	return reach.WithElevation(e), ""
}

// keepVanished counts what an interrupted run of this round took and the system does not have any more.
func (w *work) keepVanished() error {
	return w.done.each(func(e *round.Entry) error {
		if _, seen := w.seen[maphash.String(w.done.seed, e.Source)]; !seen {
			w.tally.Add(e)
		}
		return nil
	})
}

func (w *work) fail(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.err == nil {
		w.err = err
	}
}

func (w *work) failure() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.err
}

// count reports bytes as they arrive.
func (w *work) count(n int64) {
	w.report(Event{Kind: Progress, System: w.sys.Name, Item: w.item.ID, Bytes: n})
}

// final gives the place of a file in the round.
func (w *work) final(name string) string {
	return filepath.Join(w.round.RawDir(), w.sys.Name, filepath.FromSlash(name))
}

// remember notes where a file of a group stands, to be read once more.
func (w *work) remember(source string, a again) {
	if w.item.Together == "" {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.again == nil {
		w.again = map[string]again{}
	}
	w.again[source] = a
}

// part gives a place for what is not whole yet.
func (w *work) part() string {
	return filepath.Join(w.round.PartDir(), fmt.Sprintf("%d.part", w.parts.Add(1)))
}
