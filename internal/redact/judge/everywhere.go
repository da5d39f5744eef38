// Package judge looks at values: whether one is what its place says that it is, and whether it is removed everywhere because it was found
// at one place.
package judge

import (
	"bytes"
	"unicode"
	"unicode/utf8"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// Name reports whether the name of a person or account that was found at one place is removed everywhere. It is not where it would hit what
// is no name: words that everybody uses, identifiers of programs that are made of them, pieces of programs and of sentences.
func Name(text []byte) bool {
	if bytes.ContainsAny(text, "()[]{}<>=;:\"$%&*|,+!?`#/^") || len(text) == 0 || text[0] == '.' || text[0] == '_' || text[0] == '-' {
		return false
	}
	words := bytes.Fields(text)
	if len(words) > 1 {
		return nameOfWords(words)
	}
	if n := bytes.IndexByte(text, '\''); n >= 0 && len(text)-n <= 3 { // it's, don't, users'
		return false
	}
	if n := bytes.IndexByte(text, '\\'); n >= 0 { // of a domain
		return Name(text[n+1:])
	}
	if chars.IsUpper(text[0]) && lexicon.Given(bytes.ToLower(text)) {
		return false // half of a name: of whom, only its place tells
	}
	return !madeOfWords(text)
}

// nameOfWords judges a name of several words: one at least is nobody's word, and none is written small but those of noble names.
func nameOfWords(words [][]byte) bool {
	own := false
	for _, w := range words {
		w = bytes.Trim(w, ".,")
		first, _ := utf8.DecodeRune(w)
		lower := bytes.ToLower(w)
		switch {
		case len(w) == 0:
			return false
		case organisations.HasBytes(lower):
			return false
		case lexicon.Particles.HasBytes(lower):
		case unicode.IsLower(first) && lexicon.Everyday(lower) && !lexicon.Given(lower):
			return false
		case utf8.RuneCount(w) > 2 && (!lexicon.Everyday(lower) || lexicon.Given(lower)):
			own = true
		}
	}
	return own
}

// organisations are words of what people are in.
var organisations = chars.WordSet(`
	foundation inc ltd llc gmbh corp corporation project team university institute group company association consortium
	ferries ferry lines shipping logistics transport airlines airways railway railways ports terminal terminals cruises marine maritime
	energy council hospital school bank insurance hotel hotels stores markets foods pharma motors aviation authority agency
	committee department software systems technologies labs developers maintainers contributors authors`)

// madeOfWords reports whether a word is one that everybody uses, or is put together of such words, numbers and single letters, as names of
// variables, packages, classes and files are.
func madeOfWords(text []byte) bool {
	long, all := false, true // one part at least is a word
	eachPart(text, func(part []byte) bool {
		var buf [lowerSize]byte
		lower := lowered(&buf, part)
		switch {
		case part[0] >= '0' && part[0] <= '9', len(lower) <= 2:
		case lexicon.Everyday(lower) && !(lexicon.Given(lower) && len(part) == len(text)), compound(lower):
			long = true
		default:
			all = false
		}
		return all
	})
	return all && long
}

// lowerSize is up to how many bytes a word is made small without a copy of its own.
const lowerSize = 64

// lowered gives a word in small letters, in buf where it fits.
func lowered(buf *[lowerSize]byte, word []byte) []byte {
	if len(word) > len(buf) {
		return bytes.ToLower(word)
	}
	for i, c := range word {
		if c >= 0x80 {
			return bytes.ToLower(word)
		}
		if chars.IsUpper(c) {
			c |= 0x20
		}
		buf[i] = c
	}
	return buf[:len(word)]
}

// leastHalf is how long each half of a compound is, at least, in bytes.
const leastHalf = 4

// compound reports whether a word is two that everybody uses: socketpair, username.
func compound(word []byte) bool {
	for i := leastHalf; i <= len(word)-leastHalf; i++ {
		if lexicon.Everyday(word[:i]) && lexicon.Everyday(word[i:]) && !lexicon.Given(word[:i]) {
			return true
		}
	}
	return false
}

// Parts splits an identifier where its words meet: at signs, digits, and before a capital that follows a small letter or begins a word.
func Parts(text []byte) (out [][]byte) {
	eachPart(text, func(part []byte) bool {
		out = append(out, part)
		return true
	})
	return out
}

// eachPart gives the parts of an identifier until one is not wanted.
func eachPart(text []byte, each func(part []byte) (more bool)) {
	start := 0
	for i := 0; i <= len(text); i++ {
		sign := i < len(text) && isJoint(text[i])
		switch {
		case i < len(text) && !sign && !(i > start && meets(text, i)):
			continue
		case i > start && !each(text[start:i]):
			return
		}
		start = i
		if sign {
			start++
		}
	}
}

func isJoint(c byte) bool { return c == '.' || c == '-' || c == '_' || c == '@' || c == '~' }

// meets reports whether two words of an identifier meet before a place.
func meets(text []byte, i int) bool {
	c, before := text[i], text[i-1]
	if chars.IsDigit(c) != chars.IsDigit(before) {
		return true
	}
	return chars.IsUpper(c) && (isLower(before) || chars.IsUpper(before) && i+1 < len(text) && isLower(text[i+1]))
}

func isLower(c byte) bool { return c >= 'a' && c <= 'z' }

// Code reports whether a text is a piece of a program rather than a value: a call, an index, a format, a variable.
func Code(text []byte) bool {
	if len(text) == 0 {
		return false
	}
	if text[0] == '%' && len(text) > 1 && bytes.IndexByte([]byte("qsvdxwT+#.0123456789"), text[1]) >= 0 && bytes.IndexByte(text, ' ') > 0 {
		return true // the format of a message
	}
	if bytes.HasPrefix(text, []byte("--")) || bytes.HasPrefix(text, []byte("::")) {
		return true
	}
	text = bytes.TrimLeft(text, "!&")
	i := 0
	for i < len(text) && (isLower(text[i]|0x20) || chars.IsDigit(text[i]) || bytes.IndexByte([]byte("_.:>-"), text[i]) >= 0) {
		i++
	}
	if i < 2 || i == len(text) || !isLower(text[0]|0x20) {
		return false
	}
	return called(text[:i], text[i:])
}

// called reports whether what stands behind a name makes it a call, an index, or the end of one.
func called(name, rest []byte) bool {
	next := byte(0)
	if len(rest) > 1 {
		next = rest[1]
	}
	switch rest[0] {
	case '(':
		return callable(name) || !hasDigit(name) && (len(rest) == 1 || next == '"' || next == '\'' || next == ')')
	case '[':
		return callable(name) && (len(rest) == 1 || isLower(next|0x20) || bytes.IndexByte([]byte("'\"]:0123456789"), next) >= 0)
	case ')', '{':
		return len(rest) <= 2 && callable(name)
	}
	return false
}

func hasDigit(text []byte) bool { return bytes.ContainsAny(text, "0123456789") }

// callable reports whether a text is the name of what programs call: words in the ways in which they write them, or with a dot.
func callable(name []byte) bool {
	if bytes.IndexByte(name, '.') > 0 || bytes.Contains(name, []byte("::")) || bytes.Contains(name, []byte("->")) {
		return !bytes.ContainsAny(name, "-") || bytes.Contains(name, []byte("->"))
	}
	return madeOfWords(name)
}

// Secret reports whether a secret that was found at one place is removed everywhere, as far as its words tell: it is none where all of it
// is made of words that everybody uses, or is a piece of a program. Its shape is judged apart.
func Secret(text []byte) bool {
	if Code(text) || text[0] == '`' {
		return false
	}
	for _, w := range bytes.Fields(text) {
		w = bytes.Trim(w, ".,;:()'\"")
		if len(w) == 0 {
			continue
		}
		if !identifier(w) || !madeOfWords(w) || digitsIn(w) >= numbered || allKinds(w) {
			return true
		}
	}
	return false
}

// numbered is from how many digits on words with a number are what somebody chose, and no name of a thing: lighthouse-4471.
const numbered = 3

// allKinds reports whether a word has small letters, capitals, digits and signs: Only-There-77.
func allKinds(w []byte) bool {
	var small, capital, sign bool
	for _, c := range w {
		small, capital, sign = small || isLower(c), capital || chars.IsUpper(c), sign || isJoint(c)
	}
	return small && capital && sign && digitsIn(w) > 0
}

func digitsIn(w []byte) (n int) {
	for _, c := range w {
		if chars.IsDigit(c) {
			n++
		}
	}
	return n
}

// identifier reports whether a word is one of letters, digits and the signs of names, and begins with a letter or a sign of a name.
func identifier(w []byte) bool {
	for _, c := range w {
		if !isLower(c|0x20) && !chars.IsDigit(c) && c != '_' && c != '-' && c != '.' && c != ':' {
			return false
		}
	}
	return len(w) > 0 && !chars.IsDigit(w[0])
}
