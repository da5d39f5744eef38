package redact

import (
	"bytes"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/find"
)

// ungated redacts without the gate, with every rule asked at every trigger.
func ungated(t testing.TB, in string, c Config) string {
	t.Helper()
	e := NewEngine(Options{Config: c})
	e.gate.Open = true
	var out bytes.Buffer
	_, err := e.Text(&out, strings.NewReader(in))
	require.NoError(t, err)
	return out.String()
}

func gated(t testing.TB, in string, c Config) string {
	t.Helper()
	var out bytes.Buffer
	_, err := NewEngine(Options{Config: c}).Text(&out, strings.NewReader(in))
	require.NoError(t, err)
	return out.String()
}

// The gate keeps nothing from a rule that it would find: with and without it, the output is the same, for every line of the
// samples in every place.
func TestGateHidesNothing(t *testing.T) {
	var lines []string
	for _, name := range []string{"samples", "survive", "recall"} {
		data, err := os.ReadFile("testdata/" + name + ".txt")
		require.NoError(t, err)
		lines = append(lines, strings.Split(string(data), "\n")...)
	}
	c := &corpus{r: rand.New(rand.NewPCG(8, 9))}
	c.make()
	for _, s := range c.samples {
		lines = append(lines, s.text)
	}
	r := rand.New(rand.NewPCG(10, 11))
	pad := strings.Repeat("2026-03-14T06:12:00Z INFO  nothing here; ", 3)
	config := Config{Domains: []string{"tallow.example"}}
	for _, l := range lines {
		text := pad[r.IntN(40):] + l + pad
		a := ungated(t, text, config)
		if b := gated(t, text, config); a != b {
			t.Errorf("%s\n%s\n%s", l, a, b)
		}
		portable(t, func() {
			if b := gated(t, text, config); a != b {
				t.Errorf("without vectors: %s\n%s\n%s", l, a, b)
			}
		})
	}
	r.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
	for _, sep := range []string{" ", "\n", "\t", ","} {
		text := strings.Join(lines, sep)
		all, some := ungated(t, text, config), gated(t, text, config)
		at := 0
		for at < min(len(all), len(some)) && all[at] == some[at] {
			at++
		}
		require.True(t, all == some, "%q between the lines: %q became %q", sep, all[max(0, at-200):min(len(all), at+80)], some[max(0, at-200):min(len(some), at+80)])
	}
}

func FuzzGate(f *testing.F) {
	data, err := os.ReadFile("testdata/recall.txt")
	require.NoError(f, err)
	for _, l := range strings.Split(string(data), "\n") {
		f.Add(l)
	}
	pad := strings.Repeat(". ", find.Edge)
	f.Fuzz(func(t *testing.T, in string) {
		text := pad + in + pad
		all := ungated(t, text, Config{})
		require.Equal(t, all, gated(t, text, Config{}))
		portable(t, func() { require.Equal(t, all, gated(t, text, Config{}), "without vectors") })
	})
}

// Words that end with a dot are looked at where they are titles alone: a phrase with another one would be missed in long texts.
func TestDottedAnchorsAreTitles(t *testing.T) {
	for w := range phraseTable().Anchors() {
		if title, ok := strings.CutSuffix(w, "."); ok {
			require.Contains(t, find.DottedTitles, title)
		}
	}
}

// What is found in a line of a short text is found in one of a long text, too, where the gate says which places are looked at.
func TestGateHidesNothingOfFiles(t *testing.T) {
	data, err := os.ReadFile("testdata/files.txt")
	require.NoError(t, err)
	pad := strings.Repeat("2026-03-14T06:12:00Z INFO  nothing here; ", 4)
	r := rand.New(rand.NewPCG(12, 13))
	for _, l := range strings.Split(strings.NewReplacer("«", "", "»", "", "‹", "", "›", "").Replace(string(data)), "\n") {
		if strings.HasPrefix(l, "=== ") {
			continue
		}
		text := pad[r.IntN(40):] + "\n" + l + "\n" + pad
		if a, b := ungated(t, text, Config{}), gated(t, text, Config{}); a != b {
			t.Errorf("%s\n%s\n%s", l, a, b)
		}
	}
}
