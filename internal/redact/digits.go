package redact

import "math/bits"

// Cards and account numbers have no byte of their own before which they could be looked for. Where there are vectors, words of
// bits show the few places that have enough digits; else their rules look for themselves.

// sparse is set for rules with Next that find nothing but around the places that hot gives: those of 64 places at which every
// find begins. It is given the classes of these and of the next 64 bytes.
type sparse struct {
	hot  func(now, next *classWords) uint64
	span *[256]bool // what a find is written with
}

// hotPlaces are those of 64 places at which a rule of e.nexts has to look.
type hotPlaces struct {
	rule, from int
	places     uint64
}

// findNumbers adds what the rules find that look for themselves.
func (e *Engine) findNumbers(b []byte, from int) {
	for _, r := range e.nexts {
		if r.sparse == nil || !vectors || e.ungated {
			e.findNext(r, b, from)
		}
	}
	if !vectors || e.ungated {
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
	if len(e.nexts) == 0 || !vectors || e.ungated {
		return
	}
	e.marks.to = 0 // it is used for something else now
	for from < to {
		words := e.classes(b, from)
		for w := range min(words, (to-from+63)/64) {
			e.gatherHots(&e.marks.classes[w], &e.marks.classes[w+1], from+w<<6)
		}
		from += words << 6
	}
}

// gatherHots gathers those of 64 places.
func (e *Engine) gatherHots(now, next *classWords, from int) {
	for i, r := range e.nexts {
		if r.sparse == nil {
			continue
		}
		if hot := r.sparse.hot(now, next); hot != 0 {
			e.hots = append(e.hots, hotPlaces{i, from, hot})
		}
	}
}

// classes fills the classes of marks from a place on and gives how many of their words are whole, with one behind them.
func (e *Engine) classes(b []byte, from int) int {
	m := &e.marks
	words := min(len(m.classes)-1, (len(b)-from)/64)
	if words > 1 {
		classesAVX2(&m.classes[0], &b[from], words, &e.sieve.classes)
		return words - 1
	}
	var rest [128]byte // the end of the block, with nothing behind it
	copy(rest[:], b[from:])
	classesAVX2(&m.classes[0], &rest[0], 2, &e.sieve.classes)
	m.classes[2] = classWords{}
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
		e.findings = append(e.findings, finding{start: start, end: end, trigger: start, class: r.Class, rule: r.Name})
		at = end
	}
}

// ahead gives the bits n places on.
func ahead(now, next uint64, n int) uint64 { return now>>n | next<<(64-n) }

// cardHot marks the beginnings of what may be a card: four digits, four more behind a sign or none, and so on.
func cardHot(now, next *classWords) uint64 {
	d, more := now[digitClass], next[digitClass]
	four := d & ahead(d, more, 1) & ahead(d, more, 2) & ahead(d, more, 3)
	if four == 0 {
		return 0
	}
	fours := more & (more >> 1) & (more >> 2) & (more >> 3)
	third := ahead(four, fours, 8) | ahead(four, fours, 9) | ahead(four, fours, 10)
	six := ahead(four, fours, 5) & ahead(four, fours, 7) & ahead(d, more, 12) // 4-6-3 and longer
	return four & (ahead(four, fours, 4) | ahead(four, fours, 5)) & (third | six)
}

// accountHot marks the beginnings of what may be an IBAN: two capitals, two digits, and eight or more of both, in one piece or
// in groups of four.
func accountHot(now, next *classWords) uint64 {
	u, d := now[capitalClass], now[digitClass]
	moreU, moreD := next[capitalClass], next[digitClass]
	head := u & ahead(u, moreU, 1) & ahead(d, moreD, 2) & ahead(d, moreD, 3)
	if head == 0 {
		return 0
	}
	both, more := u|d, moreU|moreD
	four := both & ahead(both, more, 1) & ahead(both, more, 2) & ahead(both, more, 3)
	fours := more & (more >> 1) & (more >> 2) & (more >> 3)
	return head & (ahead(four, fours, 4) | ahead(four, fours, 5)) & (ahead(four, fours, 8) | ahead(four, fours, 10))
}
