package judge

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Every sign holds for its examples, and for none that look like them; each row has both.
func TestSigns(t *testing.T) {
	for _, s := range Signs {
		require.NotEmpty(t, s.Yes, s.Name)
		require.NotEmpty(t, s.No, s.Name)
		for want, lines := range map[bool][]string{true: s.Yes, false: s.No} {
			for _, line := range lines {
				before, rest, ok := strings.Cut(line, "⟦")
				text, after, closed := strings.Cut(rest, "⟧")
				require.True(t, ok && closed, line)
				p := &Place{Before: []byte(before), Text: []byte(text), After: []byte(after)}
				require.Equal(t, want, s.of(p), "%s: %s", s.Name, line)
			}
		}
	}
}
