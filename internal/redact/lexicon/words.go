// Package lexicon holds the words that redaction knows: those that everybody uses, and the given names of people.
package lexicon

import (
	_ "embed" // of the lists
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

//go:embed common_words.txt
var commonText string

//go:embed given_names.txt
var givenText string

var (
	everyday = sync.OnceValue(func() map[string]bool { return listed(commonText, 8<<10) })
	given    = sync.OnceValue(func() map[string]bool { return listed(givenText, 2<<10) })
)

// listed reads a list of words with remarks.
func listed(text string, size int) map[string]bool {
	m := make(map[string]bool, size)
	for line := range strings.Lines(text) {
		if line[0] != '#' {
			for _, w := range strings.Fields(line) {
				m[w] = true
			}
		}
	}
	return m
}

// Given reports whether a word in small letters is a given name of people, with or without the marks of its letters.
func Given(word []byte) bool {
	for _, c := range word {
		if c >= utf8.RuneSelf {
			return given()[string(WithoutMarks(word))]
		}
	}
	return given()[string(word)]
}

// letters are those that have no mark to take away (Unicode's decomposition leaves them as they are).
var letters = strings.NewReplacer("ø", "o", "ł", "l", "đ", "d", "ß", "ss", "æ", "ae", "œ", "oe", "ı", "i")

// WithoutMarks takes the marks off letters: hélène, helene.
func WithoutMarks(word []byte) []byte {
	out := norm.NFD.Bytes([]byte(letters.Replace(string(word))))
	plain := out[:0]
	for len(out) > 0 {
		r, n := utf8.DecodeRune(out)
		if !unicode.Is(unicode.Mn, r) {
			plain = append(plain, out[:n]...)
		}
		out = out[n:]
	}
	return plain
}

// endings that make other forms of a word.
var endings = []string{"s", "es", "d", "ed", "ing", "ly", "er", "ers", "able", "ment", "ness", "or", "ors", "ion", "ions", "al"}

// Everyday reports whether a word in small letters is one of those that everybody uses in texts about computers, in some form of it.
func Everyday(w []byte) bool {
	words := everyday()
	if words[string(w)] {
		return true
	}
	for _, ending := range endings {
		n := len(w) - len(ending)
		if n < 3 || string(w[n:]) != ending {
			continue
		}
		stem := w[:n]
		if words[string(stem)] || words[string(stem)+"e"] || n > 3 && stem[n-1] == stem[n-2] && words[string(stem[:n-1])] ||
			stem[n-1] == 'i' && words[string(stem[:n-1])+"y"] {
			return true
		}
	}
	return false
}
