package scan

import (
	"cmp"
	"encoding/binary"
	"math/bits"
	"sync"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// keyCache remembers what keys announce, and what they do together with the word before them: logs have few, and each stands in
// thousands of lines.
type keyCache struct {
	keys  [1 << 10]cachedKey
	pairs [1 << 10]cachedKey // of two words
}

// cachedKey is a key of up to 24 bytes, as three numbers.
type cachedKey struct {
	key     [3]uint64
	n       uint8
	kind    find.KeyKind
	further bool // what stands before or behind the key can make it one
	paired  bool // so can a name beside its value
	nothing bool // neither, whatever stands around it
}

func keyHash(key [3]uint64) uint64 {
	return (key[0] ^ bits.RotateLeft64(key[1], 21) ^ bits.RotateLeft64(key[2], 42)) * 0x9e3779b97f4a7c15 >> 54
}

// at gives what kindAt gives, mostly from memory.
func (c *keyCache) at(b []byte, at int, m *Marks) find.KeyKind {
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
func (c *keyCache) word(b []byte, end int, m *Marks) find.KeyKind {
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
func (t *wordTable) unknown(m *Marks, b []byte, row []uint64) []uint16 {
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
func (t *wordTable) remember(m *Marks, b []byte, at int) {
	start, ok := m.keyStart(at)
	if n := at - start; ok && n > 0 && n <= 8 {
		word := binary.LittleEndian.Uint64(b[at-8:]) >> (64 - 8*n)
		t[word*0x9e3779b97f4a7c15>>54] = word // as the kernel has it
	}
}

// nothing says quickly that the short key before an equals sign announces nothing; what it does not know it leaves to at.
func (c *keyCache) nothing(b []byte, at int, m *Marks) bool {
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
func (c *keyCache) of(b []byte, end int, m *Marks) *cachedKey {
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
