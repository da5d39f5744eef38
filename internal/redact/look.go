package redact

import (
	"encoding/binary"
	"math/bits"
)

// highBits are those of eight bytes, which none has within ASCII.
const highBits = 0x8080808080808080

// look marks the places of the next chunk at which a rule may find something. Signs of a kind are looked at together: the
// processor foresees better what comes of them.
func (e *Engine) look(b []byte, from int) bool {
	m := &e.marks
	if from+64+edge > len(b) {
		return false
	}
	e.hotsOf(b, e.numbered, from)
	if !m.fill(e.sieve, b, from) {
		return false
	}
	words := (m.to - m.from) / 64
	e.numbered = m.from + m.followed<<6
	e.sift(words)
	clear(m.places[:words])
	e.lookAtSeparators(b, words)
	e.lookAtSpaces(b, words)
	e.lookAtSigns(b, words)
	return true
}

// What is sifted: signs of each kind at which a rule may find something, and the hot places of numbers.
const (
	separatorSifted = iota // other than equals signs
	dashSifted
	dotSifted
	otherSifted
	cardSifted
	accountSifted
	siftedCount
)

// sift leaves out the signs which surely belong to dates, times and fractions, which most signs of a log do, and gathers where
// rules that look for themselves have to look.
func (e *Engine) sift(words int) {
	m := &e.marks
	fractions := ^uint64(0)
	if e.digitDomain {
		fractions = 0
	}
	if siftAVX2(m, (words+3)/4, fractions) {
		e.gatherHots(m.from, m.followed)
	}
	// At the ends of the chunk, where not all around is known, no sign is left out.
	m.keepSigns(0)
	m.keepSigns(words - 1)
}

// keepSigns sifts one word without leaving out any sign.
func (m *marks) keepSigns(w int) {
	class := func(c int) uint64 { return m.classes[c][1+w] }
	signs := m.others[w] & class(signClass)
	m.sifted[separatorSifted][w] = class(separatorClass) &^ class(equalsClass)
	m.sifted[dashSifted][w] = signs & class(dashClass)
	m.sifted[dotSifted][w] = signs & class(dotClass)
	m.sifted[otherSifted][w] = signs &^ (class(dashClass) | class(dotClass))
}

func (e *Engine) lookAtSeparators(b []byte, words int) {
	m := &e.marks
	for w, signs := range m.classes[equalsClass][1 : 1+words] {
		for ; signs != 0; signs &= signs - 1 {
			if i := m.from + w<<6 + bits.TrailingZeros64(signs); !e.keys.nothing(b, i, m) && e.worth(b, i) {
				m.places[w] |= signs & -signs
			}
		}
	}
	e.lookAt(b, words, separatorSifted, e.worth)
}

func (e *Engine) lookAtSpaces(b []byte, words int) {
	m, short := &e.marks, shortAnnouncers()
	for w, signs := range m.spaces[:words] {
		for ; signs != 0; signs &= signs - 1 {
			i := m.from + w<<6 + bits.TrailingZeros64(signs)
			// Most words are short ones. What is joined by a full stop announces nothing.
			start, ok := m.keyStart(i)
			if n := i - start; ok && n > 0 && n <= 8 {
				last := binary.LittleEndian.Uint64(b[i-8:]) >> (-8 * n & 63)
				if last&highBits == 0 && !mayShortAnnounce(short, last, n) {
					continue
				}
			}
			if announces(b, i) || modeEnds[b[i-1]] && (looksMode(b[i-10:]) || looksMode(b[i-11:])) {
				m.places[w] |= signs & -signs
			}
		}
	}
}

func (e *Engine) lookAtSigns(b []byte, words int) {
	m := &e.marks
	for w, signs := range m.sifted[dashSifted][:words] {
		for ; signs != 0; signs &= signs - 1 {
			if i := m.from + w<<6 + bits.TrailingZeros64(signs); dashWorth(b, i, b[i-1], b[i+1]) {
				m.places[w] |= signs & -signs
			}
		}
	}
	for w, signs := range m.sifted[dotSifted][:words] {
		for ; signs != 0; signs &= signs - 1 {
			if i := m.from + w<<6 + bits.TrailingZeros64(signs); e.dotWorth(b, i, b[i-1], b[i+1]) {
				m.places[w] |= signs & -signs
			}
		}
	}
	e.lookAt(b, words, otherSifted, e.worth)
}

// lookAt marks the signs of a kind that are worth it.
func (e *Engine) lookAt(b []byte, words, kind int, worth func(b []byte, at int) bool) {
	m := &e.marks
	for w, signs := range m.sifted[kind][:words] {
		for ; signs != 0; signs &= signs - 1 {
			if worth(b, m.from+w<<6+bits.TrailingZeros64(signs)) {
				m.places[w] |= signs & -signs
			}
		}
	}
}
