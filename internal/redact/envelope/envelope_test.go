package envelope

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestEveryRowHasItsExamples(t *testing.T) {
	for _, p := range Prefixes {
		require.NotEmpty(t, p.Yes, p.Name)
		require.NotEmpty(t, p.No, p.Name)
		for _, line := range p.Yes {
			n := Of([]byte(line))
			require.Positive(t, n, "%s: %q", p.Name, line)
			require.Equal(t, p.Of([]byte(line)), n, "another row takes %q", line)
		}
		for _, line := range p.No {
			n := p.Of([]byte(line))
			require.True(t, n == 0 || n >= len(line), "%s: %q", p.Name, line)
		}
	}
}

func FuzzOf(f *testing.F) {
	for _, p := range Prefixes {
		for _, line := range append(p.Yes, p.No...) {
			f.Add([]byte(line))
		}
	}
	f.Fuzz(func(t *testing.T, line []byte) {
		n := Of(line)
		require.GreaterOrEqual(t, n, 0)
		require.True(t, n == 0 || n < len(line))
	})
}
