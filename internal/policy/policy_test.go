package policy

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact"
)

func parse(t *testing.T, text string) *Policy {
	t.Helper()
	p, err := Parse("redaction.yaml", []byte(text))
	require.NoError(t, err)
	return p
}

func TestLaterOnesWin(t *testing.T) {
	ask := parse(t, "rules: {jwt: false, ipv6: false}\nclasses: {mail: keep}\ndomains: [pier.example]\nnever: [a1b2]\n")
	home := parse(t, "rules: {jwt: true}\nclasses: {mail: alias, phone: remove}\nliterals: [{text: brass lantern}]\n")
	own := parse(t, "rules: {mac: false}\napproval: required\ndomains: [Depot.Example]\n")
	p := Merge(ask, home, nil, own)
	require.Equal(t, map[string]bool{"jwt": true, "ipv6": false, "mac": false}, p.Rules)
	require.Equal(t, map[redact.Class]redact.Treatment{redact.Mail: redact.AsAlias, redact.Phone: redact.Remove}, p.Classes)
	require.Equal(t, []string{"pier.example", "depot.example"}, p.Domains)
	require.True(t, p.Approval)
	c := p.Config()
	require.Equal(t, map[string]bool{"ipv6": true, "mac": true}, c.Off)
	require.Equal(t, []string{"a1b2"}, c.Never)
	require.Equal(t, []string{"rule ipv6 is turned off", "rule mac is turned off", `never touches "a1b2"`}, p.Weaker())
	require.Contains(t, p.Sheet(), `redaction: removes "brass lantern"`)
	require.Contains(t, p.Sheet(), "redaction: an archive must be approved before it is sent")
}

func TestPathsThatStay(t *testing.T) {
	p := parse(t, "paths: ['/etc/boarding/*.toml', '**/public/**']\n")
	require.True(t, p.Stays("/etc/boarding/gate.toml"))
	require.True(t, p.Stays("srv/public/a/b.txt"))
	require.False(t, p.Stays("/etc/boarding/conf.d/fare.toml"))
	require.Len(t, p.Weaker(), 2)
}

func TestMistakesAreNamedAtTheirPlaces(t *testing.T) {
	for text, want := range map[string]string{
		"rules: {jwtt: false}\n":                           "1:15: rules: there is no rule jwtt, did you mean jwt?",
		"classes: {secret: alias}\n":                       "a secret has no alias",
		"literals: [{class: user}]\n":                      "text",
		"literals: [{text: abcdef, class: person}]\n":      "class: expected secret, user, host or id",
		"expressions: [{name: jwt, match: 'a'}]\n":         "is not a name for a rule of one's own",
		"expressions: [{name: x, match: '(?<bad'}]\n":      "match: not a usable expression",
		"never: ['']\n":                                    "an empty value says nothing",
		"paths: ['a[']\n":                                  "is not a pattern of paths",
		"approval: perhaps\n":                              "approval: expected",
		"domains: [pier]\n":                                "is not a domain",
		"- a\n":                                            "redaction.yaml:1:1",
		"rules: {jwt: maybe}\n":                            "rules: {jwt",
		"literals:\n  - {text: brass lantern, clas: id}\n": `unknown key "clas"`,
	} {
		_, err := Parse("redaction.yaml", []byte(text))
		require.Error(t, err, text)
		if !strings.HasPrefix(want, "rules: {") {
			require.ErrorContains(t, err, want, text)
		}
	}
	p, err := Load(filepath.Join(t.TempDir(), FileName))
	require.NoError(t, err, "a file that is not there says nothing")
	require.Empty(t, p.Sheet())
	file := filepath.Join(t.TempDir(), FileName)
	require.NoError(t, os.WriteFile(file, []byte("rules: {x: 1\n"), 0o600))
	_, err = Load(file)
	require.ErrorContains(t, err, file)
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("rules: {jwt: false}\nclasses: {mail: keep}\nliterals: [{text: abcd}]\nexpressions: [{name: a, match: b}]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := Parse("redaction.yaml", data)
		if err == nil {
			redact.NewEngine(redact.Options{Config: p.Config()}).String("password=x1y2z3 from 192.0.2.7")
		}
	})
}
