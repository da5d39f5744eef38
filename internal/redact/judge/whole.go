package judge

import (
	"bytes"
	"unicode"
	"unicode/utf8"

	"envask/internal/redact/lexicon"
)

// mostNameWords bounds how many words a name has behind its first one.
const mostNameWords = 4

// WholeName gives where the name ends that begins at a place and of which so much was found: it goes on over the words that belong to it,
// so that never half of one is left (JOHN SMITH seat=3, Ilka E. van der Berg).
func WholeName(b []byte, start, end int) int {
	first := b[start:end]
	if !beginsName(first) || end+2 >= len(b) || b[end] != ' ' || start > 0 && (b[start-1] == '"' || b[start-1] == '\'') {
		return end
	}
	n := naming{capitals: len(first) > 1 && bytes.Equal(first, bytes.ToUpper(first)), given: lexicon.Given(bytes.ToLower(first))}
	whole, at := end, end
	for range mostNameWords {
		if at+1 >= len(b) || b[at] != ' ' {
			break
		}
		word := nameWord(b[at+1:])
		next := at + 1 + len(word)
		if len(word) == 0 || next < len(b) && bytes.IndexByte([]byte("=:(/_"), b[next]) >= 0 {
			break
		}
		if lexicon.Particles.HasBytes(bytes.ToLower(word)) {
			at = next // only with a name behind it
			continue
		}
		if len(word) == 1 && next < len(b) && b[next] == '.' { // an initial
			next++
		} else if !n.goesOn(word) {
			break
		}
		whole, at = next, next
	}
	return whole
}

// beginsName reports whether a word can be the first of a name: it has a capital and no signs.
func beginsName(word []byte) bool {
	r, _ := utf8.DecodeRune(word)
	return unicode.IsUpper(r) && !bytes.ContainsAny(word, " .@\\/_0123456789")
}

// naming is what the first word of a name says of the others.
type naming struct {
	capitals bool // it is written in capitals
	given    bool // it is a given name
}

// goesOn reports whether a word belongs to the name.
func (n naming) goesOn(word []byte) bool {
	r, _ := utf8.DecodeRune(word)
	lower := bytes.ToLower(word)
	if !unicode.IsUpper(r) || organisations.HasBytes(lower) || len(word) == 1 && !n.given {
		return false
	}
	if n.capitals != bytes.Equal(word, bytes.ToUpper(word)) && utf8.RuneCount(word) > 1 {
		return false
	}
	if !lexicon.Everyday(lower) || lexicon.Given(lower) {
		return true
	}
	return n.given && !bytes.HasSuffix(lower, []byte("ed")) && !bytes.HasSuffix(lower, []byte("ing"))
}

// nameWord gives the word of a name at the beginning of a text: letters, with a dash or an apostrophe within.
func nameWord(b []byte) []byte {
	n := 0
	for n < len(b) && n < 40 {
		r, size := utf8.DecodeRune(b[n:])
		if !unicode.IsLetter(r) && !(n > 0 && (r == '-' || r == '\'') && n+1 < len(b) && unicode.IsLetter(rune(b[n+1]))) {
			break
		}
		n += size
	}
	return b[:n]
}
