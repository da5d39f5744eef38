package redact

import (
	"bytes"
	"encoding/binary"
	"sync"
)

// The gate decides at nearly every trigger, from a few bytes around it, that no rule can find anything there. It may let
// through what the rules then refuse, never the other way round: a test holds both against each other. Without it, a log
// takes several times as long.

// edge is how far from the ends of a block the gate does not look: what it reads lies within.
const edge = 48

// endings is a set of bits of the last four bytes before a space: of the words that announce something, and of the modes of
// files in listings. What stands before a shorter word is one of them.
var endings = func() (set [1 << 16 / 64]uint64) {
	add := func(text string) {
		h := endingHash([]byte(text), 4)
		set[h>>6] |= 1 << (h & 63)
	}
	for _, words := range announcers {
		for w := range words {
			switch n := len(w); {
			case n >= 4:
				add(w[n-4:])
			case n == 3:
				for c := range 256 {
					if !isWord(byte(c)) && c != '-' {
						add(string([]byte{byte(c)}) + w)
					}
				}
			default:
				shortWords[int(w[0])<<8|int(w[1])] = true
			}
		}
	}
	for _, w := range "x-sStT" {
		for _, x := range "r-" {
			for _, y := range "w-" {
				for _, z := range "x-sStT" {
					add(string([]rune{w, x, y, z}))
					for _, sign := range ".+@" {
						add(string([]rune{x, y, z, sign}))
					}
				}
			}
		}
	}
	return set
}()

func endingHash(b []byte, at int) uint32 {
	return (binary.LittleEndian.Uint32(b[at-4:]) | 0x20202020) * 2654435761 >> 16
}

func mayEnd(b []byte, at int) bool {
	h := endingHash(b, at)
	return endings[h>>6]&(1<<(h&63)) != 0 || !isWord(b[at-3]) && shortWords[int(b[at-2]|0x20)<<8|int(b[at-1]|0x20)]
}

// shortWords are the words of two letters, which endings fills.
var shortWords [1 << 16]bool

// tokenEnds are the two bytes before the first sign of the tokens of services.
var tokenEnds = func() (set [1 << 16]bool) {
	for _, s := range tokenShapes {
		for i := 2; i < len(s.head); i++ {
			if c := s.head[i]; c == '-' || c == '_' || c == '.' {
				set[int(s.head[i-2])<<8|int(s.head[i-1])] = true
				break
			}
		}
	}
	return set
}()

// keyCache remembers what keys announce: logs have few, and each stands in thousands of lines.
type keyCache [1 << 10]cachedKey

type cachedKey struct {
	n       uint8
	key     [27]byte
	kind    keyKind
	further bool // what stands before or behind the key can make it one
}

// at gives what kindAt gives, mostly from memory.
func (c *keyCache) at(b []byte, at int) keyKind {
	if b[at] != ':' && b[at] != '=' {
		return kindAt(b, at)
	}
	end := at
	switch p := b[at-1]; {
	case p == '"' || p == '\'':
		if end--; end == 0 || b[end-1] == '\\' {
			return kindAt(b, at)
		}
	case p == ' ' || p == '\t' || p == ';':
		return kindAt(b, at)
	}
	k := c.of(b, end)
	if k == nil {
		return kindAt(b, at)
	}
	if k.kind&^keyWeak != 0 || !k.further {
		return k.kind
	}
	return kindAt(b, at)
}

// word gives the kind of the key before a sign that is no separator of its own, such as a comma.
func (c *keyCache) word(b []byte, end int) keyKind {
	if b[end-1] == '"' || b[end-1] == '\'' {
		end--
	}
	k := c.of(b, end)
	if k == nil { // too long to be remembered
		return keySecret
	}
	return k.kind
}

// of gives what is known of the key that ends at a place, or nil when it is too long to be remembered.
func (c *keyCache) of(b []byte, end int) *cachedKey {
	start := end
	h := uint32(0)
	for start > 0 && end-start < maxKey && keyBytes[b[start-1]] {
		start--
		h = h*31 + uint32(b[start])
	}
	n := end - start
	if n > len(c[0].key) {
		return nil
	}
	e := &c[(h^h>>10)&(1<<10-1)]
	if n == 0 {
		return &cachedKey{}
	}
	if int(e.n) != n || string(e.key[:n]) != string(b[start:end]) {
		e.n = uint8(n)
		copy(e.key[:], b[start:end])
		e.kind, e.further = kindOf(b[start:end]), mayBelong(b[start:end])
	}
	return e
}

var keyBytes = func() (set [256]bool) {
	for c := range 256 {
		set[c] = isKeyByte(byte(c))
	}
	return set
}()

// mayBelong says whether a key can be one together with what stands around it: the second of two words, or the value of a
// name.
func mayBelong(key []byte) bool {
	if isAllDigits(key) {
		return false
	}
	var buf [maxKey]byte
	plain := plainKey(&buf, key)
	if isPairValue(key) || string(key) == "is" {
		return true
	}
	return keyTails()[string(plain)]
}

// keyTails are what telling keys end with, from each of their letters but the first on.
var keyTails = sync.OnceValue(func() map[string]bool {
	tails := map[string]bool{}
	for _, t := range telling {
		for i := 1; i < len(t); i++ {
			tails[t[i:]] = true
		}
	}
	for w := range wholeKeys {
		for i := 1; i < len(w); i++ {
			tails[w[i:]] = true
		}
	}
	return tails
})

// isTime says whether a colon is the first or second one of a time of day, which no rule is about.
func isTime(b []byte, i int) bool {
	if !isDigit(b[i-1]) || !isDigit(b[i+1]) || !isDigit(b[i-2]) || !isDigit(b[i+2]) || isHex(b[i-3]) {
		return false
	}
	if b[i-3] == ':' { // the second
		return isDigit(b[i-4]) && isDigit(b[i-5]) && !isHex(b[i-6]) && b[i-6] != ':' && b[i+3] != ':' && !isHex(b[i+3])
	}
	if b[i+3] != ':' {
		return !isHex(b[i+3])
	}
	return isDigit(b[i+4]) && isDigit(b[i+5]) && !isHex(b[i+6]) && b[i+6] != ':'
}

// nextTrigger gives the next place at which a rule may be asked. Most spaces, and the signs within dates and times, are none.
func (e *Engine) nextTrigger(b []byte, i, stop int) int {
	trigger := &e.trigger
	inner := min(stop, len(b)-edge) // so far it can be looked around
	for ; i < stop; i++ {
		c := b[i]
		if !trigger[c] {
			continue
		}
		if i < edge || i >= inner || e.ungated {
			break
		}
		switch c {
		case ' ':
			if !mayEnd(b, i) && i != e.ownerEnd {
				continue
			}
		case '-':
			if isDigit(b[i-1]) && isDigit(b[i+1]) && (b[i+3] != '-' || isHex(b[i-3])) {
				continue
			}
		case ':':
			if isTime(b, i) {
				i += 2
				continue
			}
		case '[':
			if b[i+1] != 'r' && !isDigit(b[i+1]) {
				continue
			}
		}
		break
	}
	return i
}

// worth says whether a rule may find something at a trigger.
func (e *Engine) worth(b []byte, i int) bool {
	if i < edge || i+edge > len(b) || e.ungated {
		return true
	}
	p, n := b[i-1], b[i+1]
	switch b[i] {
	case ' ':
		// Nothing but what the table of endings lets through comes here.
		return announces(b, i) || i == e.ownerEnd || looksMode(b[i-10:]) || looksMode(b[i-11:])
	case ':':
		if n == '/' && b[i+2] == '/' || b[i+33] == ':' || n == ':' || b[i+2] == ':' && (n == 'x' || n == '*' || n == '!') || isDigit(p) && isUpper(n) || (isHex(p) || p == ':' || p == '[') && (isHex(n) || n == ':') && bytes.IndexByte(b[i+1:i+6], ':') >= 0 {
			return true
		}
		return e.keys.at(b, i) != 0
	case '=':
		return p == 'Y' || p|0x20 == 'n' && b[i-2]|0x20 == 'c' || e.keys.at(b, i) != 0
	case '-':
		return dashWorth(b, i, p, n)
	case '.':
		return e.dotWorth(b, i, p, n)
	case ',', ';':
		if b[i] == ';' && p == 't' {
			return true
		}
		return (p == '"' || p == '\'' || keyBytes[p]) && e.keys.word(b, i)&keySecret != 0 || p == ' '
	case '|', '\t':
		return p == ' ' || keyBytes[p] && e.keys.word(b, i)&keySecret != 0
	case '>':
		return kindAt(b, i) != 0
	case '(':
		return n == '"' || n == '\'' || isDigit(p) || (p|0x20 == 's' || p == ' ' && b[i-2]|0x20 == 's') && bytes.Contains(bytes.ToLower(b[i-8:i]), []byte("values"))
	case ')':
		return n == ' '
	case '[':
		return isDigit(n) && b[i+3] == '/'
	case '/':
		return n == 'h' || n == 'U' || n == 'm' && b[i+2] == 'a' || n == 'c' && b[i+2] == 'r' || p == 's' && b[i-2] == 't'
	case '\\':
		return n == 'u' || n == 'U' || n == 'D' || n == '\\' || isUpper(p) || isDigit(p) || p == '-'
	case '%':
		return n >= '2' && n <= '5'
	case '&':
		return n == '#' || n == 'c'
	case '_':
		return tokenEnds[int(b[i-2])<<8|int(p)]
	case 'A':
		return n == 'K' || n == 'S' || n == 'R' || n == 'I'
	case 'B':
		return n == 'e' || n == 'a'
	case 'J':
		return p == 'y'
	case '{':
		return n == 'S' || n == 'M' || n == 'C' || n == 'P' || n == 's'
	case '*':
		return isHex(n)
	}
	return true
}

// announcing are hashes of the words behind which a secret or a name may stand.
var announcing = func() (set [1 << 14]bool) {
	for _, words := range announcers {
		for w := range words {
			h := uint32(0)
			for i := len(w) - 1; i >= 0; i-- {
				h = (h + uint32(w[i]|0x20)) * 16777619
			}
			set[h>>18] = true
		}
	}
	return set
}()

// announcers are all words behind which, with a space between, a rule may find something.
var announcers = func() []map[string]bool {
	positional := wordSet("host") // of snmp-server
	for w := range arguments {
		positional[w] = true
	}
	return []map[string]bool{tellingWords, directives, positional, userWords}
}()

// announces says whether the word before a place is one of those. "pass" tells only in capitals.
func announces(b []byte, at int) bool {
	h, i := uint32(0), at-1
	for ; i > at-24 && (isWord(b[i]) || b[i] == '-'); i-- {
		h = (h + uint32(b[i]|0x20)) * 16777619
	}
	return announcing[h>>18] && !(at-1-i == 4 && string(b[i+1:at]) == "pass")
}

// looksMode says whether text begins like the mode of a file: drwxr-x---.
func looksMode(b []byte) bool {
	return (b[1] == 'r' || b[1] == '-') && (b[2] == 'w' || b[2] == '-') && (b[4] == 'r' || b[4] == '-') && (b[5] == 'w' || b[5] == '-')
}

var beforeOption = [256]bool{' ': true, '\t': true, '"': true, '\'': true, '\n': true, '[': true, ',': true, '-': true}

func dashWorth(b []byte, i int, p, n byte) bool {
	if beforeOption[p] && n != ' ' || n == '-' || n == '>' || tokenEnds[int(b[i-2])<<8|int(p)] || p == 'p' && b[i-2] == 'i' {
		return true
	}
	return isHex(p) && isHex(n) && b[i+3] == '-' && !isHex(b[i-3])
}

func (e *Engine) dotWorth(b []byte, i int, p, n byte) bool {
	if isHex(p) && isHex(n) {
		if isDigit(p) && isDigit(n) && (b[i+2] == '.' || b[i+3] == '.' || b[i+4] == '.') || b[i+5] == '.' {
			return true
		}
	}
	if tokenEnds[int(b[i-2])<<8|int(p)] || e.domainFirst[n] {
		return true
	}
	switch string([]byte{n | 0x20, b[i+2] | 0x20, b[i+3] | 0x20}) {
	case "int", "loc", "lan", "cor", "hom":
		return true
	}
	return false
}
