package redact

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/envelope"
	"envask/internal/redact/find"
	"envask/internal/redact/mutate"
	"envask/internal/redact/phrase"
)

// The pages on redaction are made from its tables. ENVASK_WRITE_DOCS=1 makes them anew.
func TestPagesAreMadeFromTheTables(t *testing.T) {
	const rulesPage, tablesPage = "../../docs/redaction-rules.md", "../../docs/redaction-tables.md"
	page, err := os.ReadFile(rulesPage)
	require.NoError(t, err)
	const head, end = "<!-- made from the table of rules -->\n", "<!-- end -->\n"
	before, rest, ok := strings.Cut(string(page), head)
	require.True(t, ok)
	_, after, ok := strings.Cut(rest, end)
	require.True(t, ok)
	want := map[string]string{rulesPage: before + head + rulesTable() + end + after, tablesPage: tablesText()}
	for file, text := range want {
		if os.Getenv("ENVASK_WRITE_DOCS") != "" {
			require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		}
		got, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Equal(t, text, string(got), "%s is old: run the test with ENVASK_WRITE_DOCS=1", file)
	}
}

func rulesTable() string {
	var b strings.Builder
	b.WriteString("\n| rule | class | finds |\n|---|---|---|\n")
	for _, r := range Rules {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", r.Name, r.Class, cell(r.Doc))
	}
	return b.String() + "\n"
}

func cell(text string) string {
	return strings.ReplaceAll(strings.ReplaceAll(text, "|", "\\|"), "\n", "\\n")
}

func tick(text string) string {
	text = strings.NewReplacer("\n", "⏎", "\t", " ", "|", "\\|").Replace(text)
	if strings.Contains(text, "`") {
		return "`` " + text + " ``"
	}
	return "`" + text + "`"
}

// example gives the first example of a row, with what is found in it in brackets.
func example(yes []string) string {
	return tick(strings.NewReplacer("«", "[", "»", "]").Replace(yes[0]))
}

func tablesText() string {
	var b strings.Builder
	b.WriteString(`# The tables of redaction

Made from the tables of the program; a test holds both together. What is found in an example stands in brackets. In phrases a|b is one of
both, a? may be left out, * is any word, ... are some, # is a number, @ an address, ^ the beginning of a message, $ the end of a line, NL
the next line; words in capitals are sets of words (TELLING: password, secret, community, …). What stands in a slot is judged: {secret}
has to look like a secret, {secret!} need not; {user} must not be a word that everybody uses, {user!} may.

## Keys

The words at the end of a key that announce a secret or a person; numbers do not count, and dbPassword, DB_PASSWORD and db-password are
one. Besides these rows there are keys of other languages and of single programs.

| words | announce | such as | but not |
|---|---|---|---|
`)
	for _, k := range find.KeyRows {
		what := "a secret"
		switch k.Kind {
		case find.KeyUser:
			what = "a person"
		case find.KeyPart:
			what = "a person, if it looks like one"
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", k.Words, what, tick(strings.Join(k.Yes, ", ")), tick(strings.Join(k.No, ", ")))
	}
	for _, s := range []struct {
		title string
		rows  []phrase.Phrase
	}{
		{"Phrases with secrets", phrase.Secrets}, {"Phrases with names", phrase.People}, {"Whole lines, in texts of up to 64 KiB", phrase.LineRows},
	} {
		fmt.Fprintf(&b, "\n## %s\n\n| phrase | example |\n|---|---|\n", s.title)
		for _, p := range s.rows {
			fmt.Fprintf(&b, "| %s | %s |\n", tick(p.Template), example(p.Yes))
		}
	}
	b.WriteString("\n## Programs\n\nTheir arguments that hold secrets and names without saying so; + parts arguments that follow each other.\n\n" +
		"| programs | arguments | example |\n|---|---|---|\n")
	for _, p := range phrase.ProgramRows {
		fmt.Fprintf(&b, "| %s | %s | %s |\n", p.Names, tick(p.Args), example(p.Yes))
	}
	b.WriteString("\n## What stands before lines\n\n| kind | example |\n|---|---|\n")
	for _, p := range envelope.Prefixes {
		fmt.Fprintf(&b, "| %s | %s |\n", p.Name, tick(p.Yes[0]))
	}
	b.WriteString("\n## Ways in which lines are rewritten, for the proof and for tests\n\n")
	for _, m := range mutate.All {
		fmt.Fprintf(&b, "- %s\n", m.Name)
	}
	return b.String()
}
