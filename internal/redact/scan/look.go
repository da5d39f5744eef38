package scan

import (
	"math/bits"

	"envask/internal/redact/find"
)

// look marks the places of the next chunk at which a rule may find something. Signs of a kind are looked at together: the
// processor foresees better what comes of them.
func (g *Gate) look(b []byte, from int) bool {
	m := &g.marks
	if from+64+find.Edge > len(b) {
		return false
	}
	g.hotsOf(b, g.numbered, from)
	if !m.fill(g.sieve, b, from) {
		return false
	}
	words := (m.to - m.from) / 64
	g.numbered = m.from + m.followed<<6
	g.sift(words)
	if g.watcher != nil {
		g.watcher.Chunk(b, m)
	}
	clear(m.places[:words])
	g.lookAtSeparators(b, words)
	g.lookAtSpaces(b, words)
	g.lookAtSigns(b, words)
	return true
}

// sift leaves out the signs which surely belong to dates, times and fractions, which most signs of a log do, and gathers where
// rules that look for themselves have to look.
func (g *Gate) sift(words int) {
	m := &g.marks
	fractions := ^uint64(0)
	if g.digitDomain {
		fractions = 0
	}
	if siftAVX2(m, (words+3)/4, fractions) {
		g.gatherHots(m.from, m.followed)
	}
	// At the ends of the chunk, where not all around is known, no sign is left out.
	m.keepSigns(0)
	m.keepSigns(words - 1)
}

// keepSigns sifts one word without leaving out any sign.
func (m *Marks) keepSigns(w int) {
	class := func(c int) uint64 { return m.classes[c][1+w] }
	signs := m.others[w] & class(signClass)
	m.sifted[separatorSifted][w] = class(separatorClass) &^ class(equalsClass)
	m.sifted[dashSifted][w] = signs & class(dashClass)
	m.sifted[dotSifted][w] = signs & class(dotClass)
	m.sifted[otherSifted][w] = signs &^ (class(dashClass) | class(dotClass))
}

func (g *Gate) lookAtSeparators(b []byte, words int) {
	m := &g.marks
	for _, at := range g.idleKeys.unknown(m, b, m.classes[equalsClass][1:1+words]) {
		if i := m.from + int(at); g.keys.nothing(b, i, m) {
			g.idleKeys.remember(m, b, i)
		} else if g.worth(b, i) {
			m.mark(at)
		}
	}
	row := m.sifted[separatorSifted][:words]
	for _, at := range g.leaveQuoted(b, row) {
		i := m.from + int(at) // of the quote
		if k := g.keys.of(b, i, m); k != nil && k.nothing {
			g.idleKeys.remember(m, b, i)
		} else if g.worth(b, i+1) {
			m.mark(at + 1)
		}
	}
	g.lookAt(b, row)
}

// leaveQuoted takes the colons and commas behind a quote out of a row of signs, and lists the quotes of those that have to be looked at,
// since the key before them may announce something. A colon before another one stays in the row: it may begin an address.
func (g *Gate) leaveQuoted(b []byte, row []uint64) []uint16 {
	m := &g.marks
	colons, commas, quotes := &m.classes[colonClass], &m.classes[commaClass], &m.classes[quoteClass]
	any := uint64(0)
	for _, q := range quotes[1 : 1+len(row)] {
		any |= q
	}
	if g.watcher != nil {
		g.watcher.Quotes(b, m.from, m.from+len(row)<<6, any != 0)
	}
	if any == 0 {
		return nil
	}
	any = 0
	for w := range row {
		behind := quotes[1+w]<<1 | quotes[w]>>63
		two := colons[1+w] & (colons[1+w]>>1 | colons[2+w]<<63)
		m.quoted[w] = row[w] & behind & (colons[1+w]&^two | commas[1+w])
		any |= m.quoted[w]
	}
	m.quoted[0] &^= 1 // what is before the chunk is not known
	if any == 0 {
		return nil
	}
	keyed := m.keyed[:len(row)] // the places of the quotes, where the keys end
	for w := range keyed {
		row[w] &^= m.quoted[w]
		keyed[w] = m.quoted[w] >> 1
		if w+1 < len(keyed) {
			keyed[w] |= m.quoted[w+1] << 63
		}
	}
	return g.idleKeys.unknown(m, b, keyed)
}

func (g *Gate) lookAtSpaces(b []byte, words int) {
	m := &g.marks
	for _, at := range g.idleWords.unknown(m, b, m.spaces[:words]) {
		i := m.from + int(at)
		if g.announced.announces(b, i) || modeEnds[b[i-1]] && (looksMode(b[i-10:]) || looksMode(b[i-11:])) {
			m.mark(at)
		} else {
			g.idleWords.remember(m, b, i)
		}
	}
}

func (g *Gate) lookAtSigns(b []byte, words int) {
	m := &g.marks
	for w, signs := range m.sifted[dashSifted][:words] {
		for ; signs != 0; signs &= signs - 1 {
			if i := m.from + w<<6 + bits.TrailingZeros64(signs); dashWorth(b, i, b[i-1], b[i+1]) {
				m.places[w] |= signs & -signs
			}
		}
	}
	for w, signs := range m.sifted[dotSifted][:words] {
		for ; signs != 0; signs &= signs - 1 {
			if i := m.from + w<<6 + bits.TrailingZeros64(signs); g.dotWorth(b, i, b[i-1], b[i+1]) {
				m.places[w] |= signs & -signs
			}
		}
	}
	g.lookAt(b, m.sifted[otherSifted][:words])
}

// lookAt marks the signs of a row that are worth it.
func (g *Gate) lookAt(b []byte, row []uint64) {
	m := &g.marks
	for w, signs := range row {
		for ; signs != 0; signs &= signs - 1 {
			if g.worth(b, m.from+w<<6+bits.TrailingZeros64(signs)) {
				m.places[w] |= signs & -signs
			}
		}
	}
}
