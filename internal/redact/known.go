package redact

import "encoding/binary"

// known are aliases that an engine has given to the originals of a class, those of short ones that came last at hand.
type known struct {
	all    map[string]string
	recent *[1 << 10]recentAlias
}

// recentAlias is an original of up to 32 bytes, as numbers.
type recentAlias struct {
	text  [4]uint64
	n     int
	alias string
}

// of gives the alias of the original that stands in a text, or "".
func (k *known) of(b []byte, start, end int) string {
	n := end - start
	if n > 32 || start+32 > len(b) {
		return k.all[string(b[start:end])]
	}
	if k.recent == nil {
		k.recent = new([1 << 10]recentAlias)
	}
	var text [4]uint64
	last := (n - 1) >> 3
	for i := range last {
		text[i] = binary.LittleEndian.Uint64(b[start+8*i:])
	}
	text[last&3] = binary.LittleEndian.Uint64(b[start+8*last:]) << (-8 * n & 63) >> (-8 * n & 63)
	r := &k.recent[(text[0]*0x85ebca77c2b2ae63^text[1]*0xc2b2ae3d27d4eb4f^text[2]*0x165667b19e3779f9^text[3])*0x9e3779b97f4a7c15>>54]
	if r.text == text && r.n == n {
		return r.alias
	}
	alias := k.all[string(b[start:end])]
	if alias != "" {
		*r = recentAlias{text, n, alias}
	}
	return alias
}
