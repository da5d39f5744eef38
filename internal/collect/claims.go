package collect

import (
	"errors"
	"fmt"
	"hash/maphash"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"
)

// claims keeps two entries of one system from taking one place: nothing in raw/ is ever overwritten by another entry. Names and
// owners are kept as hashes with a random key, so that a million files take some 50 MiB and no system can make two of them meet.
type claims struct {
	mu   sync.Mutex
	seed maphash.Seed
	held map[uint64]claim // by name below the system's folder
}

// claim is one place: who has it and what is there.
type claim struct {
	owner  uint64 // item and source
	sum    uint64 // of the SHA-256 of the bytes
	shared bool   // several entries have it, with the same bytes
}

func newClaims() *claims { return &claims{seed: maphash.MakeSeed(), held: map[uint64]claim{}} }

func (c *claims) owner(e *Entry) uint64 { return maphash.String(c.seed, e.Item+"\x00"+e.Source) }

// hold notes what an interrupted run of the round took.
func (c *claims) hold(e *Entry) {
	k := maphash.String(c.seed, e.Name)
	was, known := c.held[k]
	now := claim{owner: c.owner(e), sum: maphash.String(c.seed, e.SHA256)}
	now.shared = known && (was.shared || was.owner != now.owner)
	c.held[k] = now
}

// free reports whether an entry may put its bytes under a name, and whether the same bytes are there already.
func (c *claims) free(name string, e *Entry) (free, there bool) {
	was, known := c.held[maphash.String(c.seed, name)]
	switch {
	case !known, was.owner == c.owner(e) && !was.shared:
		return true, false
	case was.sum == maphash.String(c.seed, e.SHA256):
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
func (w *work) settlePlace(part, want string, e *Entry) error {
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
				c.hold(e)
				return nil
			}
			if !inTheWay(err) { // a folder on the system is called like a file that another entry has
				return err
			}
		}
		name = otherPlace(want, w.item.ID, n)
	}
	return ours(fmt.Errorf("there is no free name for %s", want))
}

func (w *work) moveTo(part, name string, there bool, modified time.Time) error {
	if !there {
		return place(part, w.final(name), modified)
	}
	if _, err := os.Lstat(w.final(name)); err != nil { // somebody removed it
		return place(part, w.final(name), modified)
	}
	return ours(os.Remove(part))
}

func inTheWay(err error) bool {
	return errors.Is(err, syscall.ENOTDIR) || errors.Is(err, syscall.EISDIR) || errors.Is(err, os.ErrExist)
}
