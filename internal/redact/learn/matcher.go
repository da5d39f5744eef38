package learn

import (
	"encoding/binary"
	"math/bits"
	"slices"
	"sort"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
)

// Matcher finds learned values anywhere in text, also as they are written within other texts (see writtenForms). It is safe
// for use from several goroutines.
//
// Four bytes of the text are looked up in a set of bits at every fourth place: whatever is at least seven bytes long has four
// bytes that begin at such a place. Shorter values have a set of their own, which is asked at every place, and only if there
// are such values.
type Matcher struct {
	long, short grams
	size        int
}

// Match is one place at which a learned value stands.
type Match struct {
	alias.Value
	Start, End int // in bytes
}

// Taken is a stretch of the text that is taken already: what lies within it need not be found.
type Taken struct {
	Start, End int // in bytes
	Secret     bool
}

// grams finds entries by four of their bytes.
type grams struct {
	entries []entry // sorted by text
	bits    []uint32
	shift   int
	stride  int
	index   gramIndex
}

// gramIndex gives the entries that have four bytes at one of the places of a stride. There may be very many, so it is kept in few
// large pieces.
type gramIndex struct {
	refs  []int32   // entries, by their four bytes, by where they have them, and by text among those that have the same
	tails []uint64  // of the same entries: the eight bytes behind what all of their run begin with, see tailOf
	runs  []gramRun // of the same four bytes at the same place of the entry: of the same bytes, the farthest place comes first
	slots []int32   // the first run of four bytes by their hash; 0 is none, else one more than the place of the run
	shift int
}

type gramRun struct {
	key uint32
	at  int32 // where the entries have the four bytes
	end int32 // of its refs; they begin where those of the run before end

	common int32  // how many bytes all of them begin with
	head   uint64 // up to eight of these, and which bits of a text are compared with them: most texts differ here already
	mask   uint64
	kinds  uint64 // of bytes that one of them has behind its first one, see byteKinds
	secret bool   // whether one of them is a secret
}

const (
	gramStride = 4
	minLong    = gramStride + 3 // the length from which on every fourth place is enough, in bytes
)

// spreads is a kind that no byte is of: entries in base64 have it, since the base64 around them goes, too.
const spreads = 1 << 63

// byteKinds tells bytes apart that may end a find: a bit for each sign, one for letters and digits, one for all others.
var byteKinds = func() (kinds [256]uint64) {
	next := 2
	for c := range byte(0x80) {
		switch {
		case c < ' ':
			kinds[c] = 1
		case chars.IsWord(c) && c != '_':
			kinds[c] = 2
		default:
			kinds[c] = 1 << next
			next++
		}
	}
	for c := 0x80; c < 0x100; c++ {
		kinds[c] = 2
	}
	return kinds
}()

// kindsOf gives the kinds of bytes that an entry takes up behind its first one.
func kindsOf(e *entry) (kinds uint64) {
	if e.base64 {
		return 1<<64 - 1
	}
	for i := 1; i < len(e.text); i++ {
		kinds |= byteKinds[e.text[i]]
	}
	return kinds
}

// may says whether one of the entries may stand at a place.
func (r *gramRun) may(b []byte, at int) bool {
	return at+8 > len(b) || (binary.LittleEndian.Uint64(b[at:])^r.head)&r.mask == 0
}

// candidates are the entries of one run.
type candidates struct {
	refs   []int32
	tails  []uint64
	common int
}

func newGramIndex(entries []entry, stride int) gramIndex {
	sorted := make([]uint64, len(entries)*stride) // by four bytes, by place, then by the number of the entry: they are sorted by text
	inParts(len(entries), func(_, from, to int) {
		for i := from; i < to; i++ {
			for o := range stride {
				place := stride - 1 - o
				sorted[place*len(entries)+i] = uint64(four(entries[i].text, o))<<32 | uint64(place)<<placeShift | uint64(i)
			}
		}
	})
	sorted = sortUpper(sorted)
	x := gramIndex{refs: make([]int32, len(sorted)), tails: make([]uint64, len(sorted))}
	keys := 0
	for i, s := range sorted {
		x.refs[i] = int32(s & (1<<placeShift - 1))
		key, at := uint32(s>>32), int32(stride-1-int(uint32(s)>>placeShift))
		if i == 0 || x.last().key != key {
			keys++
		}
		if i == 0 || x.last().key != key || x.last().at != at {
			x.runs = append(x.runs, gramRun{key: key, at: at})
		}
		x.last().end = int32(i + 1)
	}
	kinds := make([]uint64, len(entries))
	inParts(len(entries), func(_, from, to int) {
		for i := from; i < to; i++ {
			kinds[i] = kindsOf(&entries[i])
		}
	})
	inParts(len(x.runs), func(_, from, to int) {
		for i := from; i < to; i++ {
			x.describe(i, entries, kinds)
		}
	})
	words := max(4, bits.Len(uint(2*keys)))
	x.slots, x.shift = make([]int32, 1<<words), 32-words
	for i, run := range x.runs {
		if i > 0 && x.runs[i-1].key == run.key {
			continue
		}
		h := run.key * 0x9e3779b1 >> x.shift
		for x.slots[h] != 0 {
			h = (h + 1) & uint32(len(x.slots)-1)
		}
		x.slots[h] = int32(i + 1)
	}
	return x
}

// describe says what the entries of a run have in common.
func (x *gramIndex) describe(i int, entries []entry, kinds []uint64) {
	run, refs := &x.runs[i], x.candidates(i).refs
	first := entries[refs[0]].text
	run.common = int32(commonPrefix(first, entries[refs[len(refs)-1]].text))
	for i := range min(8, int(run.common)) {
		run.head |= uint64(first[i]) << (8 * i)
		run.mask |= 0xff << (8 * i)
	}
	tails := x.tails[int(run.end)-len(refs):]
	for k, ref := range refs {
		e := &entries[ref]
		tails[k] = tailOf(e.text, int(run.common))
		run.kinds |= kinds[ref]
		run.secret = run.secret || e.value.Class == alias.Secret
	}
}

// sortUpper sorts numbers by their upper 32 bits; those that have the same stay in their order.
func sortUpper(list []uint64) []uint64 {
	const digit = 11 // bits
	other := make([]uint64, len(list))
	for shift := 32; shift < 64; shift += digit {
		var at [1<<digit + 1]int
		for _, n := range list {
			at[n>>shift&(1<<digit-1)+1]++
		}
		for i := range at[1:] {
			at[i+1] += at[i]
		}
		for _, n := range list {
			d := n >> shift & (1<<digit - 1)
			other[at[d]] = n
			at[d]++
		}
		list, other = other, list
	}
	return list
}

// placeShift leaves room for the number of an entry below the place of its bytes.
const placeShift = 29

func (x *gramIndex) last() *gramRun { return &x.runs[len(x.runs)-1] }

// four gives four bytes of a text as a number.
func four(text string, at int) uint32 {
	return uint32(text[at]) | uint32(text[at+1])<<8 | uint32(text[at+2])<<16 | uint32(text[at+3])<<24
}

// of gives the first run of four bytes, or -1. Those behind it with the same bytes are of the same entries or others, at other places.
func (x *gramIndex) of(key uint32) int {
	for h := key * 0x9e3779b1 >> x.shift; x.slots[h] != 0; h = (h + 1) & uint32(len(x.slots)-1) {
		if n := int(x.slots[h] - 1); x.runs[n].key == key {
			return n
		}
	}
	return -1
}

// candidates gives the entries of a run.
func (x *gramIndex) candidates(run int) candidates {
	begin := int32(0)
	if run > 0 {
		begin = x.runs[run-1].end
	}
	end := x.runs[run].end
	return candidates{x.refs[begin:end], x.tails[begin:end], int(x.runs[run].common)}
}

func commonPrefix(a, b string) (n int) {
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}

func newGrams(entries []entry, stride int) grams {
	g := grams{stride: stride, entries: entries}
	g.index = newGramIndex(entries, stride)
	words := 10
	for words < 20 && 1<<words < len(g.index.runs) {
		words++
	}
	g.bits, g.shift = make([]uint32, 1<<words), 32-words
	for _, run := range g.index.runs {
		word, mask := g.hash(run.key)
		g.bits[word] |= mask
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
	rules []Taken              // what rules found, in order
	ruled int                  // of them end before what comes
}

// fill looks up the next places.
func (s *gramScan) fill() {
	rest := len(s.b) - s.base
	if groups := min(len(s.may), (rest-32)/(8*s.stride)); chars.Vectors && groups > 0 {
		gramsAVX2(&s.may[0], &s.b[s.base], groups, &s.bits[0], s.shift, s.stride)
		s.count = 8 * groups
		return
	}
	if groups := min(len(s.may), (rest-8)/(8*s.stride)); groups > 0 {
		s.count = 8 * groups
		s.eight(s.may[:groups], s.b[s.base:])
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

// eight looks up eight places for each byte of may.
func (g *grams) eight(may []byte, b []byte) {
	bits, shift, stride := g.bits, g.shift&31, g.stride
	for i := range may {
		var eight byte
		for k := range 8 {
			key := binary.LittleEndian.Uint32(b)
			b = b[stride:]
			h := key * 0x85ebca77
			if word := bits[key*0x9e3779b1>>shift]; word&(1<<(h>>27)) != 0 && word&(1<<(h>>22&31)) != 0 && word&(1<<(h>>17&31)) != 0 {
				eight |= 1 << k
			}
		}
		may[i] = eight
	}
}

// next gives the first entry at or behind a place, which never goes back; the longest of those that begin there.
func (s *gramScan) next(from int) (m Match, ok bool) {
	if len(s.entries) == 0 {
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
		key := binary.LittleEndian.Uint32(s.b[i:])
		for run := s.index.of(key); run >= 0 && run < len(s.index.runs) && s.index.runs[run].key == key; run++ {
			at := i - int(s.index.runs[run].at)
			if at < from || !s.index.runs[run].may(s.b, at) || s.within(&s.index.runs[run], at) {
				continue
			}
			if m, ok := s.longest(s.index.candidates(run), at); ok {
				return m, true
			}
		}
	}
}

// NewMatcher makes a matcher of learned values.
func NewMatcher(values []alias.Value) *Matcher {
	values = slices.Clone(values)
	entries := entriesOf(values)
	long, short := make([]entry, 0, len(entries)), []entry(nil)
	for _, e := range entries {
		if len(e.text) >= minLong {
			long = append(long, e)
		} else if len(e.text) >= MinName {
			short = append(short, e)
		}
	}
	return &Matcher{long: newGrams(long, gramStride), short: newGrams(short, 1), size: len(values)}
}

// within says whether whatever matches at a place lies within what a rule found already, so that it changes nothing, see merge.
func (s *gramScan) within(run *gramRun, at int) bool {
	for s.ruled < len(s.rules) && s.rules[s.ruled].End <= at-s.stride { // a later candidate begins a little before it at most
		s.ruled++
	}
	for i := s.ruled; i < len(s.rules) && s.rules[i].Start <= at; i++ {
		f, next := &s.rules[i], uint64(spreads)
		if f.End < len(s.b) {
			next |= byteKinds[s.b[f.End]]
		}
		if at < f.End && next&run.kinds == 0 { // no entry goes on behind it
			return f.Secret || !run.secret
		}
	}
	return false
}

// longest gives the longest of some entries, sorted by text, that stands at a place. Thousands of values may begin alike, so
// they are not tried one by one: the last one not behind the text either is its beginning, or shows how much of it can match.
func (s *gramScan) longest(c candidates, at int) (Match, bool) {
	refs := c.refs
	text := s.b[at:min(len(s.b), at+2*MaxLearned)]
	if first := s.entries[refs[0]].text; len(text) < c.common || string(text[:c.common]) != first[:c.common] {
		return Match{}, false
	}
	from, to := 0, len(refs) // where in them the text has its place
	if len(text) >= c.common+8 {
		from, to = sameTails(c.tails, binary.BigEndian.Uint64(text[c.common:]))
	}
	for len(text) >= MinName {
		n := from + sort.Search(to-from, func(i int) bool { return s.entries[refs[from+i]].text > string(text) })
		from, to = 0, n // what is shorter stands before
		if n == 0 {
			return Match{}, false
		}
		e := &s.entries[refs[n-1]]
		common := 0
		for common < len(e.text) && common < len(text) && e.text[common] == text[common] {
			common++
		}
		if common == len(e.text) {
			if e.base64 || stands(s.b, at, e.text, e.value.Class) {
				return e.match(s.b, at), true
			}
			common--
		}
		text = text[:common]
	}
	return Match{}, false
}

// sameTails gives where in sorted numbers those that are the same as one begin and end, or where it has its place.
func sameTails(tails []uint64, tail uint64) (from, to int) {
	for n := len(tails); n > 0; { // without a branch that the processor could guess wrong
		half := (n + 1) / 2
		if tails[from+half-1] < tail {
			from += half
		}
		n -= half
	}
	to = from
	for to < len(tails) && tails[to] == tail { // mostly none or one
		if to++; to-from > 8 {
			return from, to + sort.Search(len(tails)-to, func(i int) bool { return tails[to+i] > tail })
		}
	}
	return from, to
}

// maxSpread is how far around the heart of a value the base64 that holds it is taken with it, in bytes.
const maxSpread = 4096

// match gives the place that an entry takes up.
func (e *entry) match(b []byte, at int) Match {
	m := Match{*e.value, at, at + len(e.text)}
	if !e.base64 {
		return m
	}
	for m.Start > 0 && at-m.Start < maxSpread && chars.IsBase64Byte(b[m.Start-1]) {
		m.Start--
	}
	for m.End < len(b) && m.End-at < maxSpread && (chars.IsBase64Byte(b[m.End]) || b[m.End] == '=') {
		m.End++
	}
	return m
}

// Each calls found for every place from a place on at which a learned value stands, in order; none overlaps another. Of what
// lies within finds of rules some may be left out.
func (m *Matcher) Each(b []byte, from int, rules []Taken, found func(Match)) {
	if m == nil || m.size == 0 {
		return
	}
	longs, shorts := gramScan{grams: &m.long, b: b, base: from, rules: rules}, gramScan{grams: &m.short, b: b, base: from, rules: rules}
	long, okLong := longs.next(from)
	short, okShort := shorts.next(from)
	for okLong || okShort {
		best := long
		if !okLong || okShort && short.Start < long.Start {
			best = short
		}
		best.Start = max(best.Start, from)
		found(best)
		from = best.End
		if okLong && long.Start < from {
			long, okLong = longs.next(from)
		}
		if okShort && short.Start < from {
			short, okShort = shorts.next(from)
		}
	}
}
