package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// secretSections are the heads of sections whose keys are accounts, with their secrets: [admins], as databases and repositories have them.
var secretSections = chars.WordSet(`users admins passwords passwd credentials secrets logins accounts basicauth htpasswd auth-users
	admin-users`)

// listedPair is a line of such a section.
type listedPair struct{ name, nameEnd, value, valueEnd int }

// SecretSections finds the accounts and secrets in such sections of a settings file: NAME = SECRET. All lines of a section must be like
// this. It is for short texts.
func SecretSections(b []byte, from, to int, secret, account func(start, end int)) {
	var pairs []listedPair
	tell := func() {
		for _, p := range pairs {
			secret(p.value, p.valueEnd)
			account(p.name, p.nameEnd)
		}
		pairs = nil
	}
	within := false
	for at := from; at < to; at = chars.NextLine(b[:to], at) {
		line := bytes.TrimRight(chars.LineFrom(b[:to], at), " \t\r")
		switch {
		case len(line) > 2 && line[0] == '[':
			tell()
			within = line[len(line)-1] == ']' && secretSections.HasBytes(bytes.ToLower(line[1:len(line)-1]))
		case !within || len(line) == 0 || line[0] == '#' || line[0] == ';':
		default:
			pair, ok := listedPairOf(line, at)
			if !ok {
				within, pairs = false, nil
				continue
			}
			pairs = append(pairs, pair)
		}
	}
	tell()
}

// mostChanged bounds how many accounts are given passwords at once, in lines.
const mostChanged = 64

// ChangedPasswords finds the accounts and secrets that a program is given which sets passwords (chpasswd(8)): lines of NAME:SECRET below
// its name. It is for short texts.
func ChangedPasswords(b []byte, from, to int, secret, account func(start, end int)) {
	n := bytes.Index(b[from:to], []byte("chpasswd"))
	if n < 0 {
		return
	}
	lines, before := 0, 0
	for at := chars.NextLine(b[:to], from+n); at < to && lines < mostChanged; at = chars.NextLine(b[:to], at) {
		line := bytes.TrimRight(chars.LineFrom(b[:to], at), " \t\r\"'")
		text := bytes.TrimLeft(line, " \t-\"'")
		start := at + len(line) - len(text)
		colon := bytes.IndexByte(text, ':')
		if colon < 2 || chars.NameAt(text, 0) != colon || !isListedSecret(text[colon+1:]) {
			if before++; before > 3 || lines > 0 { // list: | and expire: false stand between
				return
			}
			continue
		}
		if lines++; IsPerson(text[:colon]) {
			account(start, start+colon)
		}
		secret(start+colon+1, start+len(text))
	}
}

// listedPairOf reads a line that begins at a place.
func listedPairOf(line []byte, at int) (p listedPair, ok bool) {
	name, value, ok := bytes.Cut(line, []byte("="))
	name = bytes.TrimRight(name, " \t")
	if !ok || len(name) < 2 || chars.NameAt(name, 0) != len(name) || KindOf(name) != 0 {
		return p, false
	}
	value = bytes.TrimLeft(value, " \t")
	p = listedPair{at, at + len(name), at + len(line) - len(value), at + len(line)}
	if n := len(value); n > 2 && isQuote(value[0]) && value[n-1] == value[0] {
		value, p.value, p.valueEnd = value[1:n-1], p.value+1, p.valueEnd-1
	}
	return p, isListedSecret(value)
}

// isListedSecret says whether the value of such a line can be a secret: no role, no setting.
func isListedSecret(v []byte) bool {
	return len(v) >= MinSecret && bytes.IndexByte(v, ' ') < 0 && IsValue(v) && !IsEveryday(bytes.ToLower(v)) &&
		bytes.IndexByte([]byte("/$%{@"), v[0]) < 0 && !bytes.Contains(v, []byte("://")) && bytes.IndexByte(v, ',') < 0 &&
		!chars.IsAllDigits(v)
}

// Bounds of a file of pairs: lines, and how large it is, in bytes.
const (
	leastPairs = 2
	leastKey   = 32
	mostPairs  = 8 << 10
)

// PairFile finds the accounts and secrets of a file that is nothing but pairs of them, NAME:SECRET in each line, of which half at least
// look like it.
func PairFile(b []byte, secret, account func(start, end int)) {
	if len(b) > mostPairs {
		return
	}
	var pairs []listedPair
	chosen := 0
	for at := 0; at < len(b); at = chars.NextLine(b, at) {
		line := bytes.TrimRight(chars.LineFrom(b, at), " \t\r")
		if len(line) == 0 || line[0] == '#' {
			continue
		}
		name, value, ok := bytes.Cut(line, []byte(":"))
		if !ok || len(name) < 3 || chars.NameAt(name, 0) != len(name) || !chars.IsLower(name[0]) || KindOf(name) != 0 ||
			!isListedSecret(value) ||
			chars.IsDigit(value[0]) && !(chars.IsHexes(value) && len(value) >= leastKey) || bytes.IndexByte(value, ':') >= 0 {
			return
		}
		if LooksChosen(value) {
			chosen++
		}
		pairs = append(pairs, listedPair{at, at + len(name), at + len(name) + 1, at + len(line)})
	}
	if len(pairs) < leastPairs || 2*chosen < len(pairs) {
		return
	}
	for _, p := range pairs {
		secret(p.value, p.valueEnd)
		account(p.name, p.nameEnd)
	}
}
