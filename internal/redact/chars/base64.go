package chars

import (
	"bytes"
	"encoding/base64"
)

// DecodeBase64 decodes a word in either alphabet, without what fills it up.
func DecodeBase64(out, word []byte) (int, error) {
	if rest := len(word) & 3; rest == 1 {
		word = word[:len(word)-1]
	}
	if bytes.ContainsAny(word, "-_") {
		return base64.RawURLEncoding.Decode(out, word)
	}
	return base64.RawStdEncoding.Decode(out, word)
}
