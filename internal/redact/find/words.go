package find

import (
	"bytes"
	"strings"
	"unicode"
	"unicode/utf8"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// Rules compare words with lists at every find, so this is done without copies.

// IsLoginWord says whether a word is a name where only its place tells: letters without capitals within, digits, dots and dashes, and
// no word that everybody uses.
func IsLoginWord(v []byte) bool {
	if len(v) < 3 || len(v) > 32 {
		return false
	}
	capitals, digits, others := 0, 0, 0
	for _, c := range v {
		switch {
		case chars.IsUpper(c):
			capitals++
		case chars.IsDigit(c):
			digits++
		case c == '_':
			return false
		case c == '.' || c == '-':
			others++
		}
	}
	if capitals > 1 || capitals == 1 && !chars.IsUpper(v[0]) || others > 1 || digits > 0 && chars.IsHexes(v) || isDeviceName(v) ||
		isShortVersion(v) {
		return false
	}
	for _, part := range bytes.FieldsFunc(v, func(r rune) bool { return r == '-' }) {
		if IsEveryday(bytes.ToLower(bytes.TrimRight(part, "0123456789"))) {
			return false
		}
	}
	return true
}

// isShortVersion says whether a word is a version such as v2.1.
func isShortVersion(v []byte) bool {
	if len(v) < 2 || v[0] != 'v' {
		return false
	}
	for _, c := range v[1:] {
		if !chars.IsDigit(c) && c != '.' {
			return false
		}
	}
	return true
}

// IsEveryday says whether a word in small letters is one of those that everybody uses, in some form of it.
func IsEveryday(w []byte) bool { return lexicon.Everyday(w) }

// lineText gives the first place of a line that is no blank; a place in it tells which line.
func lineText(b []byte, at int) int {
	first := chars.LineStart(b, at)
	for first < at && chars.IsSpace(b[first]) {
		first++
	}
	return first
}

// opensMessage says whether a line, or the message in it, begins at a place, but for blanks.
func opensMessage(b []byte, at int) bool { return BeginsMessage(b, at) || lineText(b, at) == at }

// isDeviceName says whether a name is one word, a dash and a number, as devices have them.
func isDeviceName(v []byte) bool {
	n := bytes.LastIndexByte(v, '-')
	return n > 0 && chars.IsAllDigits(v[n+1:]) && len(v) > n+1
}

// beginsProse says whether a word in small letters is one that everybody uses, and two more in small letters follow: a sentence about
// what stands before.
func beginsProse(b []byte, start, end int) bool {
	if end >= len(b) || b[end] != ' ' || !chars.IsSmall(b[start:end]) || !IsEveryday(b[start:end]) {
		return false
	}
	words := bytes.Fields(b[end:min(len(b), end+chars.MaxKey)])
	return len(words) > 2 && chars.IsSmall(words[0]) && chars.IsSmall(words[1])
}

// isEverydayName says whether all words of a name are those that everybody uses.
func isEverydayName(v []byte) bool {
	for _, w := range bytes.Fields(v) {
		if !IsEveryday(bytes.ToLower(bytes.TrimRight(w, ",."))) {
			return false
		}
	}
	return true
}

// goesOn says whether a text goes on behind a name as it does behind words: not with a sign of a program or a path.
func goesOn(b []byte, end int) bool {
	if end == len(b) || chars.IsBlank(b[end]) || b[end] == '@' {
		return true
	}
	if b[end] == '\'' {
		return end+2 < len(b) && b[end+1] == 's' && b[end+2] == ' '
	}
	return bytes.IndexByte([]byte(",.;:)"), b[end]) >= 0 && (end+1 == len(b) || chars.IsBlank(b[end+1]))
}

// isCapitals says whether a text is capitals, with blanks, dashes and apostrophes between them.
func isCapitals(word []byte) bool {
	for _, c := range word {
		if !chars.IsUpper(c) && c < 0x80 && c != ' ' && c != '-' && c != '\'' {
			return false
		}
	}
	return true
}

// wordEnd gives the end of a word of letters of any script.
func wordEnd(b []byte, at int) int {
	for at < len(b) && isKeyLetter(b[at]) && b[at] != '_' {
		at++
	}
	return at
}

// isCapital says whether a large letter of any script stands at a place.
func isCapital(b []byte, at int) bool {
	if b[at] < utf8.RuneSelf {
		return chars.IsUpper(b[at])
	}
	r, _ := utf8.DecodeRune(b[at:])
	return unicode.IsUpper(r)
}

// shouted says whether a word and the one before it stand in capitals, as in licences.
func shouted(b []byte, at int) bool {
	return at > 2 && at+1 < len(b) && chars.IsUpper(b[at+1]) && chars.IsUpper(b[at-2]) && chars.IsUpper(b[at-3])
}

func isKeyLetter(c byte) bool { return chars.IsWord(c) && !chars.IsDigit(c) || c >= utf8.RuneSelf }

// lastWord gives the last word of a text in small letters, without the sign of a sentence behind it.
func lastWord(text []byte) string { return strings.TrimRight(chars.LastWordOf(text), ",:;") }

// behindKey says whether a colon and a blank stand before a place, behind a word.
func behindKey(b []byte, at int) bool {
	return at > 2 && b[at-1] == ' ' && b[at-2] == ':' && (isKeyLetter(b[at-3]) || at > 3 && b[at-3] == ' ' && isKeyLetter(b[at-4]))
}
