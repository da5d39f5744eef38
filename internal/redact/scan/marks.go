package scan

import (
	"math/bits"

	"envask/internal/redact/find"
)

// Marks are the bits of one chunk of a block. The kernels read and write them, too.
type Marks struct {
	from, to       int // of the block; nothing is known of what is outside
	followed       int // of so many words the classes of the next one are known
	places         chunkRow
	spaces, others chunkRow              // which fit a context of spaces, and which another one
	classes        [classCount]classRow  // the chunk begins with the second word
	sifted         [siftedCount]chunkRow // what sift makes of all this
	quoted, keyed  chunkRow              // see leaveQuoted
	list           [sieveChunk + 4]uint16
}

// From is the first place of the block of which something is known.
func (m *Marks) From() int { return m.from }

// To is the place behind the last one of these.
func (m *Marks) To() int { return m.to }

// fill looks at a block from a place on, which must be edge behind its beginning at least, and up to edge before its end. It
// says whether anything was looked at: less than one word is left.
func (m *Marks) fill(s *sieve, b []byte, from int) bool {
	words := min(len(m.places), (len(b)-find.Edge-from)/64)
	if words <= 0 {
		return false
	}
	m.followed = words
	if from+words<<6+64 > len(b) {
		m.followed--
		for c := range m.classes {
			m.classes[c][1+words] = 0
		}
	}
	classesAVX2(m, &b[from], m.followed+1, &s.classes)
	m.classes[keyClass][0] = ^uint64(0) // what is before the chunk is not known, so that no word that begins with it is either
	placesAVX2(m, &b[from], words, &s.places)
	m.from, m.to = from, from+64*words
	return true
}

// next gives the first marked place from a place of the chunk on, or the end of the chunk.
func (m *Marks) next(i int) int {
	at := i - m.from
	w := at >> 6
	word := m.places[w] >> (at & 63) << (at & 63)
	for word == 0 {
		if w++; w<<6 >= m.to-m.from {
			return m.to
		}
		word = m.places[w]
	}
	return m.from + w<<6 + bits.TrailingZeros64(word)
}

// mark marks a place, told by its number in the chunk.
func (m *Marks) mark(at uint16) { m.places[at>>6&(chunkRowSize/8-1)] |= 1 << (at & 63) }

// keyStart gives the beginning of the key that ends at a place, at most 32 bytes before it; ok is false when that cannot be
// told from the chunk.
func (m *Marks) keyStart(end int) (start int, ok bool) {
	at := end - m.from
	if at < 64 || end > m.to {
		return 0, false
	}
	// The 64 bytes before the end.
	w, off := at>>6, at&63
	run := m.classes[keyClass][w]>>off | m.classes[keyClass][1+w]<<1<<(63-off)
	return end - bits.LeadingZeros64(^run), true
}

// LongWords adds places of the chunk within words of so many letters of keys and more; these are 16 to 32.
func (m *Marks) LongWords(letters int, out *[]int) {
	words := (m.to - m.from) / 64
	row := &m.classes[keyClass]
	for w := 1; w <= words; w++ {
		x := row[w]
		if x&(1<<63) != 0 && bits.LeadingZeros64(^x)+bits.TrailingZeros64(^row[w+1]) >= letters {
			*out = append(*out, m.from+w<<6-1)
			continue
		}
		x &= x >> 1
		x &= x >> 2
		x &= x >> 4
		x &= x >> 8
		for x &= x >> (letters - 16); x != 0; x &= x + x&-x { // without the lowest run
			*out = append(*out, m.from+(w-1)<<6+bits.TrailingZeros64(x))
		}
	}
}

// Clear takes all signs from one place of the block to another out of what is looked at.
func (m *Marks) Clear(from, to int) {
	from, to = max(from, m.from)-m.from, min(to, m.to)-m.from
	for w := from >> 6; w <= (to-1)>>6; w++ {
		keep := uint64(0)
		if w == from>>6 {
			keep |= 1<<(from&63) - 1
		}
		if w == to>>6 {
			keep |= ^uint64(0) << (to & 63)
		}
		m.spaces[w] &= keep
		m.classes[equalsClass][1+w] &= keep
		for c := range cardSifted {
			m.sifted[c][w] &= keep
		}
	}
}
