package redact

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"strings"

	"envask/internal/redact/lexicon"
)

// Rules compare words with lists at every find, so this is done without copies.

func wordSet(words string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(words) {
		m[w] = true
	}
	return m
}

// wordList is a set of words in small letters of which most of what is asked for is none: length, first and last letter say so
// quickly.
type wordList struct {
	words map[string]bool
	may   [64]uint64
}

func newWordList(sets ...map[string]bool) *wordList {
	l := &wordList{words: map[string]bool{}}
	for _, set := range sets {
		for w := range set {
			l.words[w] = true
			h := wordHash(len(w), w[0], w[len(w)-1])
			l.may[h>>6&63] |= 1 << (h & 63)
		}
	}
	return l
}

func wordHash(n int, first, last byte) uint {
	return uint(n)*131 ^ uint(first&0x1f)<<7 ^ uint(last&0x1f)<<2
}

// has says whether a word is in the list, in capitals or small letters.
func (l *wordList) has(word []byte) bool {
	n := len(word)
	if n == 0 {
		return false
	}
	h := wordHash(n, word[0], word[n-1])
	if l.may[h>>6&63]>>(h&63)&1 == 0 && word[0] < 0x80 && word[n-1] < 0x80 {
		return false
	}
	return hasWord(l.words, word)
}

// hasWord says whether a word is in a set of words in small letters.
func hasWord(set map[string]bool, word []byte) bool {
	var buf [32]byte
	return set[string(lowered(&buf, word))]
}

// isLoginWord says whether a word is a name where only its place tells: letters without capitals within, digits, dots and dashes, and
// no word that everybody uses.
func isLoginWord(v []byte) bool {
	if len(v) < 3 || len(v) > 32 {
		return false
	}
	capitals, digits, others := 0, 0, 0
	for _, c := range v {
		switch {
		case isUpper(c):
			capitals++
		case isDigit(c):
			digits++
		case c == '_':
			return false
		case c == '.' || c == '-':
			others++
		}
	}
	if capitals > 1 || capitals == 1 && !isUpper(v[0]) || others > 1 || digits > 0 && isHexes(v) || isDeviceName(v) || isShortVersion(v) {
		return false
	}
	for _, part := range bytes.FieldsFunc(v, func(r rune) bool { return r == '-' }) {
		if isEveryday(bytes.ToLower(bytes.TrimRight(part, "0123456789"))) {
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
		if !isDigit(c) && c != '.' {
			return false
		}
	}
	return true
}

// isEveryday says whether a word in small letters is one of those that everybody uses, in some form of it.
func isEveryday(w []byte) bool { return lexicon.Everyday(w) }

// lowered gives a word in small letters, in buf if it is a short one.
func lowered(buf *[32]byte, word []byte) []byte {
	if len(word) > len(buf) {
		return bytes.ToLower(word)
	}
	for i, c := range word {
		if c >= 0x80 {
			return bytes.ToLower(word)
		}
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		buf[i] = c
	}
	return buf[:len(word)]
}

func isOneOf(word []byte, list ...string) bool {
	for _, w := range list {
		if len(w) == len(word) && (len(w) == 0 || (w[0]^word[0])|0x20 == 0x20) && bytes.EqualFold([]byte(w), word) {
			return true
		}
	}
	return false
}

// lineStart gives the beginning of the line that a place is in, 256 bytes back at most.
func lineStart(b []byte, at int) int {
	from := max(0, at-maxPair)
	const ones, newlines = 0x0101010101010101, '\n' * 0x0101010101010101
	for ; at-from >= 8; at -= 8 { // eight bytes at once: which of them are zero then (the highest one is told surely)
		eight := binary.LittleEndian.Uint64(b[at-8:]) ^ newlines
		if low := eight&^(ones<<7) + (ones<<7 - ones); ^(low|eight)&(ones<<7) != 0 {
			return at - bits.LeadingZeros64(^(low|eight)&(ones<<7))/8
		}
	}
	return from + bytes.LastIndexByte(b[from:at], '\n') + 1
}

// firstWord gives the first word of a line.
func firstWord(line []byte) string {
	line = bytes.TrimLeft(line, " \t")
	for i, c := range line {
		if isSpace(c) {
			return string(line[:i])
		}
	}
	return string(line)
}

// lastWordOf gives the last word of a text in lower case.
func lastWordOf(text []byte) string {
	end := len(text)
	for end > 0 && isSpace(text[end-1]) {
		end--
	}
	start := end
	for start > 0 && !isBlank(text[start-1]) {
		start--
	}
	return strings.ToLower(string(text[start:end]))
}

// lineText gives the first place of a line that is no blank; a place in it tells which line.
func lineText(b []byte, at int) int {
	first := lineStart(b, at)
	for first < at && isSpace(b[first]) {
		first++
	}
	return first
}

// opensMessage says whether a line, or the message in it, begins at a place, but for blanks.
func opensMessage(b []byte, at int) bool { return beginsMessage(b, at) || lineText(b, at) == at }
