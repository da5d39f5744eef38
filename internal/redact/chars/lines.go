package chars

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"strings"
)

// NextLine gives the beginning of the line behind the one that a place is in.
func NextLine(b []byte, at int) int {
	if n := bytes.IndexByte(b[at:], '\n'); n >= 0 {
		return at + n + 1
	}
	return len(b)
}

// WordBefore says whether a word goes on before a place. What belongs to an escape such as \n, \u003c or %20, as texts within other
// texts have it, is no part of the word behind it.
func WordBefore(b []byte, at int) bool {
	if at == 0 || !IsWord(b[at-1]) {
		return false
	}
	switch {
	case at >= 2 && b[at-2] == '\\' && (b[at-1] == 'n' || b[at-1] == 't' || b[at-1] == 'r'):
		return false
	case at >= 3 && b[at-3] == '%' && IsHex(b[at-2]) && IsHex(b[at-1]):
		return false
	}
	return at < 6 || b[at-6] != '\\' || b[at-5] != 'u' || !IsHex(b[at-4]) || !IsHex(b[at-3]) || !IsHex(b[at-2]) || !IsHex(b[at-1])
}

// InsideQuotes says whether a place lies within quotes that were opened behind another one.
func InsideQuotes(b []byte, from, at int, quote byte) (open bool) {
	for i := from; i < at; i++ {
		if b[i] == '\\' {
			i++
		} else if b[i] == quote {
			open = !open
		}
	}
	return open
}

// AtLineStart reports whether nothing but blanks, quotes and dashes stands before a place in its line.
func AtLineStart(b []byte, at int) bool {
	for at > 0 && (IsSpace(b[at-1]) || b[at-1] == '"' || b[at-1] == '\'' || b[at-1] == '-') {
		at--
	}
	return at == 0 || b[at-1] == '\n'
}

// LineFrom gives the rest of the line from a place on, maxValue at most.
func LineFrom(b []byte, from int) []byte {
	b = b[:min(len(b), from+MaxValue)]
	if n := bytes.IndexByte(b[from:], '\n'); n >= 0 {
		return bytes.TrimSuffix(b[from:from+n], []byte("\r"))
	}
	return b[from:]
}

// LastWord gives the last word of a key: pin of service-pin, service_pin2 and servicePin.
func LastWord(raw []byte) string {
	end := len(raw)
	for end > 0 && (raw[end-1] >= '0' && raw[end-1] <= '9' || !IsWord(raw[end-1]) || raw[end-1] == '_') {
		end--
	}
	start := end
	for start > 0 && (raw[start-1]|0x20) >= 'a' && (raw[start-1]|0x20) <= 'z' {
		start--
		upper := raw[start] >= 'A' && raw[start] <= 'Z'
		if upper && start > 0 && raw[start-1] >= 'a' && raw[start-1] <= 'z' {
			break // camelCase
		}
		if upper && start > 1 && start+1 < end && raw[start+1] >= 'a' && raw[start-1] >= 'A' && raw[start-1] <= 'Z' {
			break // DBPass
		}
	}
	return strings.ToLower(string(raw[start:end]))
}

// IndexFrom gives the next place of a sign before an end, or the end.
func IndexFrom(b []byte, at, end int, sign byte) int {
	if n := bytes.IndexByte(b[at:end], sign); n >= 0 {
		return at + n
	}
	return end
}

// NameAt gives the end of the user name that begins at a place; a full stop at the end of a sentence is no part of it.
func NameAt(b []byte, at int) int {
	end := at
	for end < len(b) && end-at < 64 && IsNameByte(b[end]) {
		end++
	}
	for end > at && (b[end-1] == '.' || b[end-1] == '-') {
		end--
	}
	return end
}

// NameBefore gives the beginning of the user name that ends at a place.
func NameBefore(b []byte, at int) int {
	start := at
	for start > 0 && at-start < 64 && IsNameByte(b[start-1]) {
		start--
	}
	return start
}

// FieldsAt gives the words of a line as places in the text that it begins in at a place.
func FieldsAt(line []byte, base int) (words [][2]int) {
	for i := 0; i < len(line); {
		if IsSpace(line[i]) {
			i++
			continue
		}
		j := i
		for j < len(line) && !IsSpace(line[j]) {
			j++
		}
		words = append(words, [2]int{base + i, base + j})
		i = j
	}
	return words
}

// IsOneOf reports whether a word is one of some that are given in small letters, whatever its case.
func IsOneOf(word []byte, list ...string) bool {
	for _, w := range list {
		if len(w) == len(word) && (len(w) == 0 || (w[0]^word[0])|0x20 == 0x20) && bytes.EqualFold([]byte(w), word) {
			return true
		}
	}
	return false
}

// LineStart gives the beginning of the line that a place is in, 256 bytes back at most.
func LineStart(b []byte, at int) int {
	from := max(0, at-MaxPair)
	const ones, newlines = 0x0101010101010101, '\n' * 0x0101010101010101
	for ; at-from >= 8; at -= 8 { // eight bytes at once: which of them are zero then (the highest one is told surely)
		eight := binary.LittleEndian.Uint64(b[at-8:]) ^ newlines
		if low := eight&^(ones<<7) + (ones<<7 - ones); ^(low|eight)&(ones<<7) != 0 {
			return at - bits.LeadingZeros64(^(low|eight)&(ones<<7))/8
		}
	}
	return from + bytes.LastIndexByte(b[from:at], '\n') + 1
}

// FirstWord gives the first word of a line.
func FirstWord(line []byte) string {
	line = bytes.TrimLeft(line, " \t")
	for i, c := range line {
		if IsSpace(c) {
			return string(line[:i])
		}
	}
	return string(line)
}

// LastWordOf gives the last word of a text in lower case.
func LastWordOf(text []byte) string {
	end := len(text)
	for end > 0 && IsSpace(text[end-1]) {
		end--
	}
	start := end
	for start > 0 && !IsBlank(text[start-1]) {
		start--
	}
	return strings.ToLower(string(text[start:end]))
}
