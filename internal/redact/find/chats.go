package find

import (
	"bytes"
	"strings"

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
		if start-word < 2 || !chars.IsUpper(b[word]) &&
			b[word] < 0x80 || IsEveryday(bytes.ToLower(b[word:start])) || words == maxSpeakerWords {
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

// farAnswer is how many messages behind a question its answer may stand.
const farAnswer = 3

// ChatAnswers finds what somebody answers in an exported chat who was asked for a password or code: [06:15] A B: it is 4417#. It is for
// short texts.
func ChatAnswers(b []byte, from, to int, secret func(start, end int)) {
	asked := 0
	for at := from; at < to; at = chars.NextLine(b[:to], at) {
		line := chars.LineFrom(b[:to], at)
		message := messageOf(line)
		if message == 0 {
			continue
		}
		if text := line[message:]; asks(text) && asksForSecret(text) {
			asked = farAnswer
			continue
		}
		if asked == 0 {
			continue
		}
		asked--
		if start, end := answered(line, message); start < end {
			secret(at+start, at+end)
			asked = 0
		}
	}
}

// messageOf gives where the message begins in a line of a chat, or 0.
func messageOf(line []byte) int {
	n := bytes.Index(line, []byte(": "))
	if n < 0 || n > maxSpeaker+32 {
		return 0
	}
	if bracket := bytes.IndexByte(line, ']'); line[0] == '[' && bracket > 0 && bracket < n && saidAt(line[:bracket+1]) {
		return n + 2
	}
	if dash := bytes.Index(line, []byte(" - ")); dash > 0 && dash < n && saidAt(line[:dash+2]) {
		return n + 2
	}
	if chars.IsUpper(line[0]) && bytes.Count(line[:n], []byte(" ")) == 1 && IsGivenName(line[:n]) { // Ilvar Tostrund: …
		return n + 2
	}
	return 0
}

// askingWords begin questions that have no sign at their end.
var askingWords = chars.WordSet("can could what whats what's which send do does need please pls who where")

// asks reports whether somebody asks for something.
func asks(text []byte) bool {
	return bytes.IndexByte(text, '?') > 0 || askingWords.Has(strings.ToLower(chars.FirstWord(text)))
}

var askedFor = chars.WordSet(`password passwd pw pwd pass passphrase pin code passcode passwort kennwort wachtwoord senha passord login
	creds credentials`)

func asksForSecret(text []byte) bool {
	for _, w := range bytes.FieldsFunc(text, func(r rune) bool { return r < 0x80 && !chars.IsWord(byte(r)) }) {
		if askedFor.HasBytes(bytes.ToLower(w)) {
			return true
		}
	}
	return false
}

// answerHeads may stand before what was asked for.
var answerHeads = [][]byte{[]byte("it is "), []byte("it's "), []byte("its "), []byte("is "), []byte("yes, "), []byte("try "),
	[]byte("sure, "), []byte("sure: "), []byte("yes: "), []byte("here: "), []byte("here you go: "), []byte("use "), []byte("that's "),
	[]byte("should be "), []byte("ok, ")}

// answered gives the secret that a message is, or begins with: a word that looks chosen, or a code of digits.
func answered(line []byte, message int) (start, end int) {
	start = message
	for range 2 {
		for _, head := range answerHeads {
			if len(line)-start > len(head) && bytes.EqualFold(line[start:start+len(head)], head) {
				start += len(head)
			}
		}
	}
	for end = start; end < len(line) && !chars.IsBlank(line[end]); end++ {
	}
	whole := len(bytes.TrimSpace(line[end:])) == 0
	v := bytes.TrimRight(line[start:end], ".,")
	end = start + len(v)
	digits := len(v) >= 4 && len(v) <= 10 && chars.IsAllDigits(bytes.TrimRight(v, "#*"))
	if rest := bytes.TrimSpace(line[end:]); !whole && len(v) == 3 && chars.IsAllDigits(v) && len(rest) == 3 && chars.IsAllDigits(rest) {
		return start, start + len(bytes.TrimRight(line[start:], " \t\r")) // 448 201
	}
	if len(v) < 4 || bytes.Contains(v, []byte("://")) || !(digits || LooksChosen(v)) || !whole && start == message {
		return 0, 0
	}
	return start, end
}
