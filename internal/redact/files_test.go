package redact

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// marked is one text of testdata/files.txt: «secret» and ‹identity› must go, all else must stay.
type marked struct{ name, text string }

var markOfValue = regexp.MustCompile(`(?s)«[^»]*»|‹[^›]*›`)

func markedFiles(t *testing.T) []marked {
	data, err := os.ReadFile("testdata/files.txt")
	require.NoError(t, err)
	var all []marked
	for _, part := range strings.Split(string(data), "=== ")[1:] {
		name, text, _ := strings.Cut(part, "\n")
		all = append(all, marked{name, text})
	}
	return all
}

// Whole files as programs keep them, each value marked: what is marked goes, what is not stays byte for byte.
func TestFilesAsProgramsKeepThem(t *testing.T) {
	plain := strings.NewReplacer("«", "", "»", "", "‹", "", "›", "")
	count := map[string]int{}
	for _, file := range markedFiles(t) {
		out := learnedText(t, plain.Replace(file.text))
		marks, want := markOfValue.FindAllString(file.text, -1), strings.Split(plain.Replace(file.text), "\n")
		got := strings.Split(out, "\n")
		for i, line := range strings.Split(file.text, "\n") {
			if len(got) != len(want) {
				break
			}
			inLine := markOfValue.FindAllString(line, -1)
			if len(inLine) == 0 {
				count["kept of"]++
				if got[i] != want[i] {
					t.Logf("%s: changed: %s -> %s", file.name, want[i], got[i])
					continue
				}
				count["kept"]++
				continue
			}
			// What stands between the marks stays.
			between := markOfValue.Split(line, -1)
			for n := range between {
				between[n] = regexp.QuoteMeta(between[n])
			}
			whole := regexp.MustCompile("^" + strings.Join(between, ".+?") + "$").MatchString(got[i])
			count["between of"]++
			if !whole {
				t.Logf("%s: more than the value changed: %s -> %s", file.name, line, got[i])
			} else {
				count["between"]++
			}
		}
		if len(got) != len(want) {
			t.Logf("%s: %d lines of %d", file.name, len(got), len(want))
		}
		for _, mark := range marks {
			kind, value := "secret", strings.Trim(mark, "«»")
			if strings.HasPrefix(mark, "‹") {
				kind, value = "identity", strings.Trim(mark, "‹›")
			}
			count[kind+" of"]++
			if strings.Contains(out, value) {
				for i, line := range strings.Split(file.text, "\n") {
					if strings.Contains(line, mark) && i < len(got) && strings.Contains(got[i], value) {
						t.Logf("%s: %s %s left: %s -> %s", file.name, kind, mark, line, got[i])
						break
					}
				}
				continue
			}
			count[kind]++
		}
	}
	t.Logf("%v", count)
}

// learnedText is a text as a run gives it that reads each file twice.
func learnedText(t *testing.T, text string) string {
	t.Helper()
	learned := NewLearned()
	_, err := NewEngine(Options{Learned: learned}).Text(nil, strings.NewReader(text))
	require.NoError(t, err)
	var out strings.Builder
	_, err = NewEngine(Options{Matcher: NewMatcher(learned.Values())}).Text(&out, strings.NewReader(text))
	require.NoError(t, err)
	return out.String()
}
