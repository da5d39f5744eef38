package redact

import "golang.org/x/sys/cpu"

// vectors says whether the processor has what the kernel is written for.
var vectors = cpu.X86.HasAVX2

// placesAVX2 gives for 64*words bytes from b on, as two words of bits each, which fit a context of spaces and which one of
// the others. It reads contextBehind bytes before them and contextAhead behind them.
//
//go:noescape
func placesAVX2(dst *[2]uint64, b *byte, words int, t *placeTables)

// classesAVX2 gives for 64*words bytes from b on, as words of bits, which bytes are of each class.
//
//go:noescape
func classesAVX2(dst *classWords, b *byte, words int, t *[4]nibbles)

// gramsAVX2 gives for each of 8*groups places of b, stride apart, a bit that says whether the four bytes there may be in a set
// of grams. It reads up to 16 bytes behind the last place.
//
//go:noescape
func gramsAVX2(dst *byte, b *byte, groups int, set *uint32, shift, stride int)
