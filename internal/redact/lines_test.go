package redact

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Lines as they stand in real logs and configurations, written by hand: what must not be left of each is not left.
func TestLinesOfTheField(t *testing.T) {
	data, err := os.ReadFile("testdata/recall.txt")
	require.NoError(t, err)
	all, missed := map[string]int{}, map[string][]string{}
	for i, line := range strings.Split(strings.TrimSpace(string(data)), "\n") {
		if strings.HasPrefix(line, "#") {
			continue
		}
		parts := strings.SplitN(line, "\t", 3)
		require.Len(t, parts, 3, "recall.txt:%d", i+1)
		class, value, text := parts[0], parts[1], parts[2]
		if strings.HasPrefix(text, "$ ") {
			text = strings.NewReplacer(`\n`, "\n", `\t`, "\t").Replace(text[2:])
		}
		out := redactText(t, text+"\n")
		assert.Equal(t, out, redactText(t, out), "recall.txt:%d: redacting twice changes something", i+1)
		all[class]++
		for _, v := range strings.Split(value, "¦") {
			assert.Contains(t, text, v, "recall.txt:%d: a line without its value proves nothing", i+1)
			if strings.Contains(out, v) {
				missed[class] = append(missed[class], text)
			}
		}
	}
	for class, n := range all {
		t.Logf("%-7s %3d lines, %3d found; not: \n%s", class, n, n-len(missed[class]), strings.Join(missed[class], "\n"))
		assert.LessOrEqual(t, len(missed[class])*100, n*2, "%s", class)
	}
}

// A text may end anywhere, as a log does that is being written: every beginning of every sample goes through, with the gate
// and without it.
func TestTextsThatEndAnywhere(t *testing.T) {
	gated, bare := NewEngine(Options{}), NewEngine(Options{})
	bare.ungated = true
	for _, name := range []string{"samples", "survive", "recall"} {
		data, err := os.ReadFile("testdata/" + name + ".txt")
		require.NoError(t, err)
		for i, line := range strings.Split(string(data), "\n") {
			line = line[strings.LastIndexByte(line, '\t')+1:]
			for cut := range len(line) + 1 {
				for _, before := range []string{"", strings.Repeat(". ", edge)} {
					text := before + line[:cut]
					require.NotPanics(t, func() {
						require.Equal(t, bare.String(text), gated.String(text))
					}, "%s.txt:%d: %q", name, i+1, text)
				}
			}
		}
	}
}
