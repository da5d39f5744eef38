package redact

import "math/bits"

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

func (e *Engine) lookAtSeparators(b []byte, words int) {
	m := &e.marks
	for w := range words {
		for signs := m.classes[w][equalsClass]; signs != 0; signs &= signs - 1 {
			if i := m.from + w<<6 + bits.TrailingZeros64(signs); !e.keys.nothing(b, i, m) && e.worth(b, i) {
				m.places[w] |= signs & -signs
			}
		}
	}
	for w := range words {
		c := &m.classes[w]
		for signs := c[separatorClass] &^ c[equalsClass] &^ m.idle[w]; signs != 0; signs &= signs - 1 {
			if e.worth(b, m.from+w<<6+bits.TrailingZeros64(signs)) {
				m.places[w] |= signs & -signs
			}
		}
	}
}

func (e *Engine) lookAtSpaces(b []byte, words int) {
	m, ends := &e.marks, announcerEndings()
	for w := range words {
		for signs := m.fit[w][spaceFits]; signs != 0; signs &= signs - 1 {
			if i := m.from + w<<6 + bits.TrailingZeros64(signs); ends.mayAnnounce(b, i) && announces(b, i) || modeEnds[b[i-1]] && (looksMode(b[i-10:]) || looksMode(b[i-11:])) {
				m.places[w] |= signs & -signs
			}
		}
	}
}

func (e *Engine) lookAtSigns(b []byte, words int) {
	m := &e.marks
	for w := range words {
		for signs := m.fit[w][otherFits] & m.classes[w][dashClass] &^ m.idle[w]; signs != 0; signs &= signs - 1 {
			if i := m.from + w<<6 + bits.TrailingZeros64(signs); dashWorth(b, i, b[i-1], b[i+1]) {
				m.places[w] |= signs & -signs
			}
		}
	}
	for w := range words {
		for signs := m.fit[w][otherFits] & m.classes[w][dotClass] &^ m.idle[w]; signs != 0; signs &= signs - 1 {
			if i := m.from + w<<6 + bits.TrailingZeros64(signs); e.dotWorth(b, i, b[i-1], b[i+1]) {
				m.places[w] |= signs & -signs
			}
		}
	}
	for w := range words {
		c := &m.classes[w]
		for signs := m.fit[w][otherFits] &^ c[dashClass] &^ c[dotClass]; signs != 0; signs &= signs - 1 {
			if e.worth(b, m.from+w<<6+bits.TrailingZeros64(signs)) {
				m.places[w] |= signs & -signs
			}
		}
	}
}

// sift says of each word of the chunk which signs surely belong to dates, times and fractions, which most signs of a log do,
// and where rules that look for themselves have to look. At the ends of the chunk, where not all around is known, no sign is
// left out.
func (e *Engine) sift(words int) {
	m := &e.marks
	m.idle[0], m.idle[words-1] = 0, 0
	var carry uint64 // second colons of times that began in the word before
	before, now := &m.classes[0], &m.classes[0]
	for w := range words {
		next := &m.classes[w+1]
		if now[digitClass]|next[digitClass] != 0 && w < m.followed {
			e.gatherHots(now, next, m.from+w<<6)
		}
		if w > 0 && w < words-1 {
			d, bd, nd := now[digitClass], before[digitClass], next[digitClass]
			h, c, dash, dot := now[hexClass], now[colonClass], now[dashClass], now[dotClass]
			behind1, behind2, ahead1 := ago(d, bd, 1), ago(d, bd, 2), ahead(d, nd, 1)
			hex3, colon3 := ago(h, before[hexClass], 3), ago(c, before[colonClass], 3)

			// Both colons of a time with seconds, of which isTime is true.
			first := c & behind1 & behind2 & ahead1 & ahead(d, nd, 2) & ahead(c, next[colonClass], 3) & ahead(d, nd, 4) & ahead(d, nd, 5)
			first &^= hex3 | colon3 | ahead(h|c, next[hexClass]|next[colonClass], 6)
			// Dashes between digits that are not the first of a hardware address.
			dates := dash & behind1 & ahead1 &^ (ahead(dash, next[dashClass], 3) &^ hex3)
			// Dots between digits that are not of an address, a hardware address or a token that ends in digits.
			nextDot := next[dotClass]
			fractions := dot & behind1 & ahead1 &^ (ahead(dot, nextDot, 2) | ahead(dot, nextDot, 3) | ahead(dot, nextDot, 4) | ahead(dot, nextDot, 5)) & (^behind2 | colon3)
			if e.digitDomain {
				fractions = 0
			}
			m.idle[w] = first | first<<3 | carry | dates | fractions
			carry = first >> 61
		}
		before, now = now, next
	}
}

// ago gives the bits of n places before.
func ago(now, before uint64, n int) uint64 { return now<<n | before>>(64-n) }
