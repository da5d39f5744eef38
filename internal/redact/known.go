package redact

import "encoding/binary"

// known are aliases that an engine has given to the originals of a class, those of short ones that came last at hand.
type known struct {
	all    map[string]string
	recent [256]recentAlias
}

// recentAlias is an original of up to 16 bytes, as two numbers.
type recentAlias struct {
	low, high uint64
	n         int
	alias     string
}

// of gives the alias of the original that stands in a text, or "".
func (k *known) of(b []byte, start, end int) string {
	n := end - start
	if n > 16 || start+16 > len(b) {
		return k.all[string(b[start:end])]
	}
	low, high := binary.LittleEndian.Uint64(b[start:]), binary.LittleEndian.Uint64(b[start+8:])
	if n <= 8 {
		low, high = low<<(64-8*n)>>(64-8*n), 0
	} else {
		high = high << (128 - 8*n) >> (128 - 8*n)
	}
	r := &k.recent[(low^high*0x85ebca77c2b2ae63)*0x9e3779b97f4a7c15>>56]
	if r.low == low && r.high == high && r.n == n {
		return r.alias
	}
	alias := k.all[string(b[start:end])]
	if alias != "" {
		*r = recentAlias{low, high, n, alias}
	}
	return alias
}
