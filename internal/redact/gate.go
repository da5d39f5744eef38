package redact

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"math/bits"
	"sync"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// The gate decides at nearly every trigger, from a few bytes around it, that no rule can find anything there. It may let
// through what the rules then refuse, never the other way round: a test holds both against each other. Without it, a log
// takes several times as long.

func keyHash(key [3]uint64) uint64 {
	return (key[0] ^ bits.RotateLeft64(key[1], 21) ^ bits.RotateLeft64(key[2], 42)) * 0x9e3779b97f4a7c15 >> 54
}

// at gives what kindAt gives, mostly from memory.
func (c *keyCache) at(b []byte, at int, m *marks) find.KeyKind {
	if b[at] != ':' && b[at] != '=' {
		return find.KindAt(b, at)
	}
	if b[at] == ':' && find.InTime(b, at) {
		return 0
	}
	end := at
	switch p := b[at-1]; {
	case p == '"' || p == '\'':
		if end--; end == 0 || b[end-1] == '\\' {
			return find.KindAt(b, at)
		}
	case p == ']' && b[at] == ':' && at > 1 && b[at-2] != '"' && b[at-2] != '\'': // where a line of a log comes from
		return 0
	case p == ' ' || p == '\t' || p == ';' || p == ']' || p == '*' || p == '`':
		return find.KindAt(b, at)
	}
	k := c.of(b, end, m)
	if k == nil {
		return find.KindAt(b, at)
	}
	if k.kind&^find.KeyLoose != 0 || !k.further {
		return k.kind
	}
	if k.paired {
		return find.KindAt(b, at)
	}
	return c.ofTwo(b, end, k)
}

// ofTwo gives the kind of a key that may be the second of two words.
func (c *keyCache) ofTwo(b []byte, end int, second *cachedKey) find.KeyKind {
	start := end - int(second.n)
	first, ok := find.WordBeforeKey(b, start)
	if !ok {
		return second.kind
	}
	n := end - first
	if n > 24 || end < 24 {
		return cmp.Or(find.KindOfTwo(b[first:end], b[start:end]), second.kind)
	}
	key := keyBefore(b, end, n)
	e := &c.pairs[keyHash(key)]
	if e.key != key || int(e.n) != n {
		*e = cachedKey{key: key, n: uint8(n), kind: find.KindOfTwo(b[first:end], b[start:end])}
	}
	return cmp.Or(e.kind, second.kind)
}

// word gives the kind of the key before a sign that is no separator of its own, such as a comma.
func (c *keyCache) word(b []byte, end int, m *marks) find.KeyKind {
	if b[end-1] == '"' || b[end-1] == '\'' {
		end--
	}
	start := end
	for end-start < find.Edge/2 && chars.IsDigit(b[start-1]) {
		start--
	}
	if start < end && !keyBytes[b[start-1]] { // a number; there are too many to be remembered
		return 0
	}
	k := c.of(b, end, m)
	if k == nil { // too long to be remembered
		start = end
		for start > 0 && end-start < chars.MaxKey && keyBytes[b[start-1]] {
			start--
		}
		return find.KindOf(b[start:end])
	}
	return k.kind
}

// unknown lists the places of a row of the chunk, but for those before which such a word stands; those are told by their numbers
// in the chunk. The list is good until the next one is made.
func (t *wordTable) unknown(m *marks, b []byte, row []uint64) []uint16 {
	n := setBitsBMI(&m.list[0], &row[0], len(row))
	return m.list[:unknownBMI(&m.list[0], n, &m.classes[keyClass][0], &b[m.from], t, &wordLengths)]
}

// wordLengths say of nine bits, one for each byte before a place that is one of keys, the next one being the highest, by how much
// the eight bytes before it are to be shifted so that the word is left. The highest bit says that there is no word or a longer one.
var wordLengths = func() (shifts [512]byte) {
	for set := range shifts {
		if n := bits.LeadingZeros16(^(uint16(set) << 7)); n == 0 || n == 9 {
			shifts[set] = 0x80
		} else {
			shifts[set] = byte(64 - 8*n)
		}
	}
	return shifts
}()

// remember adds the word before a place of the chunk, if it is a short one.
func (t *wordTable) remember(m *marks, b []byte, at int) {
	start, ok := m.keyStart(at)
	if n := at - start; ok && n > 0 && n <= 8 {
		word := binary.LittleEndian.Uint64(b[at-8:]) >> (64 - 8*n)
		t[word*0x9e3779b97f4a7c15>>54] = word // as the kernel has it
	}
}

// nothing says quickly that the short key before an equals sign announces nothing; what it does not know it leaves to at.
func (c *keyCache) nothing(b []byte, at int, m *marks) bool {
	start, ok := m.keyStart(at)
	if !ok {
		for start = at; at-start <= 8 && keyBytes[b[start-1]]; {
			start--
		}
	}
	n := at - start
	if n < 1 || n > 8 {
		return false
	}
	key := binary.LittleEndian.Uint64(b[at-8:]) >> (-8 * n & 63)
	e := &c.keys[keyHash([3]uint64{key})]
	return e.nothing && e.key[0] == key && int(e.n) == n
}

// of gives what is known of the key that ends at a place, or nil when it is too long to be remembered.
func (c *keyCache) of(b []byte, end int, m *marks) *cachedKey {
	start, ok := m.keyStart(end)
	if !ok {
		for start = end; start > 0 && end-start < chars.MaxKey && keyBytes[b[start-1]]; {
			start--
		}
	}
	n := end - start
	if n > 24 || end < 24 {
		return nil
	}
	if n == 0 {
		return &noKey
	}
	key := keyBefore(b, end, n)
	e := &c.keys[keyHash(key)]
	if e.key != key || int(e.n) != n {
		text := b[start:end]
		*e = cachedKey{key: key, n: uint8(n), kind: find.KindOf(text), further: mayBelong(text), paired: find.IsPairValue(text) ||
			string(text) == "is"}
		e.nothing = e.kind == 0 && !e.further && !mayName(text)
	}
	return e
}

// keyBefore gives the n bytes before a place as numbers; there are 24 bytes before it.
func keyBefore(b []byte, end, n int) (key [3]uint64) {
	switch last := b[end-24 : end]; {
	case n <= 8:
		key[0] = binary.LittleEndian.Uint64(last[16:]) >> (64 - 8*n)
	case n <= 16:
		key[0], key[1] = binary.LittleEndian.Uint64(last[16:]), binary.LittleEndian.Uint64(last[8:])>>(128-8*n)
	default:
		key[0], key[1], key[2] = binary.LittleEndian.Uint64(last[16:]),
			binary.LittleEndian.Uint64(last[8:]), binary.LittleEndian.Uint64(last)>>(192-8*n)
	}
	return key
}

var noKey cachedKey

var keyBytes = func() (set [256]bool) {
	for c := range 256 {
		set[c] = chars.IsKeyByte(byte(c))
	}
	return set
}()

// mayName says whether a key ends like those of distinguished names: CN, SERIALNUMBER, and so on have no kind of their own.
func mayName(key []byte) bool {
	n := len(key)
	return key[n-1] == 'Y' || key[n-1] == 'L' || n == 1 && key[0] == 'A' || key[n-1]|0x20 == 'n' && (n < 2 || key[n-2]|0x20 == 'c')
}

// mayBelong says whether a key can be one together with what stands around it: the second of two words, or the value of a
// name.
func mayBelong(key []byte) bool {
	if chars.IsAllDigits(key) {
		return false
	}
	var buf [chars.MaxKey]byte
	plain := find.PlainKey(&buf, key)
	if find.IsPairValue(key) || string(key) == "is" {
		return true
	}
	return keyTails()[string(plain)]
}

// keyTails are what telling keys end with, from each of their letters but the first on.
var keyTails = sync.OnceValue(func() map[string]bool {
	tails := map[string]bool{}
	for _, t := range find.Telling {
		for i := 1; i < len(t); i++ {
			tails[t[i:]] = true
		}
	}
	for w := range find.WholeKeys() {
		if find.PersonRoles.Has(w) || find.AddressKeys.Has(w) || find.NamedThings.Has(w) && w != "name" { // these tell as they are
			continue
		}
		for i := 1; i < len(w); i++ {
			tails[w[i:]] = true
		}
	}
	return tails
})

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

// nextWorth gives the next place at which a rule may find something. stop may lie before it.
func (e *Engine) nextWorth(b []byte, i, stop int) int {
	inner := min(stop, len(b)-find.Edge) // so far it can be looked around
	if e.ungated {
		inner = 0
	}
	at := i
	for at < stop {
		if at < find.Edge || at >= inner {
			if e.trigger[b[at]] && e.worth(b, at) {
				break
			}
			at++
			continue
		}
		if chars.Vectors && (at < e.marks.to && at >= e.marks.from || e.look(b, at)) {
			if at = e.marks.next(at); at < e.marks.to && at < inner {
				break
			}
			continue // what is left is looked at one by one
		}
		if at = e.nextByByte(b, at, inner); at < inner {
			break
		}
	}
	if e.ownerEnd >= i && e.ownerEnd < at && b[e.ownerEnd] == ' ' {
		return e.ownerEnd
	}
	return min(at, stop)
}

// nextByByte gives the next such place before inner, without vectors; where there is none, inner or a little more. It needs the
// registers for itself.
//
//go:noinline
func (e *Engine) nextByByte(b []byte, at, inner int) int {
	signs := &e.signs
	for ; ; at++ {
		for at < inner && !signs[b[at]] {
			at++
		}
		switch {
		case at >= inner:
			return at
		case b[at] == ' ' && !e.sieve.spaceFits(b, at):
		case b[at] == '-' && isStamp(b, at):
			at += stampRest - 1
		case b[at] == '=' && e.keys.nothing(b, at, &e.marks) || !e.sieve.fits(b, at):
		case b[at] == ':' && find.IsTime(b, at):
			at += 2 // if the next colon is of the same time, it is one as well
		case e.worth(b, at):
			return at
		}
	}
}

// worth says whether a rule may find something at a trigger.
func (e *Engine) worth(b []byte, i int) bool {
	if i < find.Edge || i+find.Edge > len(b) || e.ungated {
		return true
	}
	p, n := b[i-1], b[i+1]
	switch b[i] {
	case ' ':
		// Nothing but what the sieve lets through comes here.
		return e.announced.announces(b, i) || i == e.ownerEnd || looksMode(b[i-10:]) || looksMode(b[i-11:])
	case ':':
		return !find.IsTime(b, i) && !isLogTime(b, i) && e.colonWorth(b, i, p, n)
	case '=':
		return e.equalsWorth(b, i, p, n)
	case '-':
		return dashWorth(b, i, p, n)
	case '.':
		return e.dotWorth(b, i, p, n)
	case ',', ';':
		return e.commaWorth(b, i, p)
	case '|', '\t':
		return p == ' ' || keyBytes[p] && e.keys.word(b, i, &e.marks)&(find.KeySecret|find.KeyUser|find.KeyPhone) != 0
	case '>':
		return find.KindAt(b, i) != 0
	case '(', ')', '[', '{':
		return bracketWorth(b, i, p, n)
	case '/', '\\':
		return slashWorth(b, i, p, n)
	}
	return signWorth(b, i, p, n)
}

// colonWorth reports whether a rule may find something at a colon that is none of a time.
func (e *Engine) colonWorth(b []byte, i int, p, n byte) bool {
	return worthColon(b, i, p, n) || e.keys.at(b, i, &e.marks) != 0 || find.BeforePort(b, i) || (p == ')' || p == '>') && n == ' ' ||
		p == 'N' && b[i-2] == 'I'
}

// equalsWorth reports whether a rule may find something at an equals sign.
func (e *Engine) equalsWorth(b []byte, i int, p, n byte) bool {
	if p == 'Y' || p == 'A' && b[i-2] == ' ' || p == 'L' && n == '(' || p|0x20 == 'n' && b[i-2]|0x20 == 'c' {
		return true
	}
	kind := e.keys.at(b, i, &e.marks)
	return kind != 0 && (kind&^(find.KeyMailbox|find.KeyAddress) != 0 || !isDotted(b[i+1:]))
}

// commaWorth reports the same at a comma or semicolon.
func (e *Engine) commaWorth(b []byte, i int, p byte) bool {
	if b[i] == ';' && (p == 't' || p == 'a' && b[i-2] == 't' && b[i-3] == 'a') { // of &quot; and form-data
		return true
	}
	return (p == '"' || p == '\'' || keyBytes[p]) &&
		e.keys.word(b, i, &e.marks)&(find.KeySecret|find.KeyUser|find.KeyPhone|find.KeyCookie) != 0 || p == ' ' || p == '>' ||
		p == 'n' && b[i-2] == 'i' && b[i] == ';'
}

// bracketWorth reports the same at a bracket.
func bracketWorth(b []byte, i int, p, n byte) bool {
	switch b[i] {
	case '(':
		return n == '"' || n == '\'' || chars.IsDigit(p) || p|0x20 == 'd' && (b[i-2]|0x20 == 'r' || b[i-2]|0x20 == 'w') || opensRow(b, i)
	case ')':
		return n == ' ' && behindParenthesis(b, i)
	case '[':
		return n == 'r' && b[i+3] == 'd' || chars.IsDigit(n) && b[i+3] == '/' && p == ' ' && b[i-3] != ' '
	}
	return n == 'S' || n == 'M' || n == 'C' || n == 'P' || n == 's'
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

var announcedWords = sync.OnceValue(func() *announced {
	return &announced{hashesOf(announcers()...), hashesOf(phraseTable().Endings())}
})

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

// announcers are all words behind which, with a space between, a rule may find something.
var announcers = sync.OnceValue(func() []map[string]bool {
	heads := chars.WordSet("uid owner user login " + webLogUser) // of tables
	return []map[string]bool{phraseTable().Anchors(), programTable().Anchors(), heads.All()}
})

// announces says whether the word before a place is one of those. "pass" tells only in capitals.
func (w *announced) announces(b []byte, at int) bool {
	if b[at-1] == '.' {
		return find.IsTitled(b, at)
	}
	h, i, last := uint32(0), at-1, uint32(0)
	for ; i > at-24 && (chars.IsWord(b[i]) || b[i] == '-'); i-- {
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

func (e *Engine) dotWorth(b []byte, i int, p, n byte) bool {
	if chars.IsHex(p) && chars.IsHex(n) {
		if chars.IsDigit(p) && chars.IsDigit(n) && (b[i+2] == '.' || b[i+3] == '.' || b[i+4] == '.') || b[i+5] == '.' {
			return true
		}
	}
	if find.TokenEnds.Get().Has(b[i-2], p) || e.domainFirst[n] {
		return true
	}
	switch string([]byte{n | 0x20, b[i+2] | 0x20, b[i+3] | 0x20}) {
	case "int", "loc", "lan", "cor", "hom", "ip6":
		return true
	}
	return false
}

// opensRow says whether a row of SQL may open at a bracket.
func opensRow(b []byte, at int) bool {
	if at < 8 {
		return false
	}
	before := bytes.TrimRight(b[at-8:at], " \r\n")
	n := len(before)
	return n > 5 && (before[n-1] == ',' && before[n-2] == ')' || before[n-1]|0x20 == 's' && chars.IsOneOf(before[n-6:], "values"))
}

// webLogUser is the name of the column with names in the heads of web servers' logs, which are written anew at each start.
const webLogUser = "cs-username"
