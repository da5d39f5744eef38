package chars

import (
	"strings"
)

// A wordEnds says which words can end before a place, by their last four letters: it rules out nearly all places for the
// price of one look. It never rules out a word that is in it.
type WordEnds [1 << 12]bool

// NewWordEnds keeps the ends of words.
func NewWordEnds(sets ...map[string]bool) *WordEnds {
	e := new(WordEnds)
	for _, set := range sets {
		for w := range set {
			e[endHash([]byte(w), len(w))] = true
		}
	}
	return e
}

// Before says whether one of the words may end before a place.
func (e *WordEnds) Before(b []byte, at int) bool { return e[endHash(b, at)] }

// endHash makes a number of the last four letters of the word that ends before a place, or of fewer if it is shorter.
func endHash(b []byte, at int) uint32 {
	h := uint32(0)
	for i := at - 1; i >= 0 && i >= at-4; i-- {
		c := b[i]
		if !IsWord(c) && c != '-' {
			break
		}
		h = h<<8 | uint32(c|0x20)
	}
	return h * 2654435761 >> 20
}

// A gramSet says which three letters some words begin with.
type GramSet [1 << 12]bool

// Add adds the first three letters of a word.
func (g *GramSet) Add(word string) {
	g[(uint32(word[0])|uint32(word[1])<<8|uint32(word[2])<<16)*2654435761>>20] = true
}

// Has reports whether the three letters at a place are among them.
func (g *GramSet) Has(b []byte, at int) bool {
	_ = b[at+2]
	return g[(uint32(b[at])|uint32(b[at+1])<<8|uint32(b[at+2])<<16)*2654435761>>20]
}

// WordSet gives the set of the words of a text.
func WordSet(words string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(words) {
		m[w] = true
	}
	return m
}

// wordList is a set of words in small letters of which most of what is asked for is none: length, first and last letter say so
// quickly.
type wordList struct {
	words map[string]bool
	may   [64]uint64
}

// NewWordList makes a list of sets of words that is asked without copies.
func NewWordList(sets ...map[string]bool) *wordList {
	l := &wordList{words: map[string]bool{}}
	for _, set := range sets {
		for w := range set {
			l.words[w] = true
			h := wordHash(len(w), w[0], w[len(w)-1])
			l.may[h>>6&63] |= 1 << (h & 63)
		}
	}
	return l
}

func wordHash(n int, first, last byte) uint {
	return uint(n)*131 ^ uint(first&0x1f)<<7 ^ uint(last&0x1f)<<2
}

// Has says whether a word is in the list, in capitals or small letters.
func (l *wordList) Has(word []byte) bool {
	n := len(word)
	if n == 0 {
		return false
	}
	h := wordHash(n, word[0], word[n-1])
	if l.may[h>>6&63]>>(h&63)&1 == 0 && word[0] < 0x80 && word[n-1] < 0x80 {
		return false
	}
	return HasWord(l.words, word)
}

// HasWord says whether a word is in a set of words in small letters.
func HasWord(set map[string]bool, word []byte) bool {
	var buf [32]byte
	return set[string(Lowered(&buf, word))]
}
