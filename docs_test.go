package envask_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/brief"
	"envask/internal/fault"
	"envask/internal/parts"
	"envask/internal/reach"
	"envask/internal/redact"
	"envask/internal/redact/find"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/standin"
	"envask/internal/submit"
)

func page(t *testing.T, name string) string {
	t.Helper()
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	return string(data)
}

func TestDocsOfExitCodes(t *testing.T) {
	text := page(t, "docs/exit-codes.md")
	for _, code := range fault.ExitCodes {
		require.Contains(t, text, "\n| "+strconv.Itoa(code)+" |")
	}
}

func TestDocsOfRedaction(t *testing.T) {
	text := page(t, "docs/redaction-rules.md")
	inTable := regexp.MustCompile("(?m)^\\| `([a-z0-9-]+)` \\|").FindAllStringSubmatch(text, -1)
	require.Len(t, inTable, len(redact.Rules))
	for i, r := range redact.Rules {
		require.Equal(t, r.Name, inTable[i][1], "the page lists the rules in the order of the table")
	}
	for _, limit := range []int{find.MinSecret, redact.MinName, redact.MinPlainName} {
		require.Contains(t, text, strconv.Itoa(limit))
	}
}

// keysOf gives the JSON keys of a value, at all depths.
func keysOf(v any, into map[string]bool) {
	switch v := v.(type) {
	case map[string]any:
		for k, x := range v {
			into[k] = true
			keysOf(x, into)
		}
	case []any:
		for _, x := range v {
			keysOf(x, into)
		}
	}
}

func TestDocsOfTheArchive(t *testing.T) {
	text := page(t, "docs/archive.md")
	sample, err := json.Marshal(archive.Manifest{Title: "x", Rounds: []archive.RoundInfo{{Note: "x"}},
		Coverage: round.Coverage{{Unmet: []string{"x"}, Together: "x", Notes: []string{"x"}}},
		Clocks:   []round.Clock{{Synchronised: "x"}}, Reached: []round.Place{{Served: reach.Served{After: "x", Noisy: true, Remark: "x"}}},
		Groups: []round.GroupResult{{Why: "x", Lacking: []string{"x"}}}, Window: archive.WindowInfo{Extra: "1m"},
		Files: []archive.File{{How: "x", First: time.Now(), Last: time.Now(), Cut: &round.CutInfo{Unpacked: "x", Notes: []string{"x"}},
			Modified: time.Now(), Findings: redact.Counts{}, Brought: &archive.Brought{Type: "x", About: "x", Note: "x", Boxes: 1, More: 1,
				Requests: []archive.Request{{Why: "x"}}}}}, Elsewhere: []archive.Elsewhere{{Size: 1, SHA256: "x", Note: "x"}},
		LeftOut: []archive.LeftOut{{}}})
	require.NoError(t, err)
	var v any
	require.NoError(t, json.Unmarshal(sample, &v))
	keys := map[string]bool{}
	keysOf(v, keys)
	for k := range keys {
		require.Contains(t, text, "`"+k+"`", "the manifest's key %s is not explained", k)
	}
	for _, s := range round.States {
		require.Contains(t, text, "`"+string(s)+"`")
	}
	for _, n := range []string{archive.PageName, archive.BriefName, archive.ManifestName, archive.SumsName} {
		require.Contains(t, text, n)
	}
}

// The keys that the pages explain are exactly those that the program knows: a file with each of them passes the check.
func TestDocsOfTheInputFiles(t *testing.T) {
	text := page(t, "docs/ask-file.md")
	for _, k := range append(ask.Kinds(), ask.Depths...) {
		require.Contains(t, text, "`"+k+"`")
	}
	var formats []string
	for _, f := range archive.Formats {
		formats = append(formats, f.Name)
		require.Contains(t, text, "`"+f.Name+"`")
	}
	require.Equal(t, formats, ask.ArchiveFormats, "the ask and the archive know the same formats")
	for _, f := range ask.ArchiveFields {
		require.Contains(t, text, "`{"+f+"}`")
	}
	_, err := ask.Parse("a.yaml", []byte("nonsense: 1\nitems: [{nonsense: 1, run: x}]\n"))
	for _, known := range regexp.MustCompile(`known here: (.*)`).FindAllStringSubmatch(err.Error(), -1) {
		for _, k := range strings.Split(known[1], ", ") {
			require.Contains(t, text, "`"+k, "the key %s is not explained", k)
		}
	}
	text = page(t, "docs/systems-file.md")
	_, err = site.Parse("s.yaml", []byte("nonsense: 1\nsystems: [{elephant: 1, ssh: a@b}]\n"))
	for _, known := range regexp.MustCompile(`known here: (.*)`).FindAllStringSubmatch(err.Error(), -1) {
		for _, k := range strings.Split(known[1], ", ") {
			require.Contains(t, text, "`"+k+"`", "the key %s is not explained", k)
		}
	}
	for _, w := range site.Ways() {
		require.Contains(t, text, "`"+w+"`")
	}
	_, err = ask.Parse("sample", []byte(standin.SampleAsk))
	require.NoError(t, err)
	_, err = site.Parse("sample", []byte(standin.SampleSystems))
	require.NoError(t, err)
}

func TestDocsOfRoutes(t *testing.T) {
	text := page(t, "docs/routes.md")
	for _, s := range submit.Schemes() {
		require.Contains(t, text, map[bool]string{true: "`/media/stick`", false: "`" + s + ":"}[s == ""])
	}
	for _, p := range ask.RouteTexts {
		require.Contains(t, text, "`{"+p+"}`")
	}
	blocks := fenced.FindAllStringSubmatch(text, -1)
	require.Len(t, blocks, 2)
	_, err := ask.Parse("routes.md", []byte("ask: a\nvendor: v\nquestions: [{id: serial, text: which}]\nitems: [{id: x, run: y}]\n"+
		blocks[0][1]))
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "credentials.yaml")
	require.NoError(t, os.WriteFile(file, []byte(blocks[1][1]), 0o600))
	list, err := submit.LoadCredentials(file)
	require.NoError(t, err)
	require.Len(t, list, 3)
	require.NoError(t, os.WriteFile(file, []byte("credentials: [{nonsense: 1, route: a, host: b}]\n"), 0o600))
	_, err = submit.LoadCredentials(file)
	for _, known := range regexp.MustCompile(`known here: (.*)`).FindAllStringSubmatch(err.Error(), -1) {
		for _, k := range strings.Split(known[1], ", ") {
			require.Contains(t, text, "`"+k+"`", "the key %s is not explained", k)
		}
	}
}

var fenced = regexp.MustCompile("(?s)```yaml\n(.*?)```")

// The YAML in the README is what the program takes.
func TestReadme(t *testing.T) {
	text := page(t, "README.md")
	blocks := fenced.FindAllStringSubmatch(text, -1)
	require.Len(t, blocks, 2)
	file := filepath.Join(t.TempDir(), "credentials.yaml")
	require.NoError(t, os.WriteFile(file, []byte(blocks[1][1]), 0o600))
	_, err := submit.LoadCredentials(file)
	require.NoError(t, err)
	_, err = site.Parse("README", append(site.Compose(site.Draft{Name: "my-systems"}), "\n"...))
	require.NoError(t, err)
	_, err = site.Parse("README", []byte("site: my-desk\nsystems:\n"+blocks[0][1]))
	require.NoError(t, err)
	for _, shot := range regexp.MustCompile(`docs/[a-z-]+/?[a-z-]*\.(png|md)`).FindAllString(text, -1) {
		require.FileExists(t, shot)
	}
	pictures, err := os.ReadDir("docs/screenshots")
	require.NoError(t, err)
	require.Less(t, len(pictures), 20)
	for _, p := range pictures {
		require.Contains(t, text, "docs/screenshots/"+p.Name())
	}
}

// The page of the brief names each field that a write-up has, and each flag.
func TestDocsOfBrief(t *testing.T) {
	text := page(t, "docs/brief.md")
	for _, id := range brief.Known() {
		require.Contains(t, text, "| `"+id+"` |")
	}
	for _, flag := range []string{"set", "take", "from", "edit", "as", "template", "handover"} {
		require.Contains(t, text, "`--"+flag)
	}
}

// The files that are shown on how to write them by hand pass the check.
func TestDocsOfFirstFiles(t *testing.T) {
	blocks := fenced.FindAllStringSubmatch(page(t, "docs/first-files.md"), -1)
	require.Len(t, blocks, 2)
	_, err := ask.Parse("first-files", []byte(blocks[0][1]))
	require.NoError(t, err)
	_, err = site.Parse("first-files", []byte(blocks[1][1]))
	require.NoError(t, err)
}

// The page of the parts is made of them: UPDATE_DOCS=1 go test -run TestDocsOfParts . writes it anew.
func TestDocsOfParts(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Parts of asks\n\nWhat `envask ask new FILE --for PART,PART` can take, for open systems. A part that has to be told " +
		"something takes it after an " +
		"equals\nsign (`java=/opt/gate`), a role before a colon (`web:nginx`). Commands of parts only read; those of eleven servers " +
		"are tried on Debian's packages.\n" +
		"`envask ask parts PART` shows its items as they stand in an ask.\n\n| part | for | takes |\n|---|---|---|\n")
	for _, p := range parts.All() {
		name := p.Name
		if p.Value != nil {
			name += "=" + p.Value.Example
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", name, p.Title, strings.Join(p.Takes, ", "))
	}
	b.WriteString("\n## How to add one\n\nA part is one file in `internal/parts/data` and one word in the order of " +
		"`internal/parts/parts.go`. Above its line of three dashes " +
		"stand\nname, title, what it takes and what it fits (programs that run, paths that are there); below are items as in an ask, " +
		"and expressions for secrets that\n" +
		"only this program writes so. `TestEachPartIsAnAsk`, `TestPartsOnlyRead` and `TestPartsOnRealServers` look at it.\n")
	if os.Getenv("UPDATE_DOCS") != "" {
		require.NoError(t, os.WriteFile("docs/parts.md", []byte(b.String()), 0o644))
	}
	require.Equal(t, b.String(), page(t, "docs/parts.md"))
}

// Every test that the page on security names is there, and every script.
func TestDocsOfSecurity(t *testing.T) {
	text := page(t, "docs/security.md")
	var all strings.Builder
	for _, pattern := range []string{"internal/*/*_test.go", "internal/*/*/*_test.go"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, f := range files {
			all.WriteString(page(t, f))
		}
	}
	names := regexp.MustCompile("`((?:Test|Fuzz)[A-Za-z]+)`").FindAllStringSubmatch(text, -1)
	require.Greater(t, len(names), 25)
	for _, n := range names {
		require.Contains(t, all.String(), "func "+n[1]+"(", "%s is not there", n[1])
	}
	scripts := regexp.MustCompile("`([a-z]+-[a-z-]+)`").FindAllStringSubmatch(text, -1)
	require.Greater(t, len(scripts), 8)
	for _, s := range scripts {
		require.FileExists(t, filepath.Join("internal/cli/testdata/script", s[1]+".txtar"))
	}
}
