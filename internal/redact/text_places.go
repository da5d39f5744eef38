package redact

import (
	"cmp"
	"slices"
)

// Where a place of a block is in its texts, and a place of what is laid out in the block.

// inBlock gives the first byte of the block that a byte laid out stands for, and the one behind the last. It is quick where one asks
// from the beginning to the end.
func (t *texts) inBlock(at int) (start, end int) {
	n := t.part
	if t.parts[n].laid > at {
		n = 0
	}
	for n+1 < len(t.parts) && t.parts[n+1].laid <= at {
		if n++; n > t.part+maxPartSteps {
			last, exact := slices.BinarySearchFunc(t.parts, at, func(p stretch, at int) int { return cmp.Compare(p.laid, at) })
			if n = last; !exact {
				n--
			}
			break
		}
	}
	t.part = n
	p := t.parts[n]
	if p.escape > 0 {
		return p.start, p.start + p.escape
	}
	start = p.start + at - p.laid
	return start, start + 1
}

// maxPartSteps is how many parts are gone through one by one before the rest is searched.
const maxPartSteps = 16

// at gives the text that a place is in, or nil.
func (t *texts) at(place int) *quotedText {
	n, exact := slices.BinarySearchFunc(t.found, place, func(q quotedText, place int) int { return cmp.Compare(q.start, place) })
	if !exact {
		n--
	}
	if n < 0 || t.found[n].end <= place {
		return nil
	}
	return &t.found[n]
}

// readsAlone reports whether a place is in a text that is surely looked at as it reads.
func (t *texts) readsAlone(place int) bool {
	q := t.at(place)
	return q != nil && q.sure
}

// segments gives the stretches of what is laid out that were one text each, or lines one after the other: what stands in them belongs
// together, as in a document of its own.
func (t *texts) segments() []span {
	t.together = t.together[:0]
	for i, q := range t.found {
		last := len(t.together) - 1
		if i > 0 && isLine(q.quote) && isLine(t.found[i-1].quote) && t.found[i-1].laidEnd == q.laid {
			t.together[last].end = q.laidEnd
			continue
		}
		t.together = append(t.together, span{q.laid, q.laidEnd})
	}
	return t.together
}
