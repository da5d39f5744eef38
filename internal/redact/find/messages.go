package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Where the message of a log begins in its line.

// levels are those of messages, which logs write in capitals.
var levels = chars.NewWordList(chars.WordSet("trace debug info notice warn warning error err critical crit fatal alert emerg severe"))

// endsInLevel says whether a level and blanks stand at the end of a text.
func endsInLevel(text []byte) bool {
	end := len(text)
	for end > 0 && text[end-1] == ' ' {
		end--
	}
	if end < 3 || !chars.IsUpper(text[end-1]) {
		return false
	}
	start := end
	for start > 0 && end-start < 9 && chars.IsUpper(text[start-1]) {
		start--
	}
	return levels.Has(text[start:end])
}

// BeginsMessage says whether a place is at the beginning of a line, or behind what stands before the message of a log.
func BeginsMessage(b []byte, at int) bool {
	if at == 0 || b[at-1] == '\n' {
		return true
	}
	if b[at-1] != ' ' || at < 2 {
		return b[at-1] == '"' || b[at-1] == '>'
	}
	// F: lines of containers.
	return bytes.IndexByte([]byte(":]-|>)Z"), b[at-2]) >= 0 || chars.IsDigit(b[at-2]) || bytes.HasSuffix(b[:at-1], []byte(" F")) ||
		endsInLevel(b[:at])
}

// InTime is isTime of any place of a block, and false where it cannot be told.
func InTime(b []byte, i int) bool { return i >= Edge && i+Edge < len(b) && IsTime(b, i) }

// Edge is how far from the ends of a block the gate does not look: what it reads lies within.
const Edge = 48

// IsTime says whether a colon is the first or second one of a time of day, which no rule is about.
func IsTime(b []byte, i int) bool {
	if !chars.IsDigit(b[i-1]) || !chars.IsDigit(b[i+1]) || !chars.IsDigit(b[i-2]) || !chars.IsDigit(b[i+2]) || chars.IsHex(b[i-3]) {
		return false
	}
	if b[i-3] == ':' { // the second
		return chars.IsDigit(b[i-4]) && chars.IsDigit(b[i-5]) && !chars.IsHex(b[i-6]) && b[i-6] != ':' && b[i+3] != ':' &&
			!chars.IsHex(b[i+3])
	}
	if b[i+3] != ':' {
		return !chars.IsHex(b[i+3])
	}
	return chars.IsDigit(b[i+4]) && chars.IsDigit(b[i+5]) && !chars.IsHex(b[i+6]) && b[i+6] != ':'
}
