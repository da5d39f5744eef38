//go:build !amd64

package redact

var vectors = false

func placesAVX2(*[2]uint64, *byte, int, *placeTables) { panic("no vectors here") }
func classesAVX2(*[5]uint64, *byte, int, *[3]nibbles) { panic("no vectors here") }
