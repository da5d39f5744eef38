package term

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Only y or yes is a yes, whatever else is typed, however long, and nothing of it comes back.
func FuzzConfirm(f *testing.F) {
	for _, s := range []string{"y\n", "yes", "YES \r\n", "n\n", "", "yesterday\n", "\x1b[A\ny\n", strings.Repeat("y", 5000) + "\n", "y\x00\n"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, typed string) {
		var said bytes.Buffer
		s := &Screen{In: strings.NewReader(typed), Err: &said}
		yes, err := s.Confirm("Really?")
		require.NoError(t, err)
		line, _, _ := strings.Cut(typed, "\n")
		line = strings.ToLower(strings.TrimSpace(line))
		require.Equal(t, line == "y" || line == "yes", yes, "%q", typed)
		require.Equal(t, "Really? [y/N] ", said.String())
	})
}
