package find

import (
	"bytes"
	"unicode/utf8"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// Who is named once with the whole name is called by half of it in the rest of a text: Ines Rocha … Ines said; Mr Rocha.

// minHalf is how long half a name is at least that is looked for, in bytes; mostHalves bounds how many are.
const (
	minHalf    = 4
	mostHalves = 200
)

// Halves collects the halves of names of a text.
type Halves map[string]bool

// Add adds those of a name that are no words of everybody's.
func (h Halves) Add(name []byte) {
	if len(h) >= mostHalves {
		return
	}
	for _, w := range bytes.Fields(name) {
		w = bytes.Trim(w, ".,")
		lower := bytes.ToLower(w)
		if len(w) >= minHalf && isCapital(w, 0) && !chars.IsUpper(w[1]) && !IsEveryday(lower) && !months.HasBytes(lower) {
			h[string(w)] = true
		}
	}
}

// Each gives the places of a text at which they stand alone: as words, and as no part of the name of something.
func (h Halves) Each(b []byte, from, to int, found func(start, end int)) {
	if len(h) == 0 {
		return
	}
	for at := from; at < to; at++ {
		if !isCapital(b[:to], at) || at > from && (isKeyLetter(b[at-1]) || bytes.IndexByte([]byte("0123456789_/\\.-@$%"), b[at-1]) >= 0) {
			continue
		}
		end := wordEnd(b[:to], at)
		if !h[string(b[at:end])] {
			at = max(at, end-1)
			continue
		}
		if isWholeHalf(b, at, end, to) && !isCredit(chars.LineFrom(b[:to], chars.LineStart(b, at))) {
			found(at, end)
		}
		at = end - 1
	}
}

// isWholeHalf reports whether half a name at a place is no part of something longer: of the name of a ship, a place or a product.
func isWholeHalf(b []byte, at, end, to int) bool {
	return endsHalf(b[at:to], end-at) && beginsHalf(b, at)
}

// endsHalf reports whether a name ends with a word.
func endsHalf(b []byte, end int) bool {
	if end == len(b) {
		return true
	}
	next := end+1 < len(b) && isKeyLetter(b[end+1])
	switch c := b[end]; {
	case chars.IsDigit(c), bytes.IndexByte([]byte("_/\\@=("), c) >= 0:
		return false
	case c == '-' || c == '.':
		return !next
	case c == ' ':
		return end+1 == len(b) || !isCapital(b, end+1)
	}
	return true
}

// beginsHalf reports whether a name begins at a place: none with the name of a ship or a place, or with another word, before it.
func beginsHalf(b []byte, at int) bool {
	if at < 2 || b[at-1] != ' ' {
		return true
	}
	before := lastWord(b[max(0, at-24):at])
	if len(before) > 2 && before != "via" && before != "near" && ofPlaces.Has(before) || lexicon.Given([]byte(before)) {
		return false
	}
	start := at - 1 - len(before)
	return start < 0 || len(before) < 2 || !isCapital(b, start) || !utf8.RuneStart(b[start]) || b[at-2] == ':' || b[at-2] == ',' ||
		beginsSentence(b, start)
}

// beginsSentence reports whether nothing of a sentence stands before a word.
func beginsSentence(b []byte, at int) bool {
	for at > 0 && (b[at-1] == ' ' || b[at-1] == '"' || b[at-1] == '(' || b[at-1] == '-') {
		at--
	}
	return at == 0 || bytes.IndexByte([]byte("\n.!?:;>"), b[at-1]) >= 0
}
