package collect

import (
	"envask/internal/collect/transfer"
	"envask/internal/round"
	"envask/internal/spill"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"
)

// claims keeps two entries of one system from taking one place: nothing in raw/ is ever overwritten by another entry. Names are kept
// as hashes with a random key, with where in the round's log the entry stands that has the place, so that a million files take some
// 20 MiB and no system can make two of them meet.
type claims struct {
	mu    sync.Mutex
	round *round.Round
	held  *spill.Numbers          // by name below the system's folder: twice the offset in the log, and 1 if several entries share it
	fresh map[string]*round.Entry // whose entries do not stand in the log yet
}

const sharedClaim = 1

func newClaims(r *round.Round) *claims {
	return &claims{round: r, held: spill.NewNumbers(), fresh: map[string]*round.Entry{}}
}

func sameOwner(a, b *round.Entry) bool { return a.Item == b.Item && a.Source == b.Source }

// hold notes that an entry which has a place stands at an offset of the log.
func (c *claims) hold(e *round.Entry, offset int64) {
	was, known := c.held.Get(e.Name)
	shared := was & sharedClaim
	if known && shared == 0 {
		if old, err := c.round.EntryAt(was >> 1); err != nil || !sameOwner(&old, e) {
			shared = sharedClaim
		}
	}
	delete(c.fresh, e.Name)
	c.held.Set(e.Name, offset<<1|shared)
}

// free reports whether an entry may put its bytes under a name, and whether the same bytes are there already.
func (c *claims) free(name string, e *round.Entry) (free, there bool) {
	old, shared := c.fresh[name], false
	if old == nil {
		was, known := c.held.Get(name)
		if !known {
			return true, false
		}
		entry, err := c.round.EntryAt(was >> 1)
		if err != nil || entry.Name != name {
			return false, false // whose it is cannot be told: another place is safe
		}
		old, shared = &entry, was&sharedClaim != 0
	}
	switch {
	case sameOwner(old, e) && !shared:
		return true, false
	case old.SHA256 == e.SHA256:
		return true, true
	}
	return false, false
}

// maxPlaces bounds how many names are tried for one entry.
const maxPlaces = 1000

// otherPlace gives the nth name to try for an entry whose own name another one has: first a folder of the item.
func otherPlace(want, item string, n int) string {
	if rest, ok := strings.CutPrefix(want, "files/"); ok {
		want = shortTarget("files-of/" + item + "/" + rest)
	}
	if n == 1 {
		return want
	}
	return fmt.Sprintf("%s%%~%d", want, n)
}

// settlePlace gives what is whole its final name: the wanted one, unless another entry has that with other bytes. With the same
// bytes both name one file. The entry needs its source, SHA-256 and time of change; it gets its name.
func (w *work) settlePlace(part, want string, e *round.Entry) error {
	e.Item = w.item.ID
	c := w.claims
	c.mu.Lock()
	defer c.mu.Unlock()
	name := want
	for n := 1; n <= maxPlaces; n++ {
		if free, there := c.free(name, e); free {
			err := w.moveTo(part, name, there, e.ModTime)
			if err == nil {
				e.Name = name
				mine := *e
				c.fresh[name] = &mine // until it stands in the log
				return nil
			}
			if !inTheWay(err) { // a folder on the system is called like a file that another entry has
				return err
			}
		}
		name = otherPlace(want, w.item.ID, n)
	}
	return transfer.Ours(fmt.Errorf("there is no free name for %s", want))
}

func (w *work) moveTo(part, name string, there bool, modified time.Time) error {
	if !there {
		return transfer.Place(part, w.final(name), modified)
	}
	if _, err := os.Lstat(w.final(name)); err != nil { // somebody removed it
		return transfer.Place(part, w.final(name), modified)
	}
	return transfer.Ours(os.Remove(part))
}

func inTheWay(err error) bool {
	return errors.Is(err, syscall.ENOTDIR) || errors.Is(err, syscall.EISDIR) || errors.Is(err, os.ErrExist)
}
