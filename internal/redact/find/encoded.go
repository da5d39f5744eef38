package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Keys and separators are also written with escapes, where a text stands within another: as percent escapes (RFC 3986) in
// forms and addresses, as entities in XML and HTML.
//
//	password%3DVALUE%26…    %22password%22%3A%22VALUE%22    &lt;password&gt;VALUE&lt;/password&gt;    password\u003dVALUE

// escapes that stand for a separator, with the quote that may follow and the ends of a value.
var (
	percentSeparators = [][]byte{[]byte("%3D"), []byte("%3d"), []byte("%3A"), []byte("%3a")}
	unicodeSeparators = [][]byte{[]byte(`\u003d`), []byte(`\u003D`), []byte(`\u003a`), []byte(`\u003A`)} // as some programs write JSON
	encodedQuote      = []byte("%22")
	entityClose       = []byte("&gt;")
	entityOpen        = []byte("&lt;")
)

// separatorLen gives the length of the escaped separator that begins (% and \) or ends (;) at a place, or 0.
func separatorLen(b []byte, at int) int {
	if b[at] == ';' {
		if at >= 3 && b[at-1] == 't' && bytes.HasSuffix(b[:at+1], entityClose) {
			return len(entityClose)
		}
		return 0
	}
	if b[at] == '\\' {
		for _, s := range unicodeSeparators {
			if bytes.HasPrefix(b[at:], s) {
				return len(s)
			}
		}
		return 0
	}
	if at+2 < len(b) && b[at+1] == '3' {
		for _, s := range percentSeparators {
			if bytes.HasPrefix(b[at:], s) {
				return len(s)
			}
		}
	}
	return 0
}

// encodedKey gives the key before an escaped separator.
func encodedKey(b []byte, at int) (start, end int) {
	n := separatorLen(b, at)
	if n == 0 {
		return 0, 0
	}
	end = at
	if b[at] == ';' {
		end = at + 1 - n
	} else if bytes.HasSuffix(b[:end], encodedQuote) {
		end -= len(encodedQuote)
	}
	start = end
	for start > 0 && end-start < chars.MaxKey && chars.IsKeyByte(b[start-1]) {
		start--
	}
	if start >= 1 && b[start-1] == '%' && end-start > 2 { // the key begins behind another escape
		start += 2
	}
	if b[at] == ';' && !bytes.HasSuffix(b[:start], entityOpen) {
		return 0, 0
	}
	return start, end
}

// encodedAt reads the value behind an escaped separator.
func encodedAt(b []byte, at int) (k keyed, ok bool) {
	n := separatorLen(b, at)
	if n == 0 {
		return k, false
	}
	if start, end := encodedKey(b, at); start == end {
		return k, false
	}
	k.quoted = true
	if b[at] == ';' {
		k.start = at + 1
		m := bytes.Index(chars.LineFrom(b, k.start), entityOpen)
		k.end = k.start + max(m, 0)
		return k, m > 0
	}
	k.start = at + n
	if bytes.HasPrefix(b[k.start:], encodedQuote) {
		k.start += len(encodedQuote)
		m := bytes.Index(chars.LineFrom(b, k.start), encodedQuote)
		k.end = k.start + max(m, 0)
		return k, m > 0
	}
	for k.end = k.start; k.end < len(b) && bytes.IndexByte([]byte(" \t\r\n&;,\"'<>|)]}"), b[k.end]) < 0; k.end++ {
		if b[k.end] == '\\' && b[at] == '\\' || b[k.end] == '%' && (bytes.HasPrefix(b[k.end:], []byte("%26")) ||
			bytes.HasPrefix(b[k.end:], []byte("%2C")) || bytes.HasPrefix(b[k.end:], []byte("%7D"))) {
			break
		}
	}
	return k, k.end > k.start
}

// WideSign begins the colon and the equals sign of full width, as Chinese and Japanese texts have them (U+FF1A, U+FF1D).
const WideSign = 0xef
