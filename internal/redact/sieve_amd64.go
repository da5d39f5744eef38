package redact

import "golang.org/x/sys/cpu"

// vectors says whether the processor has what the kernel is written for.
var vectors = cpu.X86.HasAVX2

// placesAVX2 gives for 64*words bytes from b on, as two words of bits each, which fit a context of spaces and which one of
// the others. It reads contextBehind bytes before them and contextAhead behind them.
//
//go:noescape
func placesAVX2(dst *[2]uint64, b *byte, words int, t *placeTables)

// classesAVX2 gives for 64*words bytes from b on, as five words of bits each, which are bytes of keys, digits, capitals,
// separators and other signs.
//
//go:noescape
func classesAVX2(dst *[5]uint64, b *byte, words int, t *[3]nibbles)
