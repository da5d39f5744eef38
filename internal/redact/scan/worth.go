package scan

import (
	"bytes"
	"encoding/binary"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// A time as ISO 8601 writes it has four signs of which no rule is about any: 2026-03-14T06:12:00. From the first one to its end are
// so many bytes.
const stampRest = 15

// isStamp says whether a dash is the first sign of such a time.
func isStamp(b []byte, i int) bool {
	date := binary.LittleEndian.Uint64(b[i-4:]) ^ 0x2d30302d30303030  // 0000-00-
	clock := binary.LittleEndian.Uint64(b[i+4:]) ^ 0x30303a3030543030 // 00T00:00
	if b[i+6] == ' ' {
		clock ^= uint64('T'^' ') << 16
	}
	second := uint64(binary.LittleEndian.Uint32(b[i+12:])&0xffffff ^ 0x30303a) // :00
	const above = 0xf0f0f0f0f0f0f0f0                                           // what a digit has not, and neither six more than it
	if (date|(date+0x0006060006060606)|clock|(clock+0x0606000606000606)|second|(second+0x060600))&above != 0 {
		return false
	}
	switch b[i+stampRest] {
	case ' ', '.', ',', 'Z', '+', ']', '"':
		return true
	}
	return false
}

// isLogTime says whether a colon is one of the three of a date in the common log form, which no rule is about: 14/Mar/2026:06:12:03.
func isLogTime(b []byte, i int) bool {
	if !chars.IsDigit(b[i-1]) || !chars.IsDigit(b[i+1]) {
		return false
	}
	for _, first := range [...]int{i, i - 3, i - 6} {
		if b[first-5] == '/' {
			d := b[first-4 : first+9]
			return chars.IsDigit(d[0]) && chars.IsDigit(d[1]) && chars.IsDigit(d[2]) && chars.IsDigit(d[3]) && d[4] == ':' &&
				chars.IsDigit(d[5]) && chars.IsDigit(d[6]) && d[7] == ':' &&
				chars.IsDigit(d[8]) && chars.IsDigit(d[9]) && d[10] == ':' && chars.IsDigit(d[11]) && chars.IsDigit(d[12]) &&
				b[first+9] == ' '
		}
	}
	return false
}

// colonWorth reports whether a rule may find something at a colon that is none of a time.
func (g *Gate) colonWorth(b []byte, i int, p, n byte) bool {
	return worthColon(b, i, p, n) || g.keys.at(b, i, &g.marks) != 0 || find.BeforePort(b, i) || (p == ')' || p == '>') && n == ' ' ||
		p == 'N' && b[i-2] == 'I'
}

// equalsWorth reports whether a rule may find something at an equals sign.
func (g *Gate) equalsWorth(b []byte, i int, p, n byte) bool {
	if p == 'Y' || p == 'A' && b[i-2] == ' ' || p == 'L' && n == '(' || p|0x20 == 'n' && b[i-2]|0x20 == 'c' {
		return true
	}
	kind := g.keys.at(b, i, &g.marks)
	return kind != 0 && (kind&^(find.KeyMailbox|find.KeyAddress) != 0 || !isDotted(b[i+1:]))
}

// commaWorth reports the same at a comma or semicolon.
func (g *Gate) commaWorth(b []byte, i int, p byte) bool {
	if b[i] == ';' && (p == 't' || p == 'a' && b[i-2] == 't' && b[i-3] == 'a') { // of &quot; and form-data
		return true
	}
	return (p == '"' || p == '\'' || keyBytes[p]) &&
		g.keys.word(b, i, &g.marks)&(find.KeySecret|find.KeyWeak|find.KeyUser|find.KeyPhone|find.KeyCookie|find.KeyDocument) != 0 ||
		p == ' ' || p == '>' ||
		p == 'n' && b[i-2] == 'i' && b[i] == ';'
}

// bracketWorth reports the same at a bracket.
func bracketWorth(b []byte, i int, p, n byte) bool {
	switch b[i] {
	case '(':
		return n == '"' || n == '\'' || n == '$' && (p == 'n' || p == 'd') ||
			chars.IsDigit(p) || p|0x20 == 'd' && (b[i-2]|0x20 == 'r' || b[i-2]|0x20 == 'w') || OpensRow(b, i)
	case ')':
		return n == ' ' && behindParenthesis(b, i)
	case '[':
		return n == 'r' && b[i+3] == 'd' || chars.IsDigit(n) && b[i+3] == '/' && p == ' ' && b[i-3] != ' '
	}
	return n == 'S' || n == 'M' || n == 'C' || n == 'P' || n == 's' || n == 'A' || n == '3'
}

// slashWorth reports the same at a slash or backslash.
func slashWorth(b []byte, i int, p, n byte) bool {
	if b[i] == '\\' {
		return n == 'u' || n == 'U' || n == 'h' || n == 'D' || n == '\\' || chars.IsUpper(p) || chars.IsDigit(p) || p == '-'
	}
	switch string(b[i+1 : i+4]) {
	case "hom", "Use", "mai", "cro": // see homes
		return true
	}
	// Pts/0, a name, or :user/.
	return p == 's' && b[i-2] == 't' && b[i-3] == 'p' || chars.IsUpper(p) && chars.IsUpper(n) || p == 'r' && b[i-5] == ':'
}

// signWorth reports the same at one of the other signs.
func signWorth(b []byte, i int, p, n byte) bool {
	switch b[i] {
	case '?':
		return p == ' ' && n == ' '
	case '%':
		return n >= '2' && n <= '5'
	case '&':
		return n == '#' || n == 'c'
	case '_':
		return find.TokenEnds.Get().Has(b[i-2], p)
	case 'A':
		return (!chars.IsUpper(p) || b[i-3] == '%') && (n == 'K' || n == 'S' || n == 'R' || n == 'I') // else it is of WARN and the like
	case 'B':
		return n == 'e' || n == 'a'
	case 'J':
		return p == 'y'
	case '*':
		return chars.IsHex(n)
	case '+':
		return find.BeforeNumber[p] && chars.IsDigit(n) && n != '0'
	}
	return b[i] != find.WideSign || n == 0xbc
}

// worthColon reports whether a colon between two bytes may belong to a URL, an entry of accounts, a processor time or an IPv6 address.
func worthColon(b []byte, i int, p, n byte) bool {
	return n == '/' && b[i+2] == '/' || b[i+33] == ':' || n == ':' || b[i+2] == ':' && (n == 'x' || n == '*' || n == '!') ||
		chars.IsDigit(p) && chars.IsUpper(n) || find.EndsProcessorTime(b, i) ||
		(chars.IsHex(p) || p == ':' || p == '[') && (chars.IsHex(n) || n == ':') && bytes.IndexByte(b[i+1:i+6], ':') >= 0
}

// behindParenthesis says whether what userBeforeCron looks for may stand around the end of a parenthesis: the first letters of what a
// server of jobs does, or another name before it.
func behindParenthesis(b []byte, i int) bool {
	switch string(b[i+2 : i+4]) {
	case "CM", "RE", "LI", "BE":
		return true
	}
	at := i
	for at > i-find.Edge+4 && chars.IsNameByte(b[at-1]) {
		at--
	}
	return at <= i-find.Edge+4 || b[at-1] == ' ' && b[at-2] == 'o'
}

// isDotted says whether a text begins with a number and a dot, as addresses do that a rule of their own finds.
func isDotted(v []byte) bool {
	n := 0
	for n < 3 && chars.IsDigit(v[n]) {
		n++
	}
	return n > 0 && v[n] == '.'
}

func hashesOf(sets ...map[string]bool) *[1 << 14]bool {
	set := new([1 << 14]bool)
	for _, words := range sets {
		for w := range words {
			h := uint32(0)
			for i := len(w) - 1; i >= 0; i-- {
				h = (h + uint32(w[i]|0x20)) * 16777619
			}
			set[h>>18] = true
		}
	}
	return set
}

// longestAnchor is how long a word is at most that announces something, in bytes.
const longestAnchor = 32

// announces says whether the word before a place is one of those. "pass" tells only in capitals.
func (w *announced) announces(b []byte, at int) bool {
	if b[at-1] == '.' {
		return find.IsTitled(b, at)
	}
	h, i, last := uint32(0), at-1, uint32(0)
	for ; i > at-longestAnchor && (chars.IsWord(b[i]) || b[i] == '-'); i-- {
		if (b[i] == '-' || b[i] == '_') && w.endings[h>>18] {
			return true
		}
		last = h
		h = (h + uint32(b[i]|0x20)) * 16777619
		if chars.IsUpper(b[i]) && b[i-1] >= 'a' && b[i-1] <= 'z' && w.endings[h>>18] {
			return true
		}
	}
	if first := b[i+1]; (first == 'n' || first == 'r' || first == 't') && w.words[last>>18] {
		return true // it may be the letter of an escape
	}
	return w.words[h>>18] && !(at-1-i == 4 && string(b[i+1:at]) == "pass")
}

// modeEnds are the last signs of modes.
var modeEnds = *chars.BytesOf("x-sStT.+@")

// looksMode says whether text begins like the mode of a file: drwxr-x---.
func looksMode(b []byte) bool {
	return (b[1] == 'r' || b[1] == '-') && (b[2] == 'w' || b[2] == '-') && (b[4] == 'r' || b[4] == '-') && (b[5] == 'w' || b[5] == '-')
}

var beforeOption = [256]bool{' ': true, '\t': true, '"': true, '\'': true, '\n': true, '[': true, ',': true, '-': true}

func dashWorth(b []byte, i int, p, n byte) bool {
	if beforeOption[p] && n != ' ' && n != '"' || n == '-' || n == '>' || find.TokenEnds.Get().Has(b[i-2], p) || p == 'p' &&
		b[i-2] == 'i' || n == 'L' && p == 'e' {
		return true
	}
	return chars.IsHex(p) && chars.IsHex(n) && b[i+3] == '-' && !chars.IsHex(b[i-3])
}

func (g *Gate) dotWorth(b []byte, i int, p, n byte) bool {
	if chars.IsHex(p) && chars.IsHex(n) {
		if chars.IsDigit(p) && chars.IsDigit(n) && (b[i+2] == '.' || b[i+3] == '.' || b[i+4] == '.') || b[i+5] == '.' {
			return true
		}
	}
	if find.TokenEnds.Get().Has(b[i-2], p) || g.domainFirst[n] {
		return true
	}
	switch string([]byte{n | 0x20, b[i+2] | 0x20, b[i+3] | 0x20}) {
	case "int", "loc", "lan", "cor", "hom", "ip6":
		return true
	}
	return false
}

// OpensRow says whether a row of SQL may open at a bracket.
func OpensRow(b []byte, at int) bool {
	if at < 8 {
		return false
	}
	before := bytes.TrimRight(b[at-8:at], " \r\n")
	n := len(before)
	return n > 5 && (before[n-1] == ',' && before[n-2] == ')' || before[n-1]|0x20 == 's' && chars.IsOneOf(before[n-6:], "values"))
}
