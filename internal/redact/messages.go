package redact

import (
	"bytes"
	"strings"
)

// Where the message of a log begins in its line.

// behindMessageSign says whether what stands before the message of a log, or before a command, ends at a place.
func behindMessageSign(line []byte, at int) bool {
	if line[at-1] != ' ' {
		return bytes.HasSuffix(line[:at], []byte("command:"))
	}
	switch before := line[at-2]; before {
	case ':', ']', '>', '#', '$', '|':
		return true
	case '-', 'F':
		return at > 2 && line[at-3] == ' '
	}
	return endsInLevel(line[:at])
}

// levels are those of messages, which logs write in capitals.
var levels = newWordList(wordSet("trace debug info notice warn warning error err critical crit fatal alert emerg severe"))

// endsInLevel says whether a level and blanks stand at the end of a text.
func endsInLevel(text []byte) bool {
	end := len(text)
	for end > 0 && text[end-1] == ' ' {
		end--
	}
	if end < 3 || !isUpper(text[end-1]) {
		return false
	}
	start := end
	for start > 0 && end-start < 9 && isUpper(text[start-1]) {
		start--
	}
	return levels.has(text[start:end])
}

// verbOf gives the word that begins a line of a configuration up to a place, empty where nothing stands before it. Where the line is
// one of a log, it is that of its message, and not sure.
func verbOf(line []byte) (verb string, sure bool) {
	verb = strings.ToLower(firstWord(line))
	if verb == "" || configVerbs[verb] {
		return verb, true
	}
	from := len(line)
	for from > 1 && !behindMessageSign(line, from) {
		from--
	}
	if from < 2 {
		return verb, true
	}
	if inner := strings.ToLower(firstWord(line[from:])); inner == "" || configVerbs[inner] {
		return inner, false
	}
	return verb, true
}

// beginsMessage says whether a place is at the beginning of a line, or behind what stands before the message of a log.
func beginsMessage(b []byte, at int) bool {
	if at == 0 || b[at-1] == '\n' {
		return true
	}
	if b[at-1] != ' ' || at < 2 {
		return b[at-1] == '"' || b[at-1] == '>'
	}
	return bytes.IndexByte([]byte(":]-|>)Z"), b[at-2]) >= 0 || isDigit(b[at-2]) || bytes.HasSuffix(b[:at-1], []byte(" F")) || endsInLevel(b[:at]) // F: lines of containers
}
