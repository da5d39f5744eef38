//go:build !amd64

package scan

func placesAVX2(*Marks, *byte, int, *placeTables)                         { panic("no vectors here") }
func classesAVX2(*Marks, *byte, int, *[4]nibbles)                         { panic("no vectors here") }
func siftAVX2(*Marks, int, uint64) bool                                   { panic("no vectors here") }
func setBitsBMI(*uint16, *uint64, int) int                                { panic("no vectors here") }
func unknownBMI(*uint16, int, *uint64, *byte, *wordTable, *[512]byte) int { panic("no vectors here") }
