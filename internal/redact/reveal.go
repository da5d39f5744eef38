package redact

import (
	"bufio"
	"io"
	"strings"

	"envask/internal/redact/alias"
)

// Reveal copies a text with the aliases of a table turned back into their originals, also in base64 of texts and of compressed ones, and
// gives how many there were.
func Reveal(t *Table, w *bufio.Writer, r io.Reader) (int, error) {
	return alias.Reveal(t, w, r, revealPacked)
}

// revealPacked turns aliases back in the words of a line that are texts in base64, compressed or not, which are written as they were.
func revealPacked(line string, reveal func(string) (string, int)) (string, int) {
	var out strings.Builder
	b, done, n := []byte(line), 0, 0
	eachPacked(b, func(w packedWord) {
		text, found := reveal(string(w.plain))
		if found == 0 {
			return
		}
		put, end := w.again(b, []byte(text))
		out.WriteString(line[done:w.start])
		out.WriteString(put)
		done, n = end, n+found
	})
	out.WriteString(line[done:])
	return out.String(), n
}
