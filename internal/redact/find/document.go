package find

import (
	"bytes"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
)

// Limits of the numbers of documents, in bytes and digits.
const (
	minDocument       = 5
	maxDocument       = 24
	minDocumentDigits = 5
)

// DocumentNumber finds the number of a passport, an identity card, a driving licence or a person, or a date of birth, next to a telling
// key.
func DocumentNumber(b []byte, at, free int) (int, int, bool) {
	k, ok := keyedAt(b, at)
	if !ok || k.start < free {
		return 0, 0, false
	}
	limit := len(b)
	if k.quoted {
		limit = k.end
	}
	end := k.start
	for end < limit && end-k.start < maxDocument && (chars.IsWord(b[end]) && b[end] != '_' ||
		bytes.IndexByte([]byte("-./"), b[end]) >= 0 && end+1 < limit && chars.IsWord(b[end+1])) {
		end++
	}
	if end < len(b) && (chars.IsWord(b[end]) || b[end] == ':' && end+1 < len(b) && chars.IsDigit(b[end+1])) { // a time
		return 0, 0, false
	}
	return k.start, end, IsDocumentNumber(b[k.start:end])
}

// IsDocumentNumber says whether a text looks like such a number or date: mostly digits, in groups at most, and large letters.
func IsDocumentNumber(v []byte) bool {
	digits := 0
	for _, c := range v {
		switch {
		case chars.IsDigit(c):
			digits++
		case c >= 'a' && c <= 'z':
			return false
		}
	}
	if (digits == 15 || digits == 16) && digits == len(v) &&
		(alias.LuhnDigits(v) || alias.IsAlias(alias.Card, v)) { // of a bank, which has a rule of its own
		return false
	}
	return len(v) >= minDocument && len(v) <= maxDocument && digits >= minDocumentDigits && len(bytes.Trim(v, "0-./")) > 0
}

// IsShortDate reports whether a text is a date as lists of passengers have it: 12AUG74.
func IsShortDate(v []byte) bool {
	return len(v) >= 7 && len(v) <= 9 && chars.IsAllDigits(v[:2]) && chars.IsAllDigits(v[5:]) &&
		(months.HasBytes(bytes.ToLower(v[2:5])) || chars.IsOneOf(v[2:5], "jan", "may"))
}

// What a passport or card says to machines (ICAO Doc 9303, parts 4 to 6): two lines of 44 or 36 signs, or three of 30.
const (
	passportLine = 44
	visaLine     = 36
	cardLine     = 30
)

// machineSigns are those of such lines.
var machineSigns = *chars.BytesThat(func(c byte) bool { return chars.IsUpper(c) || chars.IsDigit(c) || c == '<' })

// MachineReadable calls found with what tells of a person in the lines that machines read on a document whose first line begins at a place.
func MachineReadable(b []byte, at int, found func(start, end int)) {
	size := 0
	for at+size < len(b) && machineSigns[b[at+size]] {
		size++
	}
	if size != passportLine && size != visaLine && size != cardLine || bytes.IndexByte([]byte("PVIAC"), b[at]) < 0 ||
		bytes.IndexByte(b[at:at+size], '<') < 0 {
		return
	}
	second := chars.NextLine(b, at)
	if !isMachineLine(b, second, size) {
		return
	}
	lines, birth := []int{at, second}, second+13
	if size == cardLine {
		third := chars.NextLine(b, second)
		if lines, birth = append(lines, third), second; !isMachineLine(b, third, size) {
			return
		}
	}
	if !chars.IsAllDigits(b[birth : birth+6]) {
		return
	}
	for i, line := range lines {
		start, end := line, line+size
		if i == 0 {
			start += 2 // what kind of document it is
		}
		for end > start && b[end-1] == '<' {
			end--
		}
		if start < end {
			found(start, end)
		}
	}
}

// isMachineLine reports whether a line of such signs alone begins at a place.
func isMachineLine(b []byte, at, size int) bool {
	if at+size > len(b) || at+size < len(b) && b[at+size] != '\n' && b[at+size] != '\r' {
		return false
	}
	for _, c := range b[at : at+size] {
		if !machineSigns[c] {
			return false
		}
	}
	return true
}

// IsDate says whether a text is a date of digits alone: 1988-07-12, 12.07.1988. It stands for many other things elsewhere.
func IsDate(v []byte) bool {
	groups := bytes.FieldsFunc(v, func(r rune) bool { return r == '-' || r == '.' || r == '/' })
	if len(groups) == 1 {
		return len(v) == 8 && chars.IsAllDigits(v) && (v[0] == '1' && v[1] == '9' || v[0] == '2' && v[1] == '0')
	}
	for _, g := range groups {
		if !chars.IsAllDigits(g) || len(g) > 4 {
			return false
		}
	}
	return len(groups) == 3
}
