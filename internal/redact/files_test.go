package redact

import (
	"io"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var markOfValue = regexp.MustCompile(`(?s)«[^»]*»|‹[^›]*›`)

// Whole files as some 340 programs keep them, written down before it was looked what is found. Each value is marked: «secrets» and
// ‹identities› go, all else stays byte for byte.
func TestFilesAsProgramsKeepThem(t *testing.T) {
	data, err := os.ReadFile("testdata/files.txt")
	require.NoError(t, err)
	unmarked := strings.NewReplacer("«", "", "»", "", "‹", "", "›", "")
	all, good := map[string]int{}, map[string]int{}
	count := func(kind string, ok bool, name, line, became string) {
		if all[kind]++; ok {
			good[kind]++
			return
		}
		t.Logf("%s: %s: %s became %s", name, kind, line, became)
	}
	for _, file := range strings.Split(string(data), "=== ")[1:] {
		name, text, _ := strings.Cut(file, "\n")
		out := learnedText(t, unmarked.Replace(text))
		lines, got := strings.Split(text, "\n"), strings.Split(out, "\n")
		if len(got) != len(lines) { // a value over several lines went
			lines, got = []string{text}, []string{out}
		}
		for i, line := range lines {
			marks := markOfValue.FindAllString(line, -1)
			if len(marks) == 0 {
				count("line that stays", got[i] == line, name, line, got[i])
				continue
			}
			count("what stands around values", aroundStays(line, got[i]), name, line, got[i])
			for _, mark := range marks {
				kind, value := "identity", strings.Trim(mark, "‹›")
				if strings.HasPrefix(mark, "«") {
					kind, value = "secret", strings.Trim(mark, "«»")
				}
				count(kind, !strings.Contains(got[i], value), name, line, got[i])
			}
		}
	}
	for kind, floor := range map[string]float64{"secret": 0.97,
		"identity": 0.95, "line that stays": 0.995, "what stands around values": 0.99} {
		share := float64(good[kind]) / float64(all[kind])
		t.Logf("%s: %d of %d, %.1f %%", kind, good[kind], all[kind], 100*share)
		require.GreaterOrEqual(t, share, floor, kind)
	}
}

// aroundStays reports whether what stands between the marks of a line stands in what became of it, in order.
func aroundStays(line, became string) bool {
	between := markOfValue.Split(line, -1)
	for i := range between {
		between[i] = regexp.QuoteMeta(between[i])
	}
	return regexp.MustCompile("(?s)^" + strings.Join(between, ".+?") + "$").MatchString(became)
}

// learnedText is a text as a run gives it that reads each file twice.
func learnedText(t *testing.T, text string) string {
	t.Helper()
	learned := NewLearned()
	_, err := NewEngine(Options{Learned: learned}).Text(nil, strings.NewReader(text))
	require.NoError(t, err)
	var out strings.Builder
	all, first := learned.Everything()
	table := NewTable()
	table.Give(first)
	_, err = NewEngine(Options{Aliases: table, Matcher: NewMatcher(all)}).Text(&out, strings.NewReader(text))
	require.NoError(t, err)
	return out.String()
}

// What is written in escapes is learned as it reads, also within texts in texts; an address in escapes is one address with itself, and its
// place in the file, where it stands otherwise, is told to nobody.
func TestEscapedValuesAreLearnedAsTheyRead(t *testing.T) {
	const text = `{"password":"brass\u0026Kelp-71!","ip":"\u0032001:db8:7\u003A:77"}` + "\n" +
		`{"msg":"{\"password\":\"tide\\u0026Kelp-72!\"}"}` + "\n" +
		"again brass&Kelp-71! and tide&Kelp-72! from 2001:db8:7::77\n"
	require.Equal(t, `{"password":"[redacted:keyed-secret]","ip":"3fff::1"}`+"\n"+
		`{"msg":"{\"password\":\"[redacted:keyed-secret]\"}"}`+"\n"+
		"again [redacted:keyed-secret] and [redacted:keyed-secret] from 3fff::1\n", learnedText(t, text))
	learned, coded := NewLearned(), []string{}
	_, err := NewEngine(Options{Learned: learned}).File(io.Discard, strings.NewReader(text), Source{Place: func(v Value, at int64) {
		if at < 0 {
			coded = append(coded, v.Text)
			return
		}
		require.True(t, strings.HasPrefix(text[at:], v.Text), "%s at %d", v.Text, at)
	}})
	require.NoError(t, err)
	require.Contains(t, coded, `tide\u0026Kelp-72!`) // the escape within is of the inner text
	for _, v := range learned.Values() {
		require.False(t, v.Class == IPv6 && strings.Contains(v.Text, `\u`), v.Text)
	}
}

// A key with a value of its own is no secret behind a telling word; one whose value was chosen is, and a number keeps no half of its brackets.
func TestSettingsBehindTellingWords(t *testing.T) {
	for in, want := range map[string]string{
		"username x password tide=77kelp!": "username x password [redacted:worded-secret]",
		"bad password cs1Label=Lane cs1=4": "bad password cs1Label=Lane cs1=4",
		"tel (030) 5550 1234":              "tel (999) 0000 0001",
	} {
		require.Equal(t, want, redactText(t, in), in)
	}
}
