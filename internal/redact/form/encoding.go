package form

import (
	"bytes"
	"io"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// utf16Kind gives the kind of UTF-16 (RFC 2781) that a head is written in, or nil: by its byte order mark, or, as some
// programs leave that out, by every other byte being zero.
func utf16Kind(head []byte) encoding.Encoding {
	switch {
	case bytes.HasPrefix(head, []byte("\xff\xfe")) && !bytes.HasPrefix(head, []byte("\xff\xfe\x00\x00")):
		return unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM)
	case bytes.HasPrefix(head, []byte("\xfe\xff")):
		return unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM)
	}
	n := len(head) &^ 1
	if n < 8 {
		return nil
	}
	var zero [2]int
	for i := range n {
		if head[i] == 0 {
			zero[i&1]++
		}
	}
	switch half := n / 2; {
	case zero[1]*10 >= half*9 && zero[0]*20 < half:
		return unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM)
	case zero[0]*10 >= half*9 && zero[1]*20 < half:
		return unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM)
	}
	return nil
}

func isUTF16(head []byte, _ string) bool { return utf16Kind(head) != nil }

// applyUTF16 redacts a text in UTF-16, in which it stays. The byte order mark is a character like any other here.
func applyUTF16(o *Opener, w io.Writer, r io.Reader, in Source) (Result, error) {
	peeker := r.(interface{ Peek(int) ([]byte, error) }) // File hands a bufio.Reader down
	head, _ := peeker.Peek(headSize)
	kind := utf16Kind(head)
	text := transform.NewReader(r, kind.NewDecoder())
	if w == nil {
		return applyText(o, nil, text, in)
	}
	tw := transform.NewWriter(w, kind.NewEncoder())
	res, err := applyText(o, tw, text, in)
	if err != nil {
		return res, err
	}
	return res, tw.Close()
}
