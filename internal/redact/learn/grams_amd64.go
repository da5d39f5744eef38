package learn

// gramsAVX2 gives for each of 8*groups places of b, stride apart, a bit that says whether the four bytes there may be in a set
// of grams. It reads up to 16 bytes behind the last place.
//
//go:noescape
func gramsAVX2(dst *byte, b *byte, groups int, set *uint32, shift, stride int)
