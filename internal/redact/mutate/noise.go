package mutate

import "math/rand/v2"

// Noise is text of all kinds of bytes, most of them such as logs have, for tests of what looks at bytes.
func Noise(r *rand.Rand, n int) []byte {
	const usual = "abcdefghijklmnopqrstuvwxyzABCDEF0123456789    ..--::==//[](){},;@_\\%&*$\"'\t\n"
	b := make([]byte, n)
	for i := range b {
		if b[i] = usual[r.IntN(len(usual))]; r.IntN(20) == 0 {
			b[i] = byte(r.IntN(256))
		}
	}
	return b
}
