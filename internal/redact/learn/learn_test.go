package learn

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// What a value looks like decides whether one find removes it everywhere.
func TestShaped(t *testing.T) {
	for text, secret := range map[string]bool{
		"brass-Kelp-71!": true, "tpg_1234567890ab": true, "Sable-Wharf-7719": true, "8f14e45fceea167a": true, "Harbour2024": true, "xkqzvbnmwrt": true, "kJdHqWzRtBnM": true,
		"/aGVsbG8Td29ybGQxMjM0NTY3ODk=": true, "9c1185a5-c5e9-4c54-a3b1-2f4a6b8c0d1e": true, "p4ss,w0rd!": true,
		"/bin/sh": false, "amd64.": false, "x86_64": false, "ledger": false, "com.merrowick.ledger.Main": false, "ledger.service": false, "sha256": false,
		"readTimeout": false, "10.2.14.1": false, "1.2.3-4ubuntu5": false, "https://desk.example/login": false, "harbour-gate": false, "NOPASSWD": false, "utf-8": false,
		"../conf/keys/app.properties": false, `C:\keys\store`: false, "UserPassAuthenticator": false, "12345678": false, "short": false,
	} {
		require.Equal(t, secret, find.Shaped(text) && Learnable(alias.Value{Text: text, Class: alias.Secret, Rule: "keyed-secret"}), text)
	}
}

// The matcher gives what a plain search gives, whatever the lengths and places.
func TestMatcherFindsAll(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	letters := func(n int) string {
		b := make([]byte, n)
		for i := range b {
			b[i] = "ab-"[r.IntN(3)]
		}
		return string(b)
	}
	for range 300 {
		var values []alias.Value
		for range 1 + r.IntN(6) {
			values = append(values, alias.Value{Text: letters(4 + r.IntN(9)), Class: alias.Secret, Rule: "keyed-secret"})
		}
		text := letters(400 + 2400*r.IntN(2))
		covered := make([]bool, len(text))
		var found, without []Match
		NewMatcher(values).Each([]byte(text), 0, nil, func(m Match) { found = append(found, m) })
		func() {
			had := chars.Vectors
			chars.Vectors = false
			defer func() { chars.Vectors = had }()
			NewMatcher(values).Each([]byte(text), 0, nil, func(m Match) { without = append(without, m) })
		}()
		require.Equal(t, without, found, "vectors change what is found")
		for _, m := range found {
			for i := m.Start; i < m.End; i++ {
				require.False(t, covered[i], "two matches lie over each other")
				covered[i] = true
			}
		}
		for _, v := range values {
			for at := 0; at+len(v.Text) <= len(text); at++ {
				if strings.HasPrefix(text[at:], v.Text) && stands([]byte(text), at, v.Text, alias.Secret) {
					left := 0
					for i := at; i < at+len(v.Text); i++ {
						if covered[i] {
							left++
						}
					}
					require.NotZero(t, left, "%q at %d of %q is left whole (values %v)", v.Text, at, text, values)
				}
			}
		}
	}
}

func TestPairsOfSurrogates(t *testing.T) {
	require.Equal(t, `\ud83d\ude00`, asASCII("\U0001f600", `\u%04x`))
}

// What counts of a text that two rules found does not depend on which was first.
func TestOrderOfRulesDecides(t *testing.T) {
	order := func(rule string) int { return len(rule) }
	a, b := alias.Value{Text: "Kelp-7719-aB", Class: alias.Secret, Rule: "a"}, alias.Value{Text: "Kelp-7719-aB", Class: alias.Secret, Rule: "longer"}
	for _, values := range [][]alias.Value{{a, b}, {b, a}} {
		s := New(order)
		s.Add(values...)
		require.Equal(t, []alias.Value{a}, s.Values())
	}
}

// Why a value is not removed everywhere is said in words.
func TestWhyLeft(t *testing.T) {
	s := New(func(string) int { return 0 }, "the lane of gate-1")
	for text, why := range map[string]string{"lane": "a word of this case: of items, roles, systems or paths", "abc": "too short",
		"service": "a word that stands for other things, too", "two\nlines": "too long", "quintela": "found on weak evidence"} {
		require.Equal(t, why, s.WhyLeft(alias.Value{Text: text, Class: alias.User}), text)
	}
	require.Equal(t, "a number", s.WhyLeft(alias.Value{Text: "4711471147", Class: alias.Secret}))
	v := alias.Value{Text: "quintela", Class: alias.User}
	s.Add(v)
	require.Empty(t, s.WhyLeft(v))
}

// Whatever the value and the text: what is found is the value, whole, and a value between spaces is found.
func FuzzMatcher(f *testing.F) {
	f.Add("brass-Kelp-71!", "tried brass-Kelp-71! twice")
	f.Add("a+b/c=d e", "x%2Bb")
	f.Add("J\xfcrgen", "J\\u00fcrgen")
	f.Fuzz(func(t *testing.T, value, text string) {
		v := alias.Value{Text: value, Class: alias.Secret, Rule: "keyed-secret"}
		if !Learnable(v) {
			return
		}
		m := NewMatcher([]alias.Value{v})
		last := 0
		m.Each([]byte(text), 0, nil, func(x Match) {
			require.True(t, last <= x.Start && x.Start < x.End && x.End <= len(text))
			last = x.End
		})
		found := false
		m.Each([]byte(text+" "+value+" "+text), 0, nil, func(x Match) {
			found = found || x.Start <= len(text)+1 && x.End >= len(text)+1+len(value) || x.Start < len(text)+1+len(value) && x.End > len(text)+1
		})
		require.True(t, found, "%q in %q", value, text)
	})
}

// Numbers of telephones' lines and dates are those of many other things: they teach nothing.
func TestNumbersTeachNothing(t *testing.T) {
	for text, class := range map[string]alias.Class{"4412": alias.User, "12AUG74": alias.ID, "1974-08-12": alias.ID} {
		require.False(t, Learnable(alias.Value{Text: text, Class: class}), text)
	}
	require.True(t, Learnable(alias.Value{Text: "msorley", Class: alias.User}))
	require.True(t, Learnable(alias.Value{Text: "XK1234567", Class: alias.ID}))
}
