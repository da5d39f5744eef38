package redact

import (
	"envask/internal/redact/find"
)

// besideMAC adds the sender of a frame behind its receiver.
func besideMAC(e *Engine, b []byte, from, start, end int) {
	if find.BeginsFrame(b, start) {
		e.add(b, from, end+1, end+18, "mac")
	}
}
