package prove

import (
	"bytes"
	"io"
	"math"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// Suspect is a value that no rule took and that looks as if it might be a secret: a person decides.
type Suspect struct {
	Key    string // before it, if there is one
	Text   string // the value
	Offset int64  // in the (opened) file, in bytes
	Why    string
}

// Limits of what looks suspicious: how long a value is, in bytes, and how many bits of surprise each of its letters has
// (C. E. Shannon, A Mathematical Theory of Communication, 1948).
const (
	suspectMin  = 20
	suspectMax  = 256
	suspectBits = 3.6

	suspectBlock = 256 << 10 // bytes that are looked at in one go
)

// FindSuspects looks through a text that was redacted for values that a person should look at. found may stop it by
// giving false.
func FindSuspects(r io.Reader, found func(Suspect) (more bool)) error {
	buf := make([]byte, 0, suspectBlock)
	var base int64
	for {
		n, err := io.ReadFull(r, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		atEnd := err == io.EOF || err == io.ErrUnexpectedEOF
		if err != nil && !atEnd {
			return err
		}
		limit := len(buf)
		if !atEnd {
			if limit = bytes.LastIndexByte(buf, '\n') + 1; limit == 0 {
				limit = len(buf) - 2*suspectMax
			}
		}
		if !suspectsIn(buf[:limit], base, found) || atEnd {
			return nil
		}
		base += int64(limit)
		buf = append(buf[:0], buf[limit:]...)
	}
}

func isSuspectByte(c byte) bool {
	return chars.IsWord(c) || c == '+' || c == '/' || c == '-' || c == '='
}

func suspectsIn(b []byte, base int64, found func(Suspect) bool) bool {
	for i := 0; i+suspectMin <= len(b); {
		// Every value of that length covers one of these places.
		if !isSuspectByte(b[i+suspectMin-1]) {
			i += suspectMin
			continue
		}
		start := i + suspectMin - 1
		for start > i && isSuspectByte(b[start-1]) {
			start--
		}
		end := i + suspectMin
		for end < len(b) && isSuspectByte(b[end]) {
			end++
		}
		if s, ok := suspectAt(b, start, end); ok {
			s.Offset += base
			if !found(s) {
				return false
			}
		}
		i = end
	}
	return true
}

// lettersOf counts small letters, capitals and digits.
func lettersOf(word []byte) (lower, upper, digits int) {
	for _, c := range word {
		switch {
		case chars.IsDigit(c):
			digits++
		case chars.IsUpper(c):
			upper++
		case chars.IsLower(c):
			lower++
		}
	}
	return lower, upper, digits
}

// keyOfSuspect gives the key before a word, if one stands there.
func keyOfSuspect(b []byte, start int) []byte {
	if start == 0 || bytes.IndexByte([]byte("=: \"'"), b[start-1]) < 0 {
		return nil
	}
	at := start - 1
	for at > 0 && (b[at] == '"' || b[at] == '\'' || b[at] == ' ') {
		at--
	}
	if b[at] != '=' && b[at] != ':' {
		return nil
	}
	from, to, _ := find.KeySpan(b, at)
	return b[from:to]
}

// suspectAt judges one word.
func suspectAt(b []byte, start, end int) (s Suspect, ok bool) {
	if n := bytes.IndexByte(b[start:end], '='); n > 0 && end-start-n > suspectMin { // key=value
		start += n + 1
	}
	word := bytes.TrimRight(b[start:end], "=")
	if holdsCodedPlaceholder(word) {
		return s, false
	}
	if len(word) < suspectMin || len(word) > suspectMax || bytes.Count(word, []byte("/")) > 3 || bytes.Count(word, []byte("-")) > 4 ||
		start > 0 && (b[start-1] == '.' || b[start-1] == ':' && start > 1 && chars.IsWord(b[start-2]) && b[start-2] == '6') {
		return s, false
	}
	lower, upper, digits := lettersOf(word)
	s = Suspect{Key: string(keyOfSuspect(b, start)), Text: string(word), Offset: int64(start)}
	bits := entropy(word)
	switch {
	case chars.IsHexes(word):
		s.Why = "hexadecimal digits next to an odd key"
		return s, isOddKey(s.Key) && bits > 2.5
	case digits >= 3 && lower >= 3 && upper >= 3 && bits >= suspectBits:
		s.Why = "letters and digits without order"
		return s, true
	case isOddKey(s.Key) && bits >= suspectBits:
		s.Why = "next to an odd key"
		return s, digits > 0
	}
	return s, false
}

// holdsCodedPlaceholder says whether a word is base64 in which something was replaced.
func holdsCodedPlaceholder(word []byte) bool {
	plain := make([]byte, len(word)/4*3+3)
	n, err := chars.DecodeBase64(plain, word[:len(word)&^3])
	return err == nil && bytes.Contains(plain[:n], find.PlaceholderHead)
}

// isOddKey says whether a key speaks of something secret without being one of those that tell.
func isOddKey(key string) bool {
	low := bytes.ToLower([]byte(key))
	for _, w := range []string{"sec", "priv", "cred", "auth", "sign", "salt", "seed", "crypt", "cookie", "sess", "ticket",
		"licen", "key", "pass", "pwd"} {
		if bytes.Contains(low, []byte(w)) && !find.IsHarmless(low) {
			return true
		}
	}
	return false
}

// entropy gives the surprise of a text's letters, in bits each.
func entropy(b []byte) float64 {
	var counts [256]int
	for _, c := range b {
		counts[c]++
	}
	sum := 0.0
	for _, n := range counts {
		if n > 0 {
			p := float64(n) / float64(len(b))
			sum -= p * math.Log2(p)
		}
	}
	return sum
}

// Mask shows how long an original is and nothing else of it.
func Mask(length int) string {
	const most = 12
	return string(bytes.Repeat([]byte("•"), min(length, most)))
}
