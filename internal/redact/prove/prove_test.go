package prove

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact"
	"envask/internal/redact/alias"
	"envask/internal/redact/learn"
)

func suspects(t *testing.T, text string) []Suspect {
	t.Helper()
	var out []Suspect
	require.NoError(t, FindSuspects(strings.NewReader(text), func(s Suspect) bool {
		out = append(out, s)
		return len(out) < 100
	}))
	return out
}

// What looks like a secret and no rule took is shown to a person, and what is only long is not.
func TestSuspects(t *testing.T) {
	for text, want := range map[string]string{
		"blob kQ8vXz2LmP9wRt4YbN7cQa here":                      "kQ8vXz2LmP9wRt4YbN7cQa",
		"gate_privs=kq8vxz2lmp9wrt4ybn7cqa":                     "kq8vxz2lmp9wrt4ybn7cqa",
		"signed_by: 9d2f7c1ab48e44f0aa119d2f7c1ab48e44f0aa11":   "9d2f7c1ab48e44f0aa119d2f7c1ab48e44f0aa11",
		"commit 9d2f7c1ab48e44f0aa119d2f7c1ab48e44f0aa11":       "",
		"sha256:9F86d081884c7d659a2FEaa0c55ad015a3bf4f1b2b0b8":  "",
		"request 0f9e8d7c-1234-4a5b-8c6d-001122334455":          "",
		"/var/log/boarding/2026/03/14/GateAgent17Trace.log":     "",
		"org.pier.boarding.GateAgentTableLoaderFactory17":       "",
		"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa":              "",
		"password=[redacted:keyed-secret] and more of the same": "",
	} {
		found := suspects(t, "before "+text+"\n")
		if want == "" {
			require.Empty(t, found, text)
			continue
		}
		require.Len(t, found, 1, text)
		require.Equal(t, want, found[0].Text)
		require.Equal(t, int64(strings.Index("before "+text, want)), found[0].Offset)
	}
	// Across the borders of reads, and stopped when it is enough.
	long := strings.Repeat("nothing of note in this line\n", 20_000)
	require.Len(t, suspects(t, long+"blob kQ8vXz2LmP9wRt4YbN7cQa\n"+long), 1)
	n := 0
	require.NoError(t, FindSuspects(strings.NewReader(strings.Repeat("kQ8vXz2LmP9wRt4YbN7cQa ", 50)), func(Suspect) bool { n++; return n < 3 }))
	require.Equal(t, 3, n)
}

// The proof fails when something is in the way: an original that no rule may touch, or a matcher that does not know it.
// Whatever values are made up, the proof holds: one that fails by chance would stop a pack in the night.
func TestProofHoldsForEachValue(t *testing.T) {
	for range 60 {
		p := NewProver(redact.Config{})
		values, missed, err := p.Learn(redact.Options{})
		require.NoError(t, err)
		require.Empty(t, missed)
		for _, v := range values {
			require.True(t, v.Class != alias.Secret || learn.Unmistakable(v.Text) || v.Rule == "keyed-secret", v.Text)
		}
		if proof, err := p.Check(redact.Options{Matcher: redact.NewMatcher(values)}, missed); len(proof.Missed) > 0 {
			require.NoError(t, err)
			require.Empty(t, proof.Missed)
		}
	}
}

func TestProofCanFail(t *testing.T) {
	p := NewProver(redact.Config{})
	values, missed, err := p.Learn(redact.Options{})
	require.NoError(t, err)
	require.Empty(t, missed)
	proof, err := p.Check(redact.Options{Matcher: redact.NewMatcher(values)}, missed)
	require.NoError(t, err)
	require.Empty(t, proof.Missed)
	require.Greater(t, proof.Notations, 30*proof.Values)
	require.Equal(t, proof.Notations, proof.Caught)

	proof, err = p.Check(redact.Options{Matcher: redact.NewMatcher(values[1:])}, nil)
	require.NoError(t, err)
	require.NotEmpty(t, proof.Missed, "a value that the matcher does not know goes through")
	proof, err = p.Check(redact.Options{Matcher: redact.NewMatcher(values), Keep: []string{values[0].Text}}, nil)
	require.NoError(t, err)
	require.NotEmpty(t, proof.Missed)
	for _, m := range proof.Missed {
		for _, v := range values {
			require.NotContains(t, m, v.Text, "no message holds a value")
		}
	}
	_, missed, err = NewProver(redact.Config{}).Learn(redact.Options{Config: redact.Config{Off: map[string]bool{"ipv4": true}}})
	require.NoError(t, err)
	require.Equal(t, []string{"rule ipv4 did not find its value"}, missed)
	// A rule that is off though nobody said so shows in the notations; so does a reader of texts that is broken, see the tests of redact.
	all := proof.Notations
	proof, err = p.Check(redact.Options{Matcher: redact.NewMatcher(values), Config: redact.Config{Off: map[string]bool{"keyed-secret": true}}}, nil)
	require.NoError(t, err)
	require.Equal(t, all, proof.Notations)
	require.Less(t, proof.Caught, all)
	require.Contains(t, proof.Missed, "rule keyed-secret: its value was not found (syslog)")
	// What the engineer turned off is not asked for.
	_, missed, err = NewProver(redact.Config{Off: map[string]bool{"ipv4": true}}).Learn(redact.Options{Config: redact.Config{Off: map[string]bool{"ipv4": true}}})
	require.NoError(t, err)
	require.Empty(t, missed)
}
