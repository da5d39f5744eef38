package chars

import (
	"iter"
	"strings"
	"sync/atomic"
)

// A wordEnds says which words can end before a place, by their last four letters: it rules out nearly all places for the
// price of one look. It never rules out a word that is in it.
type WordEnds [1 << 12]bool

// NewWordEnds keeps the ends of words.
func NewWordEnds(sets ...iter.Seq[string]) *WordEnds {
	e := new(WordEnds)
	for _, words := range sets {
		for w := range words {
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

// Pairs are two bytes that follow each other.
type Pairs [1 << 16]bool

// Add adds two bytes.
func (p *Pairs) Add(first, second byte) { p[int(first)<<8|int(second)] = true }

// Has says whether two bytes are among them.
func (p *Pairs) Has(first, second byte) bool { return p[int(first)<<8|int(second)] }

// A Late table is built when it is asked for first: a program that only shows its help pays for none.
type Late[T any] struct {
	Build func() *T
	built atomic.Pointer[T]
}

// Get gives the table.
func (l *Late[T]) Get() *T {
	if t := l.built.Load(); t != nil {
		return t
	}
	return l.first()
}

func (l *Late[T]) first() *T {
	l.built.CompareAndSwap(nil, l.Build()) // two at once build the same
	return l.built.Load()
}

// Words is a set of words, given as a text.
type Words struct {
	text  string
	built atomic.Pointer[map[string]bool]
}

// WordSet gives the set of the words of a text.
func WordSet(words string) *Words { return &Words{text: words} }

// Has says whether a word is in the set.
func (w *Words) Has(word string) bool { return w.All()[word] }

// HasBytes says whether a word is in the set.
func (w *Words) HasBytes(word []byte) bool { return w.All()[string(word)] }

// All gives the words. They are not to be changed.
func (w *Words) All() map[string]bool {
	if m := w.built.Load(); m != nil {
		return *m
	}
	return w.first()
}

func (w *Words) first() map[string]bool {
	m := map[string]bool{}
	for word := range strings.FieldsSeq(w.text) {
		m[word] = true
	}
	w.built.CompareAndSwap(nil, &m)
	return m
}

// A WordList is a set of words in small letters of which most of what is asked for is none: length, first and last letter say so
// quickly.
type WordList struct {
	sets  []*Words
	built atomic.Pointer[listed]
}

type listed struct {
	words map[string]bool
	may   [64]uint64
}

// NewWordList makes a list of sets of words that is asked without copies.
func NewWordList(sets ...*Words) *WordList { return &WordList{sets: sets} }

func (l *WordList) first() *listed {
	t := &listed{words: map[string]bool{}}
	for _, set := range l.sets {
		for w := range set.All() {
			t.words[w] = true
			h := wordHash(len(w), w[0], w[len(w)-1])
			t.may[h>>6&63] |= 1 << (h & 63)
		}
	}
	l.built.CompareAndSwap(nil, t)
	return t
}

func wordHash(n int, first, last byte) uint {
	return uint(n)*131 ^ uint(first&0x1f)<<7 ^ uint(last&0x1f)<<2
}

// Has says whether a word is in the list, in capitals or small letters.
func (l *WordList) Has(word []byte) bool {
	n := len(word)
	if n == 0 {
		return false
	}
	t := l.built.Load()
	if t == nil {
		t = l.first()
	}
	h := wordHash(n, word[0], word[n-1])
	if t.may[h>>6&63]>>(h&63)&1 == 0 && word[0] < 0x80 && word[n-1] < 0x80 {
		return false
	}
	return hasWord(t.words, word)
}

// HasWord says whether a word is in a set of words in small letters.
func HasWord(set *Words, word []byte) bool { return hasWord(set.All(), word) }

func hasWord(set map[string]bool, word []byte) bool {
	var buf [32]byte
	return set[string(Lowered(&buf, word))]
}
