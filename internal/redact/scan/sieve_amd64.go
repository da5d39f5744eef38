package scan

// placesAVX2 marks for 64*words bytes from b on which fit a context of spaces and which one of the others. It reads
// contextBehind bytes before them and contextAhead behind them.
//
//go:noescape
func placesAVX2(m *Marks, b *byte, words int, t *placeTables)

// classesAVX2 marks for 64*words bytes from b on which are of each class.
//
//go:noescape
func classesAVX2(m *Marks, b *byte, words int, t *[4]nibbles)

// siftAVX2 makes of the other marks of 4*groups words what is sifted. Fractions are left out by a mask of ones only. It says
// whether any place is hot.
//
//go:noescape
func siftAVX2(m *Marks, groups int, fractions uint64) (hot bool)

// setBitsBMI lists the numbers of the set bits of some words, and says how many there are. It may write four more.
//
//go:noescape
func setBitsBMI(list *uint16, row *uint64, words int) (n int)

// unknownBMI leaves in a list those places right before which no word of one to eight bytes of keys stands that is in a table.
// keys are the bits of those bytes, from one word before the text b on, which is read from eight bytes before it on. lengths is
// wordLengths.
//
//go:noescape
func unknownBMI(list *uint16, n int, keys *uint64, b *byte, table *wordTable, lengths *[512]byte) (left int)
