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
