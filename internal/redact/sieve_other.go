//go:build !amd64

package redact

var vectors = false

func placesAVX2(*[2]uint64, *byte, int, *placeTables)  { panic("no vectors here") }
func classesAVX2(*classWords, *byte, int, *[4]nibbles) { panic("no vectors here") }
func gramsAVX2(*byte, *byte, int, *uint32, int, int)   { panic("no vectors here") }
