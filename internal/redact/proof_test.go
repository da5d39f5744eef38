package redact_test

import (
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact"
	"envask/internal/redact/prove"
)

// The proof shows that a reader of texts is broken.
func TestProofSeesABrokenReader(t *testing.T) {
	var proof, whole prove.Proof
	p := prove.NewProver(redact.Config{})
	require.NoError(t, p.Announced(redact.BreakTexts(), &proof))
	require.Contains(t, proof.Missed, "rule keyed-secret: its value was not found (base64)")
	require.NoError(t, p.Announced(redact.NewEngine(redact.Options{}), &whole))
	require.Empty(t, whole.Missed)
}

// What was replaced within base64 is no suspect.
func TestWhatWasReplacedIsNoSuspect(t *testing.T) {
	for _, in := range []string{"conf loaded password=brass-Kelp-71! from=disk", "itostrund:brass-Kelp-71!"} {
		out := redact.NewEngine(redact.Options{}).String("state " + base64.StdEncoding.EncodeToString([]byte(in)) + "\n")
		require.NotContains(t, out, base64.StdEncoding.EncodeToString([]byte(in)))
		require.NoError(t, prove.FindSuspects(strings.NewReader(out), func(s prove.Suspect) bool { t.Error(s.Text); return true }))
	}
}
