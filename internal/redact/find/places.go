package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Whether a name stands for itself, or is a part of that of a place, a ship or an organisation.

// ofPlaces are words before what may be the name of a place, ship or thing, and no person.
var ofPlaces = chars.WordSet(`the a an in at near via port saint st mount lake cape fort pier terminal ship ferry vessel mv ms ss rms
	boat station street project operation class hurricane storm`)

// namedFreely says whether a whole name stands in a text with no word beside it that makes it a part of a longer name, or one of a place.
func namedFreely(b []byte, at, end int) bool {
	if shouted(b, at) && !isLabelled(b, at) || end+1 < len(b) && b[end] == ' ' && isCapital(b, end+1) && !isLabel(b, end+1) {
		return false
	}
	if end < len(b) && bytes.IndexByte([]byte("'_-/\\@"), b[end]) >= 0 && !ofOrganisation(b, end) {
		return false
	}
	if last := bytes.LastIndexByte(b[at:end], ' ') + 1; last > 1 && chars.IsUpper(b[end-1]) && chars.IsLower(b[at+1]) &&
		end-at-last > 1 { // Travis CI
		return false
	}
	if at == 0 || b[at-1] == '\n' {
		return true
	}
	before := b[max(0, at-24):at]
	word := lastWord(before)
	if isLabelled(b, at) {
		return true
	}
	if ofPlaces.Has(word) && (chars.IsAscii(b[at:end]) || len(word) > 2) {
		return false
	}
	start := len(bytes.TrimRight(before, " ")) - len(word)
	return start < 0 || before[len(before)-1] != ' ' || len(word) == 0 || !chars.IsUpper(before[start]) ||
		!isKeyLetter(before[len(before)-2])
}

// ofOrganisation says whether a name goes on with what somebody belongs to, as directories write it: Ilvar Tostrund/Ops/Pier.
func ofOrganisation(b []byte, end int) bool {
	if end+2 >= len(b) || b[end] != '/' || !isCapital(b, end+1) {
		return false
	}
	to := wordEnd(b, end+1)
	return to > end+2 && (to == len(b) || b[to] != ' ' || !isCapital(b, min(len(b)-1, to+1)))
}

// labels are words in capitals that tellers and terminals write before what they say.
var labels = chars.WordSet(`CUST CUSTOMER PAX NAME AGENT DRIVER GUEST CREW CASHIER OPERATOR HOLDER PASSENGER TEL PHONE MAIL DOB CARD SEAT
	LANE GATE REF`)

// isLabel says whether a label begins at a place.
func isLabel(b []byte, at int) bool { return labels.HasBytes(b[at:wordEnd(b, at)]) }

// isLabelled says whether a label and a blank stand before a place.
func isLabelled(b []byte, at int) bool {
	start := at - 1
	for start > 0 && chars.IsUpper(b[start-1]) {
		start--
	}
	return at > 2 && b[at-1] == ' ' && labels.HasBytes(b[start:at-1])
}

// ofShip says whether the word before a name tells that it is one of a ship, a place or a thing, whatever it does: the ferry Marina Bay
// came.
func ofShip(b []byte, at int) bool {
	if at < 3 || b[at-1] != ' ' {
		return false
	}
	before := lastWord(b[max(0, at-24):at])
	return ofPlaces.Has(before) && (len(before) > 4 || chars.IsOneOf([]byte(before), "ship", "boat", "ms", "mv", "rms", "port", "pier",
		"lake", "cape", "fort"))
}
