package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// maxSpeaker bounds how long the name before what somebody says is, in bytes, and in words.
const (
	maxSpeaker      = 48
	maxSpeakerWords = 4
)

// speaker finds the name in [06:14] NAME NAME: text and in 14/03/2026, 06:14 - NAME NAME: text, as chats are exported: words with capitals
// that are of no everyday use.
func speaker(b []byte, at int) (int, int, bool) {
	if at+1 >= len(b) || b[at+1] != ' ' || at < 2 {
		return 0, 0, false
	}
	start, words := at, 0
	for {
		word := start
		for word > 0 && at-word < maxSpeaker && (chars.IsWord(b[word-1]) && !chars.IsDigit(b[word-1]) || b[word-1] >= 0x80 ||
			b[word-1] == '-' || b[word-1] == '\'') {
			word--
		}
		if start-word < 2 || !chars.IsUpper(b[word]) && b[word] < 0x80 || IsEveryday(bytes.ToLower(b[word:start])) || words == maxSpeakerWords {
			return 0, 0, false
		}
		if words++; word < 2 || b[word-1] != ' ' {
			return 0, 0, false
		}
		if before := b[:word-1]; saidAt(before) {
			return word, at, words > 1
		}
		start = word - 1
	}
}

// saidAt reports whether a text ends with the time at which something was said, as chats have it before a name.
func saidAt(b []byte) bool {
	line := b[chars.LineStart(b, len(b)):]
	switch {
	case len(line) < 7 || len(line) > 32:
		return false
	case line[0] == '[':
		return line[len(line)-1] == ']' && bytes.IndexByte(line, ':') > 0 && chars.IsDigit(line[1])
	}
	return chars.IsDigit(line[0]) && bytes.HasSuffix(line, []byte(" -")) && bytes.IndexByte(line, ':') > 0 && bytes.IndexByte(line, ',') > 0
}
