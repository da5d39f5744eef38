package compare

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/collect"
	"envask/internal/round"
)

func side(files map[string]string) *Side {
	s := &Side{Files: map[Key]*File{}, Facts: map[string]collect.Vitals{}}
	for name, text := range files {
		system, path, _ := strings.Cut(name, ":")
		s.Files[Key{system, path}] = &File{Size: int64(len(text)), Log: LooksLikeLog(path), Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }}
	}
	return s
}

func compared(t *testing.T, before, now map[string]string, o Options) *Result {
	t.Helper()
	r, err := Compare(context.Background(), side(before), side(now), o)
	require.NoError(t, err)
	return r
}

func TestFilesAreNewGoneOrChanged(t *testing.T) {
	r := compared(t, map[string]string{"a:files/same": "x", "a:files/gone": "x", "a:files/var/log/x.log": "1", "b:files/x": "1"},
		map[string]string{"a:files/same": "x", "a:files/new": "xy", "a:files/var/log/x.log": "12", "c:files/x": "1"}, Options{})
	require.Equal(t, 1, r.Same)
	require.Equal(t, []string{"b"}, r.OnlyBefore)
	require.Equal(t, []string{"c"}, r.OnlyNow)
	require.Equal(t, []Difference{
		{Key: Key{"a", "files/gone"}, What: Gone, Before: 1},
		{Key: Key{"a", "files/new"}, What: New, Now: 2},
		{Key: Key{"a", "files/var/log/x.log"}, What: Changed, Before: 1, Now: 2, Log: true},
	}, r.Files)
}

// Configuration in each format is compared by its keys, whatever the order and the layout.
func TestKeys(t *testing.T) {
	was := func(name, now string) Change { return Change{Name: name, Before: now, Was: true} }
	is := func(name, now string) Change { return Change{Name: name, Now: now, Is: true} }
	other := func(name, before, now string) Change {
		return Change{Name: name, Before: before, Now: now, Was: true, Is: true}
	}
	for _, c := range []struct {
		name, before, now string
		want              []Change
	}{
		{"a.json", `{"a":1,"b":{"c":[1,2]},"v":1.10}`, `{"v":1.10,"b":{"c":[2,3]},"a":2}`, []Change{other("a", "1", "2"), was("b.c[]", "1"), is("b.c[]", "3")}},
		{"a.json", `{"l":[{"id":"x","n":1},{"id":"y","n":2}]}`, `{"l":[{"id":"z","n":0},{"id":"y","n":3},{"id":"x","n":1}]}`, []Change{other("l[id=y].n", "2", "3"), is("l[id=z].n", "0")}},
		{"a.json", `{"a":{},"b":[],"c":null}`, `{"a":{"x y":true},"b":[],"c":""}`, []Change{was("a", "{}"), is(`a."x y"`, "true"), {Name: "c", Before: "null", Was: true, Is: true}}},
		{"a.yaml", "version: 1.10\nx: &a {p: 1}\ny: *a\n", "version: 1.1\nx: {p: 1}\ny:\n  p: 2\n", []Change{other("version", "1.10", "1.1"), other("y.p", "1", "2")}},
		{"a.yml", "a: 1\n---\na: 2\n", "a: 1\n---\na: 3\n", []Change{other("[2].a", "2", "3")}},
		{"a.toml", "a = 1\n[t]\nwhen = 2026-03-14T06:12:00Z\n", "[t]\nwhen = 2026-03-14T06:13:00Z\n[[r]]\nname='x'\nport=1\n", []Change{was("a", "1"), is("r[name=x].port", "1"), other("t.when", "2026-03-14T06:12:00Z", "2026-03-14T06:13:00Z")}},
		{"a.ini", "; note\ntop=1\n[s]\nk = v # w\n", "[s]\nk : v2\nq=\n", []Change{other("s.k", "v # w", "v2"), is("s.q", ""), was("top", "1")}},
		{"a.properties", "a.b=1\nc: 2\n", "c=2\na.b=3\n", []Change{other(`"a.b"`, "1", "3")}},
		{".env", "export A=1\nB=2\n", "A=1\nB=3\n", []Change{other("B", "2", "3")}},
		{"a.json", `{"a": 1}`, `{ "a":1 }`, nil},
	} {
		r := compared(t, map[string]string{"s:files/etc/" + c.name: c.before}, map[string]string{"s:files/etc/" + c.name: c.now}, Options{})
		require.Len(t, r.Files, 1, c.name)
		require.Empty(t, r.Files[0].Diff, c.name)
		require.ElementsMatch(t, c.want, r.Files[0].Keys, "%s: %s", c.name, c.now)
		require.Equal(t, c.want == nil, r.Files[0].Note == "written otherwise, and of the same content")
	}
}

// What cannot be read by its keys is compared line by line, and what is no text not at all.
func TestLines(t *testing.T) {
	for _, c := range [][4]string{
		{"a.json", `{"a":1`, `{"a":2}`, "+{\"a\":2}"},
		{"site.conf", "server {\n listen 80;\n}\n", "server {\n listen 81;\n}\n", "- listen 80;\n+ listen 81;"},
		{"motd", "one\ntwo\n", "one\n2\n", "-two\n+2"},
		{"a.yaml", "a: [1\n", "a: 1\n", "+a: 1"},
		{"a.yaml", "a: &a [*a]\n", "a: 1\n", "+a: 1"},
	} {
		r := compared(t, map[string]string{"s:files/" + c[0]: c[1]}, map[string]string{"s:files/" + c[0]: c[2]}, Options{})
		require.Empty(t, r.Files[0].Keys, c[0])
		require.Contains(t, r.Files[0].Diff, c[3], c[0])
	}
	r := compared(t, map[string]string{"s:files/x": "a\x00b", "s:files/y": strings.Repeat("x", maxText+1), "s:files/z": strings.Repeat("a\n", 2000)},
		map[string]string{"s:files/x": "a\x00c", "s:files/y": "x", "s:files/z": strings.Repeat("b\n", 2000)}, Options{})
	require.Equal(t, []string{"no text", "too large to be compared within", "3604 more lines of differences"}, []string{r.Files[0].Note, r.Files[1].Note, r.Files[2].Note})
}

// What one side was never asked for is no difference.
func TestNotAskedFor(t *testing.T) {
	a, b := side(map[string]string{"s:files/x": "1"}), side(map[string]string{"s:files/x": "1", "s:files/y": "1", "s:files/z": "1", "s:files/w": "1"})
	for k, f := range b.Files {
		f.Item = map[string]string{"files/x": "config", "files/y": "log", "files/z": "log", "files/w": "config"}[k.Path]
	}
	a.AskedFor(round.Coverage{{System: "s", Item: "config", State: round.Taken}, {System: "s", Item: "log", State: round.Skipped}})
	r, err := Compare(context.Background(), a, b, Options{})
	require.NoError(t, err)
	require.Equal(t, []NotAsked{{"s", "log", false, 2}}, r.NotAsked)
	require.Equal(t, []Difference{{Key: Key{"s", "files/w"}, What: New, Now: 1}}, r.Files)
}

// When a command ran and how long it took makes no difference.
func TestOutputOfCommands(t *testing.T) {
	out := func(started, code, text string) string {
		return "command:   x\nexit code: " + code + "\nstarted:   " + started + "\ntook:      1ms\n\n---- standard output ----\n" + text
	}
	name := "s:commands/state.txt"
	require.Empty(t, compared(t, map[string]string{name: out("06:12", "0", "fine\n")}, map[string]string{name: out("07:12", "0", "fine\n")}, Options{}).Files)
	require.Contains(t, compared(t, map[string]string{name: out("06:12", "0", "fine\n")}, map[string]string{name: out("07:12", "1", "fine\n")}, Options{}).Files[0].Diff, "+exit code: 1")
	require.Contains(t, compared(t, map[string]string{name: out("06:12", "0", "fine\n")}, map[string]string{name: out("07:12", "0", "bad\n")}, Options{}).Files[0].Diff, "-fine\n+bad")
}

func TestSecretsAreNotShown(t *testing.T) {
	o := Options{Hide: func(text string) string { return strings.NewReplacer("hunter2", "*", "hunter3", "*").Replace(text) }}
	r := compared(t, map[string]string{"s:files/a.ini": "password=hunter2\nb=1\n", "s:files/motd": "it is hunter2\n"}, map[string]string{"s:files/a.ini": "password=hunter3\nb=2\n", "s:files/motd": "it is hunter3\n"}, o)
	require.Equal(t, []Change{{Name: "b", Before: "1", Now: "2", Was: true, Is: true}, {Name: "password", Before: hidden, Now: hidden, Was: true, Is: true}}, r.Files[0].Keys)
	require.Equal(t, "only what is hidden changed", r.Files[1].Note)
}

func TestFacts(t *testing.T) {
	a, b := side(nil), side(nil)
	a.Facts["s"] = collect.Vitals{OS: "Debian 12", Values: map[string]string{"agent": "4.2.9"}, Load: []float64{1}, Uptime: 5, Memory: &collect.Memory{Total: 1 << 30, Available: 1}, Addresses: []string{"b", "a"}}
	b.Facts["s"] = collect.Vitals{OS: "Debian 13", Values: map[string]string{"agent": "4.3.1"}, Load: []float64{9}, Uptime: 9, Memory: &collect.Memory{Total: 1 << 30, Available: 2}, Addresses: []string{"a", "b"}, Locale: "C"}
	r, err := Compare(context.Background(), a, b, Options{})
	require.NoError(t, err)
	require.Equal(t, []Facts{{"s", []Change{{"agent", "4.2.9", "4.3.1", true, true}, {Name: "locale", Now: "C", Is: true}, {"system", "Debian 12", "Debian 13", true, true}}}}, r.Facts)
}

// A file that cannot be read is said to be so; it hides no other.
func TestUnreadable(t *testing.T) {
	a, b := side(map[string]string{"s:files/x": "12", "s:files/y": "1"}), side(map[string]string{"s:files/x": "34", "s:files/y": "2"})
	a.Files[Key{"s", "files/x"}].Open = func() (io.ReadCloser, error) { return nil, errors.New("its raw evidence was removed") }
	r, err := Compare(context.Background(), a, b, Options{})
	require.NoError(t, err)
	require.Len(t, r.Files, 2)
	require.Equal(t, "its raw evidence was removed", r.Files[0].Note)
	require.Contains(t, r.Files[1].Diff, "+2")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Compare(ctx, a, b, Options{})
	require.ErrorIs(t, err, context.Canceled)
}

func TestFolder(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		file := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	}
	write("26031407_r1/systems/gate-1/files/etc/x", "1")
	write("26031407_r1/systems/gate-1/vitals.json", `{"system":"gate-1","os":"Debian 12"}`)
	write("26031407_r1/manifest.json", "{}")
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "26031407_r1/systems/gate-1/files/etc/link")))
	s, err := Folder(dir)
	require.NoError(t, err)
	require.Len(t, s.Files, 2)
	require.Contains(t, s.Files, Key{"gate-1", "files/etc/x"})
	require.Equal(t, "Debian 12", s.Facts["gate-1"].OS)
	s, err = Folder(filepath.Join(dir, "26031407_r1", "systems", "gate-1", "files"))
	require.NoError(t, err)
	require.Contains(t, s.Files, Key{"", "etc/x"})
	_, err = Folder(filepath.Join(dir, "nowhere"))
	require.ErrorIs(t, err, os.ErrNotExist)
}

// Whatever stands in a file, it is read without harm, and differs from itself in nothing.
func FuzzKeys(f *testing.F) {
	for _, s := range []string{`{"a":[{"id":1},{"id":2}]}`, "a: &x [1]\nb: *x\n", "[t]\na=1\n", "k = v\n[s]\nq: 1\n", "a: &a [*a]\n", "\"\\", "[[a]]\n[[a]]\n", "=\n", "[\n"} {
		f.Add(byte(0), []byte(s))
		f.Add(byte(1), []byte(s))
		f.Add(byte(2), []byte(s))
		f.Add(byte(3), []byte(s))
	}
	f.Fuzz(func(t *testing.T, kind byte, text []byte) {
		name := "files/x" + formats[int(kind)%len(formats)].endings[0]
		keys, _, ok := keysOf(name, bytes.Clone(text))
		again, _, okAgain := keysOf(name, text)
		require.Equal(t, ok, okAgain)
		if ok {
			require.Empty(t, changes(keys, again, Options{Hide: func(s string) string { return s }}))
		}
	})
}
