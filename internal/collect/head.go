package collect

import "strings"

// head keeps the beginning of what is written to it, room bytes, and lets the rest go by.
type head struct {
	strings.Builder
	room int
}

func (h *head) Write(p []byte) (int, error) {
	if left := h.room - h.Len(); left > 0 {
		h.Builder.Write(p[:min(left, len(p))])
	}
	return len(p), nil
}
