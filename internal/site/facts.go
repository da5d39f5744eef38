package site

import (
	"strings"

	"envask/internal/keyfile"
)

// maxFactText bounds the text of one fact, in bytes.
const maxFactText = 1000

// readFacts reads what the engineer says of a system, which items can use as {system.KEY}.
func readFacts(m *keyfile.Map) map[string]string {
	if m == nil {
		return nil
	}
	out := map[string]string{}
	for _, k := range m.Keys() {
		v := m.Value(k)
		if strings.Trim(k, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-") != "" {
			v.Problem("facts: expected a key of letters, digits, - and _, found %q", k)
		}
		if len(v.Text) > maxFactText || strings.ContainsFunc(v.Text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
			v.Problem("facts: %s: expected one line of at most %d bytes", k, maxFactText)
		}
		out[k] = v.Text
	}
	m.Done()
	return out
}
