package find

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// Lines whose fields are parted by a sign and have no head: audits and logs of access. Whose an address is mostly stands in the next field.

// The length of an account in such a field, in bytes: shorter ones are states and codes, longer ones are sentences.
const (
	minFieldAccount = 5
	maxFieldAccount = 24
)

// AccountBesideAddress gives the account in the field before the one with an address, or in that behind it: a word in small letters that
// nobody uses in texts about computers.
func AccountBesideAddress(b []byte, address, behind int) (start, end int) {
	at := address
	for at > 0 && address-at < 4 && b[at-1] == ' ' {
		at--
	}
	if at > 1 && isFieldSign(b[at-1]) {
		if start, end = fieldBefore(b, at-1); isFieldAccount(b, start, end) {
			return start, end
		}
	}
	for at = behind; at < len(b) && at-behind < 4 && b[at] == ' '; {
		at++
	}
	if at+1 < len(b) && isFieldSign(b[at]) {
		if start, end = fieldBehind(b, at+1); isFieldAccount(b, start, end) {
			return start, end
		}
	}
	return 0, 0
}

func isFieldSign(c byte) bool { return c == '|' || c == ',' || c == ';' }

// fieldBefore gives the field that ends before a sign, if it ends behind the same one.
func fieldBefore(b []byte, sign int) (start, end int) {
	for end = sign; end > 0 && b[end-1] == ' '; {
		end--
	}
	for start = end; start > 0 && end-start <= maxFieldAccount && isFieldLetter(b[start-1]); {
		start--
	}
	before := bytes.TrimRight(b[max(0, start-4):start], " ")
	if len(before) == 0 || before[len(before)-1] != b[sign] {
		return 0, 0
	}
	return start, end
}

// fieldBehind gives the field behind a sign, if the same one ends it.
func fieldBehind(b []byte, at int) (start, end int) {
	sign := b[at-1]
	for start = at; start < len(b) && start-at < 4 && b[start] == ' '; {
		start++
	}
	for end = start; end < len(b) && end-start <= maxFieldAccount && isFieldLetter(b[end]); {
		end++
	}
	behind := bytes.TrimLeft(b[end:min(len(b), end+4)], " ")
	if len(behind) == 0 || behind[0] != sign {
		return 0, 0
	}
	return start, end
}

func isFieldLetter(c byte) bool { return chars.IsLower(c) || c == '.' || c == '_' }

// isFieldAccount reports whether a field can be nothing but an account.
func isFieldAccount(b []byte, start, end int) bool {
	if end-start < minFieldAccount || end-start > maxFieldAccount {
		return false
	}
	w := b[start:end]
	if !chars.IsLower(w[0]) || !chars.IsLower(w[len(w)-1]) || Nobody.Has(w) || lexicon.Everyday(w) {
		return false
	}
	parts := bytes.FieldsFunc(w, func(r rune) bool { return r == '.' || r == '_' })
	if len(parts) > 2 {
		return false
	}
	for _, p := range parts {
		if !lexicon.Everyday(p) {
			return true
		}
	}
	return false
}

// loginCells are fields of records behind which the account stands.
var loginCells = chars.WordSet("logon login logoff logout signon signin signoff signout badpw badpin authfail unlock lockout badlogin")

// EndsLoginField reports whether a field that tells of a login ends before a sign.
func EndsLoginField(b []byte, at int) bool {
	start := at
	for start > 0 && at-start < 12 && chars.IsWord(b[start-1]) {
		start--
	}
	return start > 0 && b[start-1] == b[at] && bytes.ContainsAny(b[chars.LineStart(b, start):start], "0123456789") &&
		loginCells.HasBytes(bytes.ToLower(b[start:at]))
}

// userOfRecord finds the account in the field behind one that tells of a login: EVT|20310314061201|LOGON|NAME|GATE3.
func userOfRecord(b []byte, at int) (int, int, bool) {
	if !EndsLoginField(b, at) {
		return 0, 0, false
	}
	end := chars.NameAt(b, at+1)
	if end-at < 4 || end < len(b) && b[end] != b[at] && b[end] != '\n' && b[end] != '\r' || chars.AllDigits(string(b[at+1:end])) {
		return 0, 0, false
	}
	return at + 1, end, !IsEveryday(bytes.ToLower(b[at+1 : end]))
}
