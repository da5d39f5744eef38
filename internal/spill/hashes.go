package spill

import "hash/maphash"

// Hashes is a set of names, or of anything else that is bytes, which only knows whether something is in it. It keeps 64 bits of each,
// with a random key that nobody can make two names meet by: a million take 16 MiB.
type Hashes struct {
	seed  maphash.Seed
	slots []uint64 // open addressing; 0 is free
	n     int
}

// NewHashes makes an empty set.
func NewHashes() *Hashes { return &Hashes{seed: maphash.MakeSeed(), slots: make([]uint64, 64)} }

func (h *Hashes) of(b []byte) uint64 { return max(maphash.Bytes(h.seed, b), 1) }

// at gives the slot of a hash: where it is, or where it would be.
func (h *Hashes) at(hash uint64) int {
	mask := len(h.slots) - 1
	i := int(hash) & mask
	for h.slots[i] != 0 && h.slots[i] != hash {
		i = (i + 1) & mask
	}
	return i
}

// Put adds something, and reports whether it was there.
func (h *Hashes) Put(b []byte) (there bool) {
	hash := h.of(b)
	i := h.at(hash)
	if h.slots[i] == hash {
		return true
	}
	h.slots[i] = hash
	if h.n++; h.n*4 > len(h.slots)*3 {
		old := h.slots
		h.slots = make([]uint64, 2*len(old))
		for _, x := range old {
			if x != 0 {
				h.slots[h.at(x)] = x
			}
		}
	}
	return false
}

// Has reports whether something is there.
func (h *Hashes) Has(b []byte) bool {
	hash := h.of(b)
	return h.slots[h.at(hash)] == hash
}

// Len is how many there are.
func (h *Hashes) Len() int { return h.n }
