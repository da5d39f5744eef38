package redact

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// holdsPlaceholder says whether a placeholder stands in a text.
func holdsPlaceholder(text []byte) bool {
	n := bytes.IndexByte(text, '[')
	return n >= 0 && bytes.Contains(text[n:], find.PlaceholderHead)
}

// withinPlaceholder says whether a place is within a placeholder.
func withinPlaceholder(b []byte, at int) bool {
	n := bytes.LastIndexByte(b[max(0, at-chars.MaxKey):at], '[')
	if n < 0 {
		return false
	}
	n += max(0, at-chars.MaxKey)
	return n+find.PlaceholderLen(b[n:]) > at
}
