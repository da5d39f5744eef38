package ask

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func oneItem(t *testing.T, keys string) (Files, error) {
	t.Helper()
	a, err := Parse("a.yaml", []byte("ask: a\nvendor: v\nitems:\n  - {id: log, files: [/l/*], "+keys+"}\n"))
	if err != nil {
		return Files{}, err
	}
	f, ok := a.Items[0].Spec.(Files)
	require.True(t, ok)
	return f, nil
}

func TestKeysOfFiles(t *testing.T) {
	f, err := oneItem(t, "cut: files, zone: UTC, order: none, history: 3, newest: 2, newest-version: true, with: ['{stem}.aux', 'sub/{name}.idx'], last-lines: 100, max: 2MiB, rotate-first: logctl rotate, timeout: 5s")
	require.NoError(t, err)
	require.Equal(t, Files{Patterns: []string{"/l/*"}, Cut: "files", Zone: time.UTC, Unordered: true, History: 3, Newest: 2, NewestVersion: true,
		With: []string{"{stem}.aux", "sub/{name}.idx"}, LastLines: 100, Max: 2 << 20, RotateFirst: "logctl rotate", RotateTimeout: 5 * time.Second}, f)
	sheet := strings.Join(f.Sheet(), "\n")
	for _, want := range []string{"run logctl rotate (at most 5s), before the files are read", "read /l/*", "read {stem}.aux beside each of them", "at most 2.0 MiB, the newest"} {
		require.Contains(t, sheet, want)
	}
	for text, want := range map[string]int{"yes": AllHistory, "no": 0, "true": AllHistory, "false": 0, "7": 7} {
		f, err := oneItem(t, "history: "+text)
		require.NoError(t, err)
		require.Equal(t, want, f.History, text)
	}
}

func TestMistakesInKeysOfFiles(t *testing.T) {
	for keys, want := range map[string]string{
		"cut: line":               "cut: expected lines, files or none, found \"line\"",
		"zone: Nowhere/Land":      "is not a known time zone",
		"order: some":             "order: expected any or none",
		"history: many":           "history: expected yes, no or a number of rotated files",
		"history: -1":             "history: expected yes, no or a number of rotated files",
		"newest: 0":               "newest: expected a number from 1 on",
		"last-lines: all":         "last-lines: expected a number from 1 on",
		"max: much":               "max: ",
		"with: ['x.aux']":         "must hold {stem}",
		"with: ['../{stem}.aux']": "must be a plain name",
		"with: ['/{stem}.aux']":   "must be a plain name",
		"with: ['{stem}.*']":      "must be a plain name",
		"with: ['a/../{stem}']":   "must be a plain name",
		"rotate-first: ''":        "rotate-first: expected a command line",
		"newest-versions: true":   "did you mean \"newest-version\"?",
	} {
		_, err := oneItem(t, keys)
		require.ErrorContains(t, err, want, keys)
		require.ErrorContains(t, err, "a.yaml:4:", keys)
	}
	a, err := Parse("a.yaml", []byte("ask: a\nvendor: v\nwindow: unwanted\nitems:\n  - {id: x, run: true}\n"))
	require.NoError(t, err)
	require.True(t, a.NoWindow)
	_, err = Parse("a.yaml", []byte("ask: a\nvendor: v\nwindow: none\nitems:\n  - {id: x, run: true}\n"))
	require.ErrorContains(t, err, "window: expected wanted or unwanted")
}
