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
	r, _ := utf8.DecodeRune(first)
	if !unicode.IsUpper(r) || bytes.ContainsAny(first, " .@\\/_0123456789") || end+2 >= len(b) || b[end] != ' ' {
		return end
	}
	if start > 0 && (b[start-1] == '"' || b[start-1] == '\'') {
		return end
	}
	capitals := len(first) > 1 && bytes.Equal(first, bytes.ToUpper(first))
	given := lexicon.Given(bytes.ToLower(first))
	whole, at := end, end
	for n := 0; n < mostNameWords && at+1 < len(b) && b[at] == ' '; n++ {
		word := nameWord(b[at+1:])
		next := at + 1 + len(word)
		if len(word) == 0 || next < len(b) && (b[next] == '=' || b[next] == ':' || b[next] == '(' || b[next] == '/' || b[next] == '_') {
			break
		}
		lower := bytes.ToLower(word)
		r, _ := utf8.DecodeRune(word)
		switch {
		case particles[string(lower)]:
			at = next // only with a name behind it
			continue
		case !unicode.IsUpper(r), capitals != bytes.Equal(word, bytes.ToUpper(word)) && utf8.RuneCount(word) > 1, organisations[string(lower)]:
			return whole
		case len(word) == 1: // an initial
			if next < len(b) && b[next] == '.' {
				next++
			} else if !given {
				return whole
			}
		case lexicon.Everyday(lower) && !lexicon.Given(lower) && (!given || bytes.HasSuffix(lower, []byte("ed")) || bytes.HasSuffix(lower, []byte("ing"))):
			return whole
		}
		whole, at = next, next
	}
	return whole
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
