package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Limits of the numbers of documents, in bytes and digits.
const (
	minDocument       = 6
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
	return len(v) >= minDocument && len(v) <= maxDocument && digits >= minDocumentDigits && len(bytes.Trim(v, "0-./")) > 0
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
