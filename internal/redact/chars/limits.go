package chars

// MaxText is how far before a find the beginning of its line is looked for, in bytes.
const MaxText = 4 << 10

// MaxKey is the longest key that is looked at, in bytes.
const MaxKey = 64

// MaxValue is how far a value can go on in its line, in bytes. Without a bound, every key in a line without end would be
// followed to that end.
const MaxValue = 64 << 10

// MaxPair is how far before a value the name that belongs to it may stand, in bytes.
const MaxPair = 256
