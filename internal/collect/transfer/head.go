package transfer

import "strings"

// Head keeps the beginning of what is written to it, room bytes, and lets the rest go by.
type Head struct {
	strings.Builder
	Room int
}

func (h *Head) Write(p []byte) (int, error) {
	if left := h.Room - h.Len(); left > 0 {
		h.Builder.Write(p[:min(left, len(p))])
	}
	return len(p), nil
}
