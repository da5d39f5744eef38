package redact

import (
	"encoding/binary"
	"math/bits"
	"sort"
)

// Matcher finds learned values anywhere in text, also as they are written within other texts (see writtenForms). It is safe
// for use from several goroutines.
//
// Four bytes of the text are looked up in a set of bits at every third place: whatever is at least six bytes long has four
// bytes that begin at such a place. Shorter values have a set of their own, which is asked at every place, and only if there
// are such values.
type Matcher struct {
	long, short grams
	size        int
}

// A match is one place at which a learned value stands.
type match struct {
	Value
	start, end int
}

// entry is a text to be found, and the value that it stands for.
type entry struct {
	text   string
	value  Value
	base64 bool // the text is the heart of the value in base64: all of the base64 around it goes
}

// grams finds entries by four of their bytes.
type grams struct {
	bits    []uint32
	shift   int
	stride  int
	buckets map[uint32]*[gramStride][]entry // by the four bytes at each of the first stride places, sorted by text
}

const (
	gramStride = 3
	minLong    = gramStride + 3 // the length from which on every third place is enough, in bytes
)

func newGrams(entries []entry, stride int) grams {
	g := grams{stride: stride, buckets: map[uint32]*[gramStride][]entry{}}
	words := 10
	for words < 17 && 1<<words < len(entries)*stride {
		words++
	}
	g.bits, g.shift = make([]uint32, 1<<words), 32-words
	for _, e := range entries {
		for o := range stride {
			key := binary.LittleEndian.Uint32([]byte(e.text[o : o+4]))
			word, mask := g.hash(key)
			g.bits[word] |= mask
			if g.buckets[key] == nil {
				g.buckets[key] = new([gramStride][]entry)
			}
			g.buckets[key][o] = append(g.buckets[key][o], e)
		}
	}
	for _, at := range g.buckets {
		for _, b := range at {
			sort.Slice(b, func(i, j int) bool { return b[i].text < b[j].text })
		}
	}
	return g
}

// hash gives the word of bits for four bytes, and the three bits of it that are all set when they are in the set. Of bytes that
// are not, about one in a hundred has them, which matters: looking further costs as much as a hundred bytes of text.
func (g *grams) hash(key uint32) (word, mask uint32) {
	h := key * 0x85ebca77
	return key * 0x9e3779b1 >> g.shift, 1<<(h>>27) | 1<<(h>>22&31) | 1<<(h>>17&31)
}

// gramPlaces is how many places are looked up in one go.
const gramPlaces = 512

// gramScan goes through one text.
type gramScan struct {
	*grams
	b     []byte
	base  int                  // of the places that are looked up
	count int                  // of them
	may   [gramPlaces / 8]byte // which of them may be the beginning of something
}

// fill looks up the next places.
func (s *gramScan) fill() {
	rest := len(s.b) - s.base
	if groups := min(len(s.may), (rest-32)/(8*s.stride)); vectors && groups > 0 {
		gramsAVX2(&s.may[0], &s.b[s.base], groups, &s.bits[0], s.shift, s.stride)
		s.count = 8 * groups
		return
	}
	clear(s.may[:])
	for s.count = 0; s.count < gramPlaces && s.count*s.stride+4 <= rest; s.count++ {
		word, mask := s.hash(binary.LittleEndian.Uint32(s.b[s.base+s.count*s.stride:]))
		if s.bits[word]&mask == mask {
			s.may[s.count>>3] |= 1 << (s.count & 7)
		}
	}
}

// next gives the first entry at or behind a place, which never goes back; the longest of those that begin there.
func (s *gramScan) next(from int) (m match, ok bool) {
	if len(s.buckets) == 0 {
		return m, false
	}
	for j := (from - s.base + s.stride - 1) / s.stride; ; j++ {
		ahead := max(j, s.count) // the first place that is not looked up yet, or from where on it is wanted
		for j < s.count {
			if may := binary.LittleEndian.Uint64(s.may[j>>6<<3:]) >> (j & 63); may != 0 {
				j += bits.TrailingZeros64(may)
				break
			}
			j = j>>6<<6 + 64
		}
		if j >= s.count {
			s.base += ahead * s.stride
			if s.fill(); s.count == 0 {
				return m, false
			}
			j = -1
			continue
		}
		i := s.base + j*s.stride
		bucket := s.buckets[binary.LittleEndian.Uint32(s.b[i:])]
		if bucket == nil {
			continue
		}
		for o := s.stride - 1; o >= 0; o-- {
			if len(bucket[o]) == 0 || i-o < from {
				continue
			}
			if m, ok := longest(bucket[o], s.b, i-o); ok {
				return m, true
			}
		}
	}
}

// NewMatcher makes a matcher of learned values.
func NewMatcher(values []Value) *Matcher {
	var long, short []entry
	seen := map[string]bool{}
	for _, v := range values {
		seen[v.Text] = true
	}
	add := func(e entry) {
		if len(e.text) >= minLong {
			long = append(long, e)
		} else if len(e.text) >= MinName {
			short = append(short, e)
		}
	}
	for _, v := range values {
		add(entry{text: v.Text, value: v})
	}
	for _, v := range values {
		for _, e := range writtenForms(v) {
			if !seen[e.text] {
				seen[e.text] = true
				add(e)
			}
		}
	}
	return &Matcher{long: newGrams(long, gramStride), short: newGrams(short, 1), size: len(values)}
}

// longest gives the longest entry of a sorted bucket that stands at a place. Thousands of values may begin alike, so they
// are not tried one by one: the last one not behind the text either is its beginning, or shows how much of it can match.
func longest(bucket []entry, b []byte, at int) (match, bool) {
	text := b[at:min(len(b), at+2*MaxLearned)]
	for len(text) >= MinName {
		n := sort.Search(len(bucket), func(i int) bool { return bucket[i].text > string(text) })
		if n == 0 {
			return match{}, false
		}
		e := &bucket[n-1]
		common := 0
		for common < len(e.text) && common < len(text) && e.text[common] == text[common] {
			common++
		}
		if common == len(e.text) {
			if stands(b, at, e.text, e.value.Class) {
				return e.match(b, at), true
			}
			common--
		}
		text = text[:common]
	}
	return match{}, false
}

// maxSpread is how far around the heart of a value the base64 that holds it is taken with it, in bytes.
const maxSpread = 4096

// match gives the place that an entry takes up.
func (e *entry) match(b []byte, at int) match {
	m := match{e.value, at, at + len(e.text)}
	if !e.base64 {
		return m
	}
	for m.start > 0 && at-m.start < maxSpread && isBase64Byte(b[m.start-1]) {
		m.start--
	}
	for m.end < len(b) && m.end-at < maxSpread && (isBase64Byte(b[m.end]) || b[m.end] == '=') {
		m.end++
	}
	return m
}

func isBase64Byte(c byte) bool { return isWord(c) || c == '+' || c == '/' || c == '-' }

// each calls found for every place from a place on at which a learned value stands, in order; none overlaps another.
func (m *Matcher) each(b []byte, from int, found func(match)) {
	if m == nil || m.size == 0 {
		return
	}
	longs, shorts := gramScan{grams: &m.long, b: b, base: from}, gramScan{grams: &m.short, b: b, base: from}
	long, okLong := longs.next(from)
	short, okShort := shorts.next(from)
	for okLong || okShort {
		best := long
		if !okLong || okShort && short.start < long.start {
			best = short
		}
		best.start = max(best.start, from)
		found(best)
		from = best.end
		if okLong && long.start < from {
			long, okLong = longs.next(from)
		}
		if okShort && short.start < from {
			short, okShort = shorts.next(from)
		}
	}
}
