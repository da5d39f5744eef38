package judge

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// reading reports whether a value behind a key that is none for passwords is a piece of a program or of a sentence by what it is together
// with its key: token_type = type, "hotp": "HOTP", max_token => 400, nextToken=-1.
func (p *Place) reading() bool {
	if p.ofPassword() {
		return false
	}
	t, key := p.Text, p.key()
	switch {
	case p.sameAsKey(t, key), counted(t, key), constants(t):
		return true
	case p.quoted():
		return lexicon.Everyday(t) && (bytes.HasSuffix(p.Before[:len(p.Before)-1], []byte("token(")) ||
			bytes.HasSuffix(p.Before[:len(p.Before)-1], []byte("token68(")))
	case kinds.HasBytes(t), p.given():
		return true
	case t[0] == '$':
		return pathOfVariable(t)
	}
	return p.named(t, key) || p.itemOfProse()
}

// named reports whether a value without quotes is what a program calls a thing: it is told by what stands behind it.
func (p *Place) named(t, key []byte) bool {
	var buf [lowerSize]byte
	last := chars.LastWord(key)
	switch {
	case t[len(t)-1] == ':' && chars.IsAllLetters(t[:len(t)-1]):
		return len(p.After) > 0 && p.After[0] == ' '
	case bytes.HasPrefix(p.After, []byte(" $")):
		return snake(t) || chars.IsAllLetters(t)
	case bytes.HasPrefix(p.After, []byte(" *")):
		return identifier(t) && !hasDigit(t)
	}
	return len(last) > 2 && string(lowered(&buf, t)) == last && (len(p.After) == 0 || p.After[0] == '}' || p.After[0] == ';')
}

// pathOfVariable reports whether a text is a path that begins with a variable: $dir/private/key.pem.
func pathOfVariable(t []byte) bool {
	path, _, _ := bytes.Cut(t, []byte("#"))
	n := bytes.IndexByte(path, '/')
	return n > 1 && variable(path[:n]) && identifier(bytes.ReplaceAll(path[n+1:], []byte("/"), nil))
}

// given reports whether a value is a call that is given a variable first: decodeHex(t, "…"), parse(text, from).
func (p *Place) given() bool {
	open := bytes.IndexByte(p.Text, '(')
	if open < 2 || !identifier(p.Text[:open]) || hasDigit(p.Text[:open]) {
		return false
	}
	first, rest, ok := bytes.Cut(p.Text[open+1:], []byte(", "))
	return ok && len(rest) > 0 && len(first) > 0 && identifier(first)
}

// sameAsKey reports whether a value is its key in another form, or a name with the words of it: "private_key": "_DSAPrivateKey".
func (p *Place) sameAsKey(t, key []byte) bool {
	if len(key) < 4 || !p.quoted() || hasDigit(t) && !bytes.HasPrefix(t, bytes.TrimRight(key, "0123456789")) {
		return false
	}
	plain := func(w []byte) []byte { return bytes.ReplaceAll(bytes.ToLower(w), []byte("_"), nil) }
	const digits = "0123456789"
	a, b := bytes.TrimRight(plain(t), digits), bytes.TrimRight(plain(key[bytes.LastIndexByte(key, '.')+1:]), digits)
	return len(b) > 3 && bytes.HasSuffix(a, b) && (len(a) == len(b) || t[0] == '_')
}

// counted reports whether a number stands behind a key that bounds or counts something: max_num_auth = 2049.
func counted(t, key []byte) bool {
	if len(t) == 0 || !chars.IsDigit(t[0]) && t[0] != '-' && t[0] != '~' {
		return false
	}
	if len(t) > 1 && t[0] == '-' && chars.IsAllDigits(t[1:]) && len(t) < 4 || len(t) > 1 && t[0] == '~' && chars.IsDigit(t[1]) &&
		len(t) < 5 {
		return true
	}
	var buf [lowerSize]byte
	if chars.IsAllDigits(t) && len(t) < 11 && chars.LastWord(key) == "id" &&
		!bytes.Contains(lowered(&buf, key), []byte("session")) { // token_id: 4711
		return true
	}
	if len(bytes.Trim(t, "0123456789_")) > 0 || len(t) > 6 || len(key) == 0 {
		return false
	}
	words := Parts(key)
	return len(words) > 1 && bounds.HasBytes(bytes.ToLower(words[0]))
}

// bounds are first words of the keys of bounds and counts.
var bounds = chars.WordSet("max min num maximum minimum")

// constants reports whether a text is names of constants with bars between: STANDARD_READ | TOKEN_QUERY.
func constants(t []byte) bool {
	if !bytes.Contains(t, []byte(" | ")) {
		return false
	}
	for part := range bytes.SplitSeq(t, []byte(" | ")) {
		if len(part) == 0 || !macro(part) {
			return false
		}
	}
	return true
}

// hexes reports whether a text is a number of programs: 1<<8, 0x53c237_53c237.
func hexes(t []byte) bool {
	if a, b, ok := bytes.Cut(t, []byte("<<")); ok {
		return len(a) > 0 && len(b) > 0 && chars.IsAllDigits(a) && chars.IsAllDigits(b)
	}
	rest, ok := bytes.CutPrefix(t, []byte("0x"))
	return ok && bytes.IndexByte(rest, '_') > 0 && len(bytes.Trim(rest, "0123456789abcdefABCDEF_")) == 0
}

// itemOfProse reports whether a value is a sentence that is an item of a list: - Populate the map of claims.
func (p *Place) itemOfProse() bool {
	t := p.Text
	if string(bytes.TrimLeft(p.Before, " \t")) != "- " && string(bytes.TrimLeft(p.Before, " \t")) != "* " || !chars.IsUpper(t[0]) {
		return false
	}
	words := bytes.Fields(append(append([]byte{}, t...), p.After...))
	if bytes.Contains(t, []byte(".\n")) { // of several items
		return len(words) > 6
	}
	if words[len(words)-1][len(words[len(words)-1])-1] != '.' {
		return false
	}
	for _, w := range words {
		if !chars.IsAllLetters(bytes.TrimRight(w, ".,")) {
			return false
		}
	}
	return len(words) > 2
}
