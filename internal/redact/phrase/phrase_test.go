package phrase

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/chars"
)

// anything takes every value of letters for what its slot says, but for everyday words where it must look like a secret.
func anything(b []byte, f Found) bool {
	v := string(b[f.Start:f.End])
	if f.Slot == Secret || f.Slot == Random || f.Slot == Strong || f.Slot == Fierce {
		return strings.ContainsAny(v, "0123456789") && v != "md5" && strings.ContainsAny(v, "abnrtWRE") && len(v) > 5
	}
	if f.Slot == Phone {
		return len(v) > 6
	}
	if f.Slot == Unusual {
		return v != "prompt" && v != "ingredient" && len(v) > 3
	}
	if f.Slot == Code {
		return len(v) > 3 && len(strings.Trim(v, "0123456789-")) == 0
	}
	if f.Slot == Quoted && !f.Quoted {
		return false
	}
	if f.Slot == QuotedUser && !f.Quoted {
		return false
	}
	if f.Slot == Name || f.Slot == Surname {
		return v[0] >= 'A' && v[0] <= 'Z'
	}
	if f.Slot == User && len(v) < 7 {
		return false
	}
	return !strings.Contains(" - is it on of the must may and a all ", " "+v+" ")
}

// stub judges without knowing anything of keys and names.
var stub = Judge{begins, anything, func(word []byte) bool {
	low := strings.ToLower(string(word))
	return strings.Contains(low, "password") && low != "password" || strings.Contains(low, "key")
}, func(word []byte) bool { return strings.Contains(strings.ToLower(string(word)), "username") }}

func begins(b []byte, at int) bool { return at == 0 || b[at-1] == '\n' }

// unmark takes the marks out of an example and gives what stands between them.
func unmark(line string) (text string, values []string) {
	for {
		before, rest, ok := strings.Cut(line, "«")
		text += before
		if !ok {
			return text, values
		}
		value, after, _ := strings.Cut(rest, "»")
		text, line, values = text+value, after, append(values, value)
	}
}

// found gives what a table finds in a text, in the order of their places.
func found(t *Table, text string) (values []string) {
	b := []byte(text + "\n")
	var all []Found
	for i := 1; i < len(b); i++ {
		if b[i] == ' ' && (chars.IsWord(b[i-1]) || b[i-1] == '.') {
			t.At(b, i, func(f Found) { all = append(all, f) })
		}
	}
	slices.SortStableFunc(all, func(a, b Found) int { return a.Start - b.Start })
	for _, f := range all {
		values = append(values, string(b[f.Start:f.End]))
	}
	return values
}

func TestEveryPhraseHasItsExamples(t *testing.T) {
	for _, table := range [][]Phrase{Secrets, People} {
		_, err := NewTable(table, stub)
		require.NoError(t, err)
		for _, p := range table {
			alone, err := NewTable([]Phrase{p}, stub)
			require.NoError(t, err)
			for _, line := range p.Yes {
				text, want := unmark(line)
				require.NotEmpty(t, want, p.Template)
				require.Equal(t, want, found(alone, text), "%s: %s", p.Template, text)
			}
			for _, line := range p.No {
				require.Empty(t, found(alone, line), "%s: %s", p.Template, line)
			}
		}
	}
}

func TestEveryLineHasItsExamples(t *testing.T) {
	for _, p := range LineRows {
		l, err := NewLines([]Phrase{p}, stub)
		require.NoError(t, err)
		find := func(text string) (values []string) {
			l.At([]byte(text+"\n"), 0, func(f Found) { values = append(values, text[f.Start:f.End]) })
			return values
		}
		for _, line := range p.Yes {
			text, want := unmark(line)
			require.Equal(t, want, find(text), "%s: %s", p.Template, text)
		}
		for _, line := range p.No {
			require.Empty(t, find(line), "%s: %s", p.Template, line)
		}
	}
}

func TestBrokenRowsAreRefused(t *testing.T) {
	for template, want := range map[string]string{
		"{secret}":         "no word that can be looked for",
		"x {secret}":       "no word that can be looked for",
		"password {other}": "no slot is called other",
		"password {secret": "a slot is not closed",
	} {
		_, err := NewTable([]Phrase{{template, yes("x"), no("y")}}, stub)
		require.ErrorContains(t, err, want)
	}
	_, err := NewTable([]Phrase{{"password {secret}", yes("x"), nil}}, stub)
	require.ErrorContains(t, err, "an example is missing")
}

func FuzzAt(f *testing.F) {
	tables := make([]*Table, 2)
	for i, rows := range [][]Phrase{Secrets, People} {
		tables[i], _ = NewTable(rows, stub)
		for _, p := range rows {
			f.Add(p.Yes[0])
			f.Add(p.No[0])
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, table := range tables {
			for _, v := range found(table, text) {
				require.NotEmpty(t, v)
			}
		}
	})
}

func foundInPrograms(p *Programs, text string) (values []string) {
	b := []byte(text + "\n")
	if name, end := p.Before(b, 0, len(b)); name != "" {
		p.At(b, name, end, func(f Found) { values = append(values, string(b[f.Start:f.End])) })
	}
	return values
}

func TestEveryProgramHasItsExamples(t *testing.T) {
	for _, row := range ProgramRows {
		p, err := NewPrograms([]Program{row}, stub)
		require.NoError(t, err)
		for _, line := range row.Yes {
			text, want := unmark(line)
			require.NotEmpty(t, want, row.Names)
			require.Equal(t, want, foundInPrograms(p, text), text)
		}
		for _, line := range row.No {
			require.Empty(t, foundInPrograms(p, line), line)
		}
	}
	all, err := NewPrograms(ProgramRows, stub)
	require.NoError(t, err)
	require.Contains(t, all.Anchors(), "chown")
	require.NotContains(t, all.Anchors(), "mongodump")
}

func FuzzPrograms(f *testing.F) {
	all, err := NewPrograms(ProgramRows, stub)
	require.NoError(f, err)
	for _, row := range ProgramRows {
		f.Add(row.Yes[0])
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, v := range foundInPrograms(all, text) {
			require.NotEmpty(t, v)
		}
	})
}
