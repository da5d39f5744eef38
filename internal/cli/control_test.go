//go:build !windows

package cli_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"envask/internal/cli"
	"envask/internal/cli/term"
	"envask/internal/standin"
)

// nasty is what must never reach a terminal: a title, a clearing of the screen by a single control character, a forged line, a turn of
// the direction of writing, a red word.
const nasty = "\x1b]0;owned\x07\u009b2J\r\nerror: forged\u202e\x1b[31mred\x1b[0m\x00\x7f"

var rawControl = regexp.MustCompile("[\x00-\x08\x0b-\x1f\x7f\u0080-\u009f\u202e]")

// inProcess runs envask in this process, as on a terminal or not, and gives all that it wrote.
func inProcess(home string, terminal bool, args ...string) (string, int) {
	var out, errOut bytes.Buffer
	screen := &term.Screen{In: strings.NewReader(""), Out: &out, Err: &errOut, Width: 100, Color: false}
	if !terminal {
		screen = nil
	}
	env := cli.Env{In: strings.NewReader(""), Out: &out, Err: &errOut, Now: time.Now, Screen: screen, Getenv: func(name string) string {
		return map[string]string{"ENVASK_HOME": home, "PATH": os.Getenv("PATH")}[name]
	}}
	code := cli.Main(context.Background(), args, env)
	return out.String() + errOut.String(), code
}

// localCase makes a case with an archive, sent, in a home.
func localCase(t *testing.T) (dir, home string) {
	t.Helper()
	dir = t.TempDir()
	home = filepath.Join(dir, "home")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "log"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "stick"), 0o755))
	line := "2026-03-14T06:12:00Z ERROR no fare table, password=brass-Kelp-71! from 192.0.2.61\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "log", "gate.log"), []byte(strings.Repeat(line, 3)), 0o644))
	require.NoError(t, os.Chtimes(filepath.Join(dir, "log", "gate.log"), standin.FaultAt, standin.FaultAt))
	askFile := filepath.Join(dir, "ask.yaml")
	require.NoError(t, os.WriteFile(askFile,
		[]byte("ask: local\nvendor: Ostrevane Gate Systems\nvitals: no\nitems:\n  - {id: log, files: ['"+dir+
			"/log/**'], required: true}\n  - {id: state, run: echo fine}\n  - {id: none, files: [/nowhere/*]}\nroutes:\n  - {name: "+
			"stick, to: '"+dir+"/stick'}\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "systems.yaml"),
		[]byte("site: tallow-pier\nsystems: [{name: desk-pc, local: true}]\n"), 0o600))
	sum, err := cli.AskDigest(askFile)
	require.NoError(t, err)
	for _, args := range [][]string{{"ask", "approve", askFile, "--digest", sum},
		{"open", "26031407", "--ask", askFile, "--systems", filepath.Join(dir, "systems.yaml"), "--title", "a title", "--around",
			"2026-03-14 06:12Z", "--margin", "40m"},
		{"collect", "--baseline"}, {"collect"}, {"pack"}, {"review", "--approve"}, {"submit", "--yes"}} {
		said, code := inProcess(home, false, args...)
		require.Zero(t, code, said)
	}
	return dir, home
}

// poisoned changes all texts at one key of a JSON document.
func poisoned(v any, key string, at string) any {
	switch v := v.(type) {
	case map[string]any:
		for k, x := range v {
			v[k] = poisoned(x, key, k)
			if at == key && key != "" { // a map whose keys are texts
				break
			}
		}
		return v
	case []any:
		for i, x := range v {
			v[i] = poisoned(x, key, at)
		}
		return v
	case string:
		if at == key {
			return v + nasty
		}
	}
	return v
}

// jsonKeys gives the keys of a document at which texts stand.
func jsonKeys(v any, at string, keys map[string]bool) {
	switch v := v.(type) {
	case map[string]any:
		for k, x := range v {
			jsonKeys(x, k, keys)
		}
	case []any:
		for _, x := range v {
			jsonKeys(x, at, keys)
		}
	case string:
		keys[at] = true
	}
}

// rechained makes a ledger whole again after its records were changed.
func rechained(lines [][]byte) []byte {
	prev := strings.Repeat("0", 64)
	var out bytes.Buffer
	for i, l := range lines {
		var r struct {
			Seq  int             `json:"seq"`
			At   string          `json:"at"`
			Prev string          `json:"prev"`
			Kind string          `json:"kind"`
			Data json.RawMessage `json:"data,omitempty"`
		}
		if json.Unmarshal(l, &r) != nil {
			continue
		}
		r.Seq, r.Prev = i+1, prev
		body, _ := json.Marshal(r)
		sum := sha256.Sum256(body)
		prev = hex.EncodeToString(sum[:])
		out.Write(append(body, '\n'))
	}
	return out.Bytes()
}

// Control bytes in every text of every file that we read back never reach the terminal, whatever command is run, as text or JSON.
func TestNoControlByteReachesTheTerminal(t *testing.T) {
	t.Parallel()
	dir, home := localCase(t)
	caseDir := filepath.Join(home, "cases", "26031407")
	archive := filepath.Join(caseDir, "out", "26031407_tallow-pier_r2.tar.gz")
	if _, err := os.Stat(archive); err != nil {
		found, _ := filepath.Glob(filepath.Join(caseDir, "out", "*.tar.gz"))
		require.Len(t, found, 1)
		archive = found[0]
	}
	receipt := strings.TrimSuffix(archive, ".tar.gz") + ".receipt-stick.json"
	commands := [][]string{{"cases"}, {"show"}, {"show", "r1"}, {"show", "r2", "--system", "desk-pc"}, {"show", archive},
		{"show", "--vitals"}, {"review", "--all"}, {"verify", archive}, {"compare"},
		{"tidy", "--dry-run"}, {"add", receipt}, {"submit", "--confirm"}, {"repair"}, {"probe"},
		{"collect", "--dry-run"}, {"open", "26031407"}}
	var files []string
	require.NoError(t, filepath.WalkDir(home, func(name string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && (strings.HasSuffix(name, ".json") || strings.HasSuffix(name, ".jsonl")) &&
			!strings.Contains(name, "/raw/") {
			files = append(files, name)
		}
		return err
	}))
	require.Greater(t, len(files), 8)
	tried := 0
	for _, file := range files {
		good, err := os.ReadFile(file)
		require.NoError(t, err)
		lines := [][]byte{good}
		ledger := strings.HasSuffix(file, "ledger.jsonl")
		if strings.HasSuffix(file, ".jsonl") {
			lines = bytes.Split(bytes.TrimSpace(good), []byte("\n"))
		}
		keys := map[string]bool{}
		for _, l := range lines {
			var v any
			require.NoError(t, json.Unmarshal(l, &v), file)
			jsonKeys(v, "", keys)
		}
		for key := range keys {
			if slices.Contains([]string{"prev", "at", "kind"}, key) && ledger {
				continue
			}
			var bad [][]byte
			for _, l := range lines {
				var v any
				require.NoError(t, json.Unmarshal(l, &v))
				data, err := json.Marshal(poisoned(v, key, ""))
				require.NoError(t, err)
				bad = append(bad, data)
			}
			text := append(bytes.Join(bad, []byte("\n")), '\n')
			if ledger {
				text = rechained(bad)
				require.NoError(t, os.Truncate(filepath.Join(caseDir, "ledger.head"), 0))
			}
			require.NoError(t, os.WriteFile(file, text, 0o600))
			for i, c := range commands {
				args := slices.Clone(c)
				if (tried+i)%2 == 0 && c[0] != "verify" {
					args = append(args, "--json")
				}
				said, _ := inProcess(home, true, args...)
				require.NotRegexp(t, rawControl, said, "%v with %s in %s", args, key, filepath.Base(file))
				require.True(t, utf8.ValidString(said))
				require.NotContains(t, said, "\nerror: forged", "%v with %s in %s", args, key, filepath.Base(file))
				tried++
			}
			require.NoError(t, os.WriteFile(file, good, 0o600))
			if ledger {
				require.NoError(t, os.Truncate(filepath.Join(caseDir, "ledger.head"), 0))
			}
		}
	}
	t.Logf("%d outputs were looked at", tried)
	// What is foreign as a whole: files, replies, names of files, asks and systems files.
	reply := filepath.Join(dir, "reply"+strings.ReplaceAll(nasty, "\x00", "")+".txt")
	require.NoError(t, os.WriteFile(reply, []byte("host"+nasty+"\n"), 0o600))
	bad := filepath.Join(dir, "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte(fmt.Sprintf("ask: %q\nvendor: %q\nitems: [{id: %q, files: [%q]}]\nroutes: [{name: %q, "+
		"to: %q}]\n%q: 1\n", "a"+nasty, nasty, "x"+nasty, "/x"+nasty, nasty, "sftp://"+nasty, nasty)), 0o600))
	quiet := filepath.Join(dir, "quiet.yaml")
	require.NoError(t, os.WriteFile(quiet, []byte(fmt.Sprintf("ask: a\nvendor: %q\nvitals: no\nitems: [{id: x, run: %q, why: "+
		"%q}]\nquestions: [{id: q, text: %q}]\n", nasty, "echo "+nasty, nasty, nasty)), 0o600))
	for _, args := range [][]string{{"reveal", reply}, {"redact", reply}, {"times", reply}, {"ask", "check", bad}, {"ask", "check", quiet},
		{"ask", "approve", quiet}, {"open", "1", "--ask", quiet, "--systems", bad}, {"verify", reply},
		{"add", reply}, {"show", "x" + nasty}, {"nonsense" + nasty}, {"show", "--case", nasty}, {"collect", "--item", nasty}} {
		said, _ := inProcess(home, true, args...)
		require.NotRegexp(t, rawControl, said, "%q", args)
		if args[0] != "reveal" && args[0] != "redact" { // whose lines are the file's own
			require.NotContains(t, said, "\nerror: forged", "%q", args[0])
		}
	}
}
