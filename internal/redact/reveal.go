package redact

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"io"
	"strings"

	"envask/internal/redact/alias"
)

// Reveal copies a text with the aliases of a table turned back into their originals, also in base64 of texts and of compressed ones, and
// gives how many there were.
func Reveal(t *Table, w *bufio.Writer, r io.Reader) (int, error) {
	return alias.Reveal(t, w, r, revealCoded)
}

// revealCoded turns aliases back in the words of a line that are texts in base64, compressed or not.
func revealCoded(line string, reveal func(string) (string, int)) (string, int) {
	var out strings.Builder
	done, n := 0, 0
	for at := 0; at < len(line); {
		start := at
		for at < len(line) && letterOfBase64[line[at]] {
			at++
		}
		if at-start < minCode {
			at++
			continue
		}
		end := at
		for end < len(line) && line[end] == '=' && end-at < 2 {
			end++
		}
		if word, found := revealInWord([]byte(line[start:at]), end > at, reveal); found > 0 {
			out.WriteString(line[done:start])
			out.WriteString(word)
			done, at = end, end
			n += found
		}
	}
	out.WriteString(line[done:])
	return out.String(), n
}

// revealInWord does so in one word, which is written in the same way.
func revealInWord(word []byte, padded bool, reveal func(string) (string, int)) (string, int) {
	padded = padded || len(word)%4 == 0
	forURLs := bytes.ContainsAny(word, "-_")
	if p, plain := openPacked(word, maxPackedGrowth); p != nil {
		text, n := reveal(string(plain))
		if n == 0 {
			return "", 0
		}
		return p.packed([]byte(text), forURLs, padded), n
	}
	plain := decodedText(word)
	if plain == nil {
		return "", 0
	}
	text, n := reveal(string(plain))
	return encodeBase64([]byte(text), forURLs, padded), n
}

// encodeBase64 writes bytes in either alphabet, filled up or not.
func encodeBase64(data []byte, forURLs, padded bool) string {
	code := base64.StdEncoding
	if forURLs {
		code = base64.URLEncoding
	}
	if !padded {
		code = code.WithPadding(base64.NoPadding)
	}
	return code.EncodeToString(data)
}
