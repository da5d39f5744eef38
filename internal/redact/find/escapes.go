package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// pastEscape gives where a number or word begins whose digits run on from those of an escape before it.
func pastEscape(b []byte, start, at int) int {
	switch {
	case start >= 1 && b[start-1] == '%' && at-start > 2 && chars.IsHex(b[start]) && chars.IsHex(b[start+1]):
		return start + 2
	case start >= 2 && b[start-1] == 'u' && b[start-2] == '\\' && at-start > 4:
		return start + 4
	}
	return start
}

// escapes says whether a backslash begins an escape within a text of JSON, such as \b: what follows the quote that closes it tells.
func escapes(b []byte, at int) bool {
	if at+1 >= len(b) || bytes.IndexByte([]byte("bfnrtu"), b[at+1]) < 0 {
		return false
	}
	if !isOpenAt(b, at, 0) {
		return false
	}
	end := closing(b, at+2, '"')
	if end == len(b) || b[end] != '"' {
		return false
	}
	rest := bytes.TrimLeft(b[end+1:min(len(b), end+16)], " \t\r\n")
	return len(rest) == 0 || bytes.IndexByte([]byte(",:}]"), rest[0]) >= 0
}
