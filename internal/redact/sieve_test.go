package redact

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/chars"
	"envask/internal/redact/mutate"
)

// portable runs a test without vectors, as on processors that have none.
func portable(t testing.TB, run func()) {
	t.Helper()
	had := chars.Vectors
	chars.Vectors = false
	defer func() { chars.Vectors = had }()
	run()
}

// The engine gives the same with vectors and without, for numbers above all, which are found in two ways.
func TestVectorsChangeNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	numbers := []string{"4111111111111111", "4111 1111 1111 1111", "4111-1111-1111-1111", "378282246310005", "3782 822463 10005", "4222222222222", "4222-222222-222",
		"GB82WEST12345698765432", "GB82 WEST 1234 5698 7654 32", "DE89370400440532013000", "NO9386011117947", "NO93 8601 1117 947", "1773446400123", "OT04120525"}
	for range 400 {
		b := mutate.Noise(r, 1+r.IntN(400))
		for range r.IntN(8) {
			n := numbers[r.IntN(len(numbers))]
			b = append(append(b, n...), mutate.Noise(r, r.IntN(130))...)
			if r.IntN(3) == 0 {
				b = append(b, ' ')
			}
		}
		text := string(bytes.Repeat(b, 1+r.IntN(3)))
		with := gated(t, text, Config{})
		portable(t, func() { require.Equal(t, gated(t, text, Config{}), with) })
		require.Equal(t, ungated(t, text, Config{}), with)
	}
}

func TestEveryNumberIsFoundAtEveryPlace(t *testing.T) {
	for _, n := range []string{"4111111111111111", "4222-222222-222", "GB82 WEST 1234 5698 7654 32", "NO9386011117947"} {
		for i := range 200 {
			text := strings.Repeat("x", i) + " " + n + " "
			require.NotContains(t, gated(t, text+strings.Repeat("y ", 100), Config{}), n, "%s at %d", n, i)
			require.NotContains(t, gated(t, text, Config{}), n, "%s at %d, at the end", n, i)
		}
	}
}
