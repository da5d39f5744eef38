package find

import (
	"bytes"
	"regexp"
	"strings"
	"sync"

	"envask/internal/redact/chars"
)

// ordinary are texts that stand next to telling keys and are no secrets by themselves: paths, versions, identifiers (also of classes,
// packages and units), and a word with a number, as architectures and encodings have.
type ordinary struct{ path, version, words, counted *regexp.Regexp }

// ordinaryTexts are compiled when they are first needed: a program that only prints its help does not wait for them.
var ordinaryTexts = sync.OnceValue(func() ordinary {
	return ordinary{
		path:    regexp.MustCompile(`^(~|\.{1,2}|[A-Za-z]:)?[/\\]|^[a-z][a-z0-9+.-]*://`),
		version: regexp.MustCompile(`^[vV]?\d+([.:]\d+)+([-+~:.].*)?$`),
		words:   regexp.MustCompile(`^[_<(\[&*]*[A-Za-z]+([-_.:$/\\]+[A-Za-z]+)*[>)\]_*]*$`),
		counted: regexp.MustCompile(`^[a-z]+[-_.]?\d{1,3}([-_.]\d{1,3})*$`),
	}
})

// Shaped reports whether a text looks like a secret wherever it stands.
func Shaped(text string) bool {
	if text = strings.TrimRight(text, ".,;:)]}'\""); len(text) < MinSecret {
		return false
	}
	like := ordinaryTexts()
	switch {
	case like.version.MatchString(text), like.counted.MatchString(text):
		return false
	case like.words.MatchString(text):
		return restless(text)
	case like.path.MatchString(text) || strings.Count(text, "/") > 1:
		for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == '/' || r == '\\' }) {
			if len(part) >= 16 && KindsIn(part) >= 3 {
				return true // Base64 may begin with a slash
			}
		}
		return false
	}
	kinds := KindsIn(text)
	return kinds >= 3 || kinds == 2 && len(text) >= 8
}

// babble is from how many consonants in a row on letters are no word.
const babble = 6

// restless reports whether the letters of a text are no words: they change between large and small, or nobody can speak them.
func restless(text string) bool {
	changes, letters, silent := 0, 0, 0
	for i := 0; i < len(text); i++ {
		if silent++; strings.IndexByte("aeiouyAEIOUY-_.:$/\\<>()[]", text[i]) >= 0 {
			silent = 0
		}
		if silent == babble {
			return true
		}
	}
	for i := 1; i < len(text); i++ {
		a, b := text[i-1], text[i]
		if isLetterByte(a) && isLetterByte(b) {
			letters++
			if chars.IsUpper(a) != chars.IsUpper(b) {
				changes++
			}
		}
	}
	return letters >= MinSecret && changes*5 >= letters*2
}

func isLetterByte(c byte) bool { return chars.IsWord(c) && c != '_' && !chars.IsDigit(c) }

// KindsIn counts the kinds of characters: small and large letters, digits, others.
func KindsIn(text string) int {
	var has [4]bool
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c >= 'a' && c <= 'z':
			has[0] = true
		case chars.IsUpper(c):
			has[1] = true
		case chars.IsDigit(c):
			has[2] = true
		default:
			has[3] = true
		}
	}
	n := 0
	for _, h := range has {
		if h {
			n++
		}
	}
	return n
}

// LooksFierce says whether a value is what nobody writes but as a password: letters, digits and signs that stand in no path or sentence.
func LooksFierce(v []byte) bool {
	return IsValue(v) && LooksStrong(v) && KindsIn(string(v)) >= 3 && Shaped(string(v)) && bytes.ContainsAny(v, "!#$%&*^") &&
		bytes.Count(v, []byte(":")) < 3 && !bytes.ContainsAny(v, "\"'{}[]<>`=@")
}
