package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// PlaceholderHead begins what stands in the place of a secret.
var PlaceholderHead = []byte("[redacted:")

// PlaceholderLen gives the length of the placeholder at the beginning of text, or 0.
func PlaceholderLen(text []byte) int {
	const most = 64
	if !bytes.HasPrefix(text, PlaceholderHead) {
		return 0
	}
	n := bytes.IndexByte(text[:min(len(text), most)], ']')
	if n < 0 || !IsPlaceholder(text[:n+1]) {
		return 0
	}
	return n + 1
}

// IsPlaceholder says whether text is one placeholder and nothing else.
func IsPlaceholder(text []byte) bool {
	const head = "[redacted:"
	if len(text) < len(head)+2 || string(text[:len(head)]) != head || text[len(text)-1] != ']' {
		return false
	}
	for i, c := range text[len(head) : len(text)-1] {
		if !(c >= 'a' && c <= 'z' || i > 0 && (chars.IsDigit(c) || c == '-')) {
			return false
		}
	}
	return true
}

// Placeholder is what stands in the place of a secret that a rule found.
func Placeholder(rule string) string { return "[redacted:" + rule + "]" }
