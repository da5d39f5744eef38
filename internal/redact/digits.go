package redact

import (
	"math/bits"

	"envask/internal/redact/chars"
)

// Cards and account numbers have no byte of their own before which they could be looked for. Where there are vectors, words of
// bits show the few places that have enough digits; else their rules look for themselves.

// findNumbers adds what the rules find that look for themselves.
func (e *Engine) findNumbers(b []byte, from int) {
	for _, r := range e.nexts {
		if r.sparse == nil || !chars.Vectors || e.ungated {
			e.findNext(r, b, from)
		}
	}
	if !chars.Vectors || e.ungated {
		return
	}
	e.hotsOf(b, e.numbered, len(b))
	for i := range e.nextAt {
		e.nextAt[i] = from
	}
	for _, h := range e.hots {
		e.nextAt[h.rule] = e.findNear(e.nexts[h.rule], b, e.nextAt[h.rule], h.from, h.places)
	}
}

// hotsOf gathers the hot places of a part of the block that look did not come to.
func (e *Engine) hotsOf(b []byte, from, to int) {
	if len(e.nexts) == 0 || !chars.Vectors || e.ungated {
		return
	}
	e.marks.to = 0 // it is used for something else now
	for from < to {
		words := e.classes(b, from)
		if siftAVX2(&e.marks, (words+3)/4, 0) {
			e.gatherHots(from, min(words, (to-from+63)/64))
		}
		from += words << 6
	}
}

// gatherHots gathers those of a chunk.
func (e *Engine) gatherHots(from, words int) {
	cards, accounts := e.marks.sifted[cardSifted][:words], e.marks.sifted[accountSifted][:words]
	for w := range cards {
		if cards[w]|accounts[w] == 0 {
			continue
		}
		for i, r := range e.nexts {
			if r.sparse == nil {
				continue
			}
			if hot := e.marks.sifted[r.sparse.hot][w]; hot != 0 {
				e.hots = append(e.hots, hotPlaces{i, from + w<<6, hot})
			}
		}
	}
}

// classes fills the classes of marks from a place on and gives how many of their words are whole, with one behind them.
func (e *Engine) classes(b []byte, from int) int {
	m := &e.marks
	words := min(len(m.places), (len(b)-from)/64)
	if words > 1 {
		classesAVX2(m, &b[from], words, &e.sieve.classes)
		return words - 1
	}
	var rest [192]byte // the end of the block, with nothing behind it
	copy(rest[:], b[from:])
	classesAVX2(m, &rest[0], 3, &e.sieve.classes)
	return 2
}

// findNear adds what a rule finds around hot places, and gives the place up to which it looked.
func (e *Engine) findNear(r *Rule, b []byte, at, place int, hot uint64) int {
	for ; hot != 0; hot &= hot - 1 {
		p := place + bits.TrailingZeros64(hot)
		if p < at || p >= len(b) {
			continue
		}
		start, end := p, p
		for start > at && r.sparse.span[b[start-1]] {
			start--
		}
		for end < len(b) && r.sparse.span[b[end]] {
			end++
		}
		at = max(end, e.findNext(r, b[:min(len(b), end+2)], start)) // it looks at what follows
	}
	return at
}

// findNext adds what a rule finds that looks for itself, and gives where its last find ends.
func (e *Engine) findNext(r *Rule, b []byte, at int) int {
	for {
		start, end, ok := r.Next(b, at)
		if !ok {
			return at
		}
		e.findings = append(e.findings, finding{start: start, end: end, trigger: start, class: r.Class, rule: r.Name, by: r})
		at = end
	}
}
