package spill

import (
	"hash/maphash"
	"math/bits"
)

// Hashes is a set of names, or of anything else that is bytes, which only knows whether something is in it. It keeps 64 bits of each,
// with a random key that nobody can make two names meet by: a million take some 10 MiB.
type Hashes struct{ t table }

// NewHashes makes an empty set.
func NewHashes() *Hashes { return &Hashes{newTable(false)} }

// Put adds something, and reports whether it was there.
func (h *Hashes) Put(b []byte) (there bool) {
	_, there = h.t.put(h.t.of(b))
	return there
}

// Has reports whether something is there.
func (h *Hashes) Has(b []byte) bool {
	_, there := h.t.at(h.t.of(b))
	return there
}

// Len is how many there are.
func (h *Hashes) Len() int { return h.t.n }

// Numbers keeps a number for each of many names, of which it keeps 64 bits as Hashes does: a million take some 20 MiB.
type Numbers struct{ t table }

// NewNumbers makes an empty one.
func NewNumbers() *Numbers { return &Numbers{newTable(true)} }

// Set keeps a number for a name, in the place of the one it had.
func (n *Numbers) Set(name string, number int64) {
	i, _ := n.t.put(n.t.of([]byte(name)))
	n.t.numbers[i] = number
}

// Get gives the number of a name.
func (n *Numbers) Get(name string) (number int64, there bool) {
	i, there := n.t.at(n.t.of([]byte(name)))
	if there {
		number = n.t.numbers[i]
	}
	return number, there
}

// Len is how many there are.
func (n *Numbers) Len() int { return n.t.n }

// table is open addressing, which grows by a quarter: doubling would leave it half empty for most of the time.
type table struct {
	seed    maphash.Seed
	slots   []uint64 // 0 is free
	numbers []int64  // beside the slots; nil where nothing is kept with them
	n       int
}

// firstSlots is how many a new table has; full and steps say when it grows, and by how much.
const (
	firstSlots = 64
	fullOf     = 6 // of 7
	growBy     = 4 // a quarter more
)

func newTable(numbers bool) table {
	t := table{seed: maphash.MakeSeed(), slots: make([]uint64, firstSlots)}
	if numbers {
		t.numbers = make([]int64, firstSlots)
	}
	return t
}

func (t *table) of(b []byte) uint64 { return max(maphash.Bytes(t.seed, b), 1) }

// at gives the slot of a hash: where it is, or where it would be.
func (t *table) at(hash uint64) (slot int, there bool) {
	first, _ := bits.Mul64(hash, uint64(len(t.slots)))
	i := int(first)
	for t.slots[i] != 0 && t.slots[i] != hash {
		if i++; i == len(t.slots) {
			i = 0
		}
	}
	return i, t.slots[i] == hash
}

// put makes sure that a hash is there.
func (t *table) put(hash uint64) (slot int, there bool) {
	if slot, there = t.at(hash); there {
		return slot, true
	}
	if (t.n+1)*(fullOf+1) > len(t.slots)*fullOf {
		t.grow()
		slot, _ = t.at(hash)
	}
	t.slots[slot] = hash
	t.n++
	return slot, false
}

func (t *table) grow() {
	old, numbers := t.slots, t.numbers
	t.slots = make([]uint64, len(old)+len(old)/growBy+firstSlots)
	if numbers != nil {
		t.numbers = make([]int64, len(t.slots))
	}
	for i, hash := range old {
		if hash == 0 {
			continue
		}
		at, _ := t.at(hash)
		t.slots[at] = hash
		if numbers != nil {
			t.numbers[at] = numbers[i]
		}
	}
}
