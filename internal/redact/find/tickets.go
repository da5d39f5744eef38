package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// What travel documents keep names in.

// Fields of the code of a boarding pass with one leg (IATA Resolution 792): M, the number of legs, the name of 20 signs, E for a ticket
// that
// is none on paper, and the booking of 7 signs.
const (
	passHead    = 2
	passName    = 20
	passBooking = 7
)

// nameOnPass finds the name in the code of a boarding pass at its slash: M1BRANDVOLD/ILKA       EABC123 TLPMRW….
func nameOnPass(b []byte, at int) (int, int, bool) {
	start := at
	for start > 0 && at-start < passName && (chars.IsUpper(b[start-1]) || b[start-1] == ' ' || b[start-1] == '-') {
		start--
	}
	if start < passHead || b[start-1] < '1' || b[start-1] > '9' || b[start-2] != 'M' || start > passHead &&
		chars.IsWord(b[start-passHead-1]) {
		return 0, 0, false
	}
	behind := start + passName
	if behind+passBooking >= len(b) || at >= behind || b[behind] != 'E' {
		return 0, 0, false
	}
	for _, c := range b[start:behind] {
		if !chars.IsUpper(c) && c != ' ' && c != '/' && c != '-' {
			return 0, 0, false
		}
	}
	for _, c := range b[behind+1 : behind+1+passBooking] {
		if !chars.IsUpper(c) && !chars.IsDigit(c) && c != ' ' {
			return 0, 0, false
		}
	}
	return start, start + len(bytes.TrimRight(b[start:behind], " ")), true
}

// titles end the names of travellers.
var titles = chars.WordSet("mr mrs ms miss dr mstr chd inf")

// IsTravelName says whether a text is a name as lists of travellers have it: SURNAME/GIVEN MR.
func IsTravelName(v []byte) bool {
	surname, given, ok := bytes.Cut(v, []byte("/"))
	if n := bytes.LastIndexByte(given, ' '); n > 0 && titles.HasBytes(bytes.ToLower(given[n+1:])) {
		given = given[:n]
	}
	if !ok || len(surname) < 2 || len(given) < 2 || !chars.IsUpper(surname[0]) || !chars.IsUpper(given[0]) {
		return false
	}
	for _, c := range append(append([]byte{}, surname...), given...) {
		if !chars.IsWord(c) && c != ' ' && c != '-' && c != '\'' && c < 0x80 || chars.IsDigit(c) {
			return false
		}
	}
	return true
}
