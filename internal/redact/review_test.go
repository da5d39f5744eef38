package redact

import (
	"bufio"
	"bytes"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

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

// A sample shows the place and what stands around it, and no original.
func TestSamplesHoldNoOriginal(t *testing.T) {
	text := strings.Repeat("filler line\n", 40_000) + "from 192.0.2.61 password=brass-Kelp-71! mail ines.tavares@merrowick.example end\nnext\n"
	var got []Sample
	_, err := NewEngine(Options{}).File(&bytes.Buffer{}, strings.NewReader(text), Source{Sampler: func(s Sample) { got = append(got, s) }})
	require.NoError(t, err)
	require.Len(t, got, 3)
	for i, original := range []string{"192.0.2.61", "brass-Kelp-71!", "ines.tavares@merrowick.example"} {
		require.Equal(t, original, text[got[i].Offset:got[i].Offset+int64(got[i].Length)], "the place is that of the original")
		for _, shown := range []string{got[i].Left, got[i].Put, got[i].Right} {
			require.NotRegexp(t, "192.0.2.61|Kelp|tavares|next", shown)
		}
	}
	require.Equal(t, "from 240.0.0.1 password=", got[1].Left)
	require.Equal(t, " mail mail-2a@host-2a.example end", got[1].Right)
	// Two of a rule are enough.
	got = nil
	_, err = NewEngine(Options{}).File(&bytes.Buffer{}, strings.NewReader(strings.Repeat("from 192.0.2.61\n", 9)), Source{Sampler: func(s Sample) { got = append(got, s) }})
	require.NoError(t, err)
	require.Len(t, got, samplesEach)
}

// Places of learned values lead back to them.
func TestPlacesOfLearnedValues(t *testing.T) {
	text := strings.Repeat("filler line\n", 40_000) + "user=m.quintela Cookie: id=abcdef0123456789; theme=dark\npin=4711\n"
	l := NewLearned()
	seen := map[string]int64{}
	_, err := NewEngine(Options{Learned: l}).File(nil, strings.NewReader(text), Source{Place: func(v alias.Value, at int64) { seen[v.Text] = at }})
	require.NoError(t, err)
	require.Len(t, seen, 3, "what is too short to be learned has no place")
	for value, at := range seen {
		require.Equal(t, value, text[at:at+int64(len(value))])
	}
	require.Contains(t, seen, "abcdef0123456789")
}

// The proof fails when something is in the way: an original that no rule may touch, or a matcher that does not know it.
// Whatever values are made up, the proof holds: one that fails by chance would stop a pack in the night.
func TestProofHoldsForEachValue(t *testing.T) {
	for range 60 {
		p := NewProver(Config{})
		values, missed, err := p.Learn(Options{})
		require.NoError(t, err)
		require.Empty(t, missed)
		for _, v := range values {
			require.True(t, v.Class != alias.Secret || learn.Unmistakable(v.Text) || v.Rule == "keyed-secret", v.Text)
		}
		if proof, err := p.Check(Options{Matcher: NewMatcher(values)}, missed); len(proof.Missed) > 0 {
			require.NoError(t, err)
			require.Empty(t, proof.Missed)
		}
	}
}

func TestProofCanFail(t *testing.T) {
	p := NewProver(Config{})
	values, missed, err := p.Learn(Options{})
	require.NoError(t, err)
	require.Empty(t, missed)
	proof, err := p.Check(Options{Matcher: NewMatcher(values)}, missed)
	require.NoError(t, err)
	require.Empty(t, proof.Missed)
	require.Greater(t, proof.Notations, 30*proof.Values)
	require.Equal(t, proof.Notations, proof.Caught)

	proof, err = p.Check(Options{Matcher: NewMatcher(values[1:])}, nil)
	require.NoError(t, err)
	require.NotEmpty(t, proof.Missed, "a value that the matcher does not know goes through")
	proof, err = p.Check(Options{Matcher: NewMatcher(values), Keep: []string{values[0].Text}}, nil)
	require.NoError(t, err)
	require.NotEmpty(t, proof.Missed)
	for _, m := range proof.Missed {
		for _, v := range values {
			require.NotContains(t, m, v.Text, "no message holds a value")
		}
	}
	_, missed, err = NewProver(Config{}).Learn(Options{Config: Config{Off: map[string]bool{"ipv4": true}}})
	require.NoError(t, err)
	require.Equal(t, []string{"rule ipv4 did not find its value"}, missed)
	// A rule that is off though nobody said so, and a reader of texts that is broken, show in the notations.
	all := proof.Notations
	proof, err = p.Check(Options{Matcher: NewMatcher(values), Config: Config{Off: map[string]bool{"keyed-secret": true}}}, nil)
	require.NoError(t, err)
	require.Equal(t, all, proof.Notations)
	require.Less(t, proof.Caught, all)
	require.Contains(t, proof.Missed, "rule keyed-secret: its value was not found (syslog)")
	broken := NewEngine(Options{Aliases: alias.NewTable()})
	broken.texts.depth = maxTextDepth
	proof = Proof{}
	require.NoError(t, p.announced(broken, &proof))
	require.Contains(t, proof.Missed, "rule keyed-secret: its value was not found (base64)")
	// What the engineer turned off is not asked for.
	_, missed, err = NewProver(Config{Off: map[string]bool{"ipv4": true}}).Learn(Options{Config: Config{Off: map[string]bool{"ipv4": true}}})
	require.NoError(t, err)
	require.Empty(t, missed)
}

func TestRevealTurnsAliasesBack(t *testing.T) {
	l := learnFrom(t, "from 192.0.2.61 via 2001:db8::7 mac 00:00:5e:00:53:af host db7.pier.internal user=m.quintela mail ines@merrowick.example\nphone: +351 912 345 678 card 4111-1111-1111-1111 iban GB82 WEST 1234 5698 7654 32\n")
	table := alias.NewTable()
	table.Give(l.Values())
	e := NewEngine(Options{Aliases: table, Matcher: NewMatcher(l.Values())})
	for _, text := range []string{"at 192.0.2.61.", "[2001:db8::7]:443", "00-00-5E-00-53-AF and 0000.5e00.53af", "x db7.pier.internal:8443", "(m.quintela)", "<ines@merrowick.example>", "card 4111-1111-1111-1111,", "GB82 WEST 1234 5698 7654 32",
		"192.0.2.61,192.0.2.61;m.quintela's", "src_ip=0xC000023D", `{"ip": 3221226045}`, "nothing here", ""} {
		out := e.String(text)
		var back bytes.Buffer
		_, err := alias.Reveal(table, bufio.NewWriter(&back), strings.NewReader(out))
		require.NoError(t, err)
		require.Equal(t, text, back.String(), "by way of %s", out)
	}
}

// An address that is written as one number has the alias of the same address, as a number.
func TestAddressesAsOneNumber(t *testing.T) {
	e := NewEngine(Options{Aliases: alias.NewTable()})
	require.Equal(t, "from 240.0.0.1\n", e.String("from 192.0.2.7\n"))
	require.Equal(t, `{"ip": 4026531841, "src_ip": "0xf0000001"}`, e.String(`{"ip": 3221225991, "src_ip": "0xc0000207"}`))
	require.Equal(t, `{"ip": 4026531841, "src_ip": "0xf0000001"}`, e.String(`{"ip": 4026531841, "src_ip": "0xf0000001"}`))
}

// An expression of one's own is matched within lines, also where a long text has it only once.
func TestExpressions(t *testing.T) {
	for expr, want := range map[string]string{"PX[0-9]{4}": "PX", "(?i)px[0-9]": "", "a(bcd|bce)f": "bc", "[0-9]+-lane-[0-9]": "-lane-", "x|y": "", "(abc)+d": "abc"} {
		require.Equal(t, want, needed(expr), expr)
	}
	c := Config{Expressions: []Expression{{"pass", regexp.MustCompile(`PX[0-9]{4}`), alias.ID}, {"lane", regexp.MustCompile(`(?i)lane [a-z]+$`), alias.Secret}}}
	filler := strings.Repeat("PX is a prefix, and nothing more\n", 9000)
	require.Equal(t, filler+"id-2a, id-2b, id-2a: [redacted:lane]\n"+filler, gated(t, filler+"PX0001, PX0002, PX0001: Lane seven\n"+filler, c))
	twice := gated(t, gated(t, "PX0001 LANE x\n", c), c)
	require.Equal(t, "id-2a [redacted:lane]\n", twice)
}

// Classes can be kept or removed as a whole, and values left as they are.
func TestTreatments(t *testing.T) {
	text := "from 192.0.2.61 mail ines@merrowick.example user=m.quintela password=brass-Kelp-71! db7.pier.example\n"
	require.Equal(t, "from 192.0.2.61 mail [redacted:mail] user=m.quintela password=brass-Kelp-71! host-2a.example\n",
		gated(t, text, Config{Classes: map[alias.Class]Treatment{alias.IPv4: Keep, alias.Mail: Remove}, Off: map[string]bool{"user": true}, Never: []string{"brass-Kelp-71!"}, Domains: []string{"pier.example"}}))
}
