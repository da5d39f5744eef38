package redact

// A wordEnds says which words can end before a place, by their last four letters: it rules out nearly all places for the
// price of one look. It never rules out a word that is in it.
type wordEnds [1 << 12]bool

func newWordEnds(sets ...map[string]bool) *wordEnds {
	e := new(wordEnds)
	for _, set := range sets {
		for w := range set {
			e[endHash([]byte(w), len(w))] = true
		}
	}
	return e
}

// before says whether one of the words may end before a place.
func (e *wordEnds) before(b []byte, at int) bool { return e[endHash(b, at)] }

// endHash makes a number of the last four letters of the word that ends before a place, or of fewer if it is shorter.
func endHash(b []byte, at int) uint32 {
	h := uint32(0)
	for i := at - 1; i >= 0 && i >= at-4; i-- {
		c := b[i]
		if !isWord(c) && c != '-' {
			break
		}
		h = h<<8 | uint32(c|0x20)
	}
	return h * 2654435761 >> 20
}

// A gramSet says which three letters some words begin with.
type gramSet [1 << 12]bool

func (g *gramSet) add(word string) {
	g[(uint32(word[0])|uint32(word[1])<<8|uint32(word[2])<<16)*2654435761>>20] = true
}

func (g *gramSet) has(b []byte, at int) bool {
	_ = b[at+2]
	return g[(uint32(b[at])|uint32(b[at+1])<<8|uint32(b[at+2])<<16)*2654435761>>20]
}
