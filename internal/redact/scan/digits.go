package scan

import (
	"math/bits"

	"envask/internal/redact/chars"
)

// Cards and account numbers have no byte of their own before which they could be looked for. Where there are vectors, words of
// bits show the few places that have enough digits; else their rules look for themselves.

// Number tells of a rule that looks for itself and finds nothing but around some places: those at which every find begins.
type Number struct {
	Hot  HotPlaces
	Span *[256]bool // what a find is written with
}

// HotPlaces are places that have enough digits for something.
type HotPlaces int

// The kinds of hot places.
const (
	Cards    HotPlaces = cardSifted
	Accounts HotPlaces = accountSifted
)

// EachNumber calls next for the numbers, told by their place in the list, where they may stand in a block from a place on. It
// adds what it finds and gives where the last find ends, or where it was asked to begin.
func (g *Gate) EachNumber(b []byte, from int, next func(number int, b []byte, at int) int) {
	for i, n := range g.numbers {
		if n == nil || !chars.Vectors || g.Open {
			next(i, b, from)
		}
	}
	if !chars.Vectors || g.Open {
		return
	}
	g.hotsOf(b, g.numbered, len(b))
	for i := range g.nextAt {
		g.nextAt[i] = from
	}
	for _, h := range g.hots {
		g.nextAt[h.number] = g.findNear(h, b, g.nextAt[h.number], next)
	}
}

// hotsOf gathers the hot places of a part of the block that look did not come to.
func (g *Gate) hotsOf(b []byte, from, to int) {
	if len(g.numbers) == 0 || !chars.Vectors || g.Open {
		return
	}
	g.marks.to = 0 // it is used for something else now
	for from < to {
		words := g.classes(b, from)
		if siftAVX2(&g.marks, (words+3)/4, 0) {
			g.gatherHots(from, min(words, (to-from+63)/64))
		}
		from += words << 6
	}
}

// gatherHots gathers those of a chunk.
func (g *Gate) gatherHots(from, words int) {
	cards, accounts := g.marks.sifted[cardSifted][:words], g.marks.sifted[accountSifted][:words]
	for w := range cards {
		if cards[w]|accounts[w] == 0 {
			continue
		}
		for i, n := range g.numbers {
			if n == nil {
				continue
			}
			if hot := g.marks.sifted[n.Hot][w]; hot != 0 {
				g.hots = append(g.hots, hotPlaces{i, from + w<<6, hot})
			}
		}
	}
}

// classes fills the classes of marks from a place on and gives how many of their words are whole, with one behind them.
func (g *Gate) classes(b []byte, from int) int {
	m := &g.marks
	words := min(len(m.places), (len(b)-from)/64)
	if words > 1 {
		classesAVX2(m, &b[from], words, &g.sieve.classes)
		return words - 1
	}
	var rest [192]byte // the end of the block, with nothing behind it
	copy(rest[:], b[from:])
	classesAVX2(m, &rest[0], 3, &g.sieve.classes)
	return 2
}

// findNear calls next around hot places, and gives the place up to which it looked.
func (g *Gate) findNear(h hotPlaces, b []byte, at int, next func(number int, b []byte, at int) int) int {
	span := g.numbers[h.number].Span
	for hot := h.places; hot != 0; hot &= hot - 1 {
		p := h.from + bits.TrailingZeros64(hot)
		if p < at || p >= len(b) {
			continue
		}
		start, end := p, p
		for start > at && span[b[start-1]] {
			start--
		}
		for end < len(b) && span[b[end]] {
			end++
		}
		at = max(end, next(h.number, b[:min(len(b), end+2)], start)) // it looks at what follows
	}
	return at
}

// hotPlaces are those of 64 places at which a number may stand.
type hotPlaces struct {
	number, from int
	places       uint64
}
