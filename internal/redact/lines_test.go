package redact

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"envask/internal/redact/find"
)

// Lines as they stand in real logs and configurations, written by hand: what must not be left of each is not left.
func TestLinesOfTheField(t *testing.T) {
	for n, sample := range recallSamples(t) {
		text := sample[0]
		out := redactText(t, text+"\n")
		assert.Equal(t, out, redactText(t, out), "sample %d: redacting twice changes something", n+1)
		for _, v := range strings.Split(sample[1], "¦") {
			assert.Contains(t, text, v, "sample %d: a line without its value proves nothing", n+1)
			assert.NotContains(t, out, v, "sample %d: %s", n+1, text)
		}
	}
}

// A text may end anywhere, as a log does that is being written: every beginning of every sample goes through, with the gate
// and without it.
func TestTextsThatEndAnywhere(t *testing.T) {
	gated, bare := NewEngine(Options{}), NewEngine(Options{})
	bare.gate.Open = true
	for _, name := range []string{"samples", "survive", "recall"} {
		data, err := os.ReadFile("testdata/" + name + ".txt")
		require.NoError(t, err)
		for i, line := range strings.Split(string(data), "\n") {
			line = line[strings.LastIndexByte(line, '\t')+1:]
			for cut := range len(line) + 1 {
				for _, before := range []string{"", strings.Repeat(". ", find.Edge)} {
					text := before + line[:cut]
					require.NotPanics(t, func() {
						require.Equal(t, bare.String(text), gated.String(text))
					}, "%s.txt:%d: %q", name, i+1, text)
				}
			}
		}
	}
}
