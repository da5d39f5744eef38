//go:build !amd64

package redact

func placesAVX2(*marks, *byte, int, *placeTables)                         { panic("no vectors here") }
func classesAVX2(*marks, *byte, int, *[4]nibbles)                         { panic("no vectors here") }
func siftAVX2(*marks, int, uint64) bool                                   { panic("no vectors here") }
func setBitsBMI(*uint16, *uint64, int) int                                { panic("no vectors here") }
func unknownBMI(*uint16, int, *uint64, *byte, *wordTable, *[512]byte) int { panic("no vectors here") }
