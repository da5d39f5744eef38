package collect

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"testing/fstest"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/collect/transfer"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/window"
)

func TestSafePath(t *testing.T) {
	for in, want := range map[string]string{
		"var/log/gate.log": "var/log/gate.log", "ümlaut/日本": "ümlaut/日本", "a\nb": "a%0Ab", "\x1b[31m": "%1B[31m", "x\xff": "x%FF",
		`a\b`: "a%5Cb", "a:b": "a%3Ab",
		"100%": "100%", "100%41": "100%2541", "%~": "%25~", "\u202egol.exe": "%E2%80%AEgol.exe", "end.": "end%2E", "end ": "end%20",
		"a\ufffdb": "a%EF%BF%BDb", "q?": "q%3F",
	} {
		require.Equal(t, want, SafePath(in), "%q", in)
	}
	long := strings.Repeat("ä", 150)
	require.LessOrEqual(t, len(SafePath(long)), maxElement)
	require.NotEqual(t, SafePath(long+"1"), SafePath(long+"2"))
}

func FuzzSafePath(f *testing.F) {
	for _, s := range []string{"a%41", "a\x00", "%", "%%", "%4", "\xc3", "end.", "%7E", "%~"} {
		f.Add(s, s+"x")
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		sa := SafePath(a)
		require.True(t, utf8.ValidString(sa))
		require.False(t, strings.ContainsFunc(sa, unicode.IsControl), "%q", sa)
		require.Equal(t, strings.Count(a, "/"), strings.Count(sa, "/"))
		if a != b {
			require.NotEqual(t, sa, SafePath(b), "%q and %q", a, b)
		}
	})
}

func expandAll(t *testing.T, m reach.FS, patterns ...string) (found []string, problems []string) {
	t.Helper()
	x := &expander{ctx: context.Background(), fsys: m, seen: map[string]bool{},
		found:   func(name string, _ fs.FileInfo) { found = append(found, name) },
		problem: func(name string, err error) { problems = append(problems, name+": "+transfer.Plain(err)) },
	}
	for _, p := range patterns {
		require.NoError(t, x.expand(p))
	}
	sort.Strings(found)
	return found, problems
}

func TestExpand(t *testing.T) {
	m := fstest.MapFS{}
	for _, n := range []string{"var/log/a.log", "var/log/a.log.1", "var/log/b.txt", "var/log/sub/c.log", "var/log/sub/deep/d.log",
		"var/log/.hidden.log", "etc/x/one.conf", "etc/y/one.conf", "C/gate/g.log"} {
		m[n] = &fstest.MapFile{Data: []byte("x")}
	}
	m["etc/z"] = &fstest.MapFile{Mode: fs.ModeSymlink, Data: []byte("y")}
	for _, c := range []struct {
		pattern string
		want    []string
	}{
		{"/var/log/*.log", []string{"var/log/.hidden.log", "var/log/a.log"}},
		{"/var/log/a.log*", []string{"var/log/a.log", "var/log/a.log.1"}},
		{"/var/log/**/*.log", []string{"var/log/.hidden.log", "var/log/a.log", "var/log/sub/c.log", "var/log/sub/deep/d.log"}},
		{"/var/log/**", []string{"var/log/.hidden.log", "var/log/a.log", "var/log/a.log.1", "var/log/b.txt", "var/log/sub/c.log",
			"var/log/sub/deep/d.log"}},
		{"/var/**/deep/*", []string{"var/log/sub/deep/d.log"}},
		{"/etc/{x,y}/one.conf", []string{"etc/x/one.conf", "etc/y/one.conf"}},
		{"/etc/?/*.conf", []string{"etc/x/one.conf", "etc/y/one.conf", "etc/z/one.conf"}},
		{"/var/log/b.txt", []string{"var/log/b.txt"}},
		{"/var/log", nil},
		{"/nowhere/*/x", nil},
		{"/var/log/b.txt/*", nil},
		{`C:\gate\*.log`, []string{"C/gate/g.log"}},
	} {
		found, problems := expandAll(t, links{m}, c.pattern)
		require.Equal(t, c.want, found, c.pattern)
		require.Empty(t, problems, c.pattern)
	}
	found, _ := expandAll(t, links{m}, "/var/log/*.log", "/var/log/a*")
	require.Len(t, found, 3, "what two patterns match is one")
}

// links makes ReadDir of a MapFS follow a link to a folder, as real systems do.
type links struct{ fstest.MapFS }

func (l links) ReadDir(name string) ([]fs.DirEntry, error) {
	if target, err := l.ReadLink(name); err == nil {
		name = filepath.Join(filepath.Dir(name), target)
	}
	return l.MapFS.ReadDir(name)
}

// deny is a file system in which a folder may not be listed.
type deny struct {
	links
	dir string
}

func (d deny) ReadDir(name string) ([]fs.DirEntry, error) {
	if name == d.dir {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: fs.ErrPermission}
	}
	return d.links.ReadDir(name)
}

func TestExpandNeverHidesWhatItCouldNotSee(t *testing.T) {
	m := fstest.MapFS{"var/log/a/x.log": {}, "var/log/b/y.log": {}}
	found, problems := expandAll(t, deny{links{m}, "var/log/a"}, "/var/log/**/*.log")
	require.Equal(t, []string{"var/log/b/y.log"}, found)
	require.Equal(t, []string{"var/log/a: permission denied"}, problems)

	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	x := &expander{ctx: ctx, fsys: links{m}, seen: map[string]bool{}}
	require.ErrorIs(t, x.expand("/var/**"), context.Canceled)

	deep := fstest.MapFS{strings.Repeat("d/", maxLevels+5) + "x": {}}
	_, problems = expandAll(t, links{deep}, "/**")
	require.Len(t, problems, 1)
	require.Contains(t, problems[0], "more folders within each other")
}

func TestResolve(t *testing.T) {
	link := func(to string) *fstest.MapFile { return &fstest.MapFile{Mode: fs.ModeSymlink, Data: []byte(to)} }
	m := fstest.MapFS{"data/logs/a.log": {}, "var/log/app": link("/data/logs"), "var/log/cur": link("app/a.log"),
		"var/up": link("../../etc/passwd"), "etc/passwd": {},
		"loop/a": link("b"), "loop/b": link("a"), "gone": link("nowhere/x")}
	for name, want := range map[string]string{"data/logs/a.log": "data/logs/a.log", "var/log/app/a.log": "data/logs/a.log",
		"var/log/cur": "data/logs/a.log", "var/up": "etc/passwd"} {
		r := &resolver{fsys: m, folders: map[string]folder{}}
		got, err := r.resolve(name, nil)
		require.NoError(t, err, name)
		require.Equal(t, want, got, name)
	}
	r := &resolver{fsys: m, folders: map[string]folder{}}
	_, err := r.resolve("loop/a", nil)
	require.ErrorIs(t, err, errLoop)
	_, err = r.resolve("gone", nil)
	require.ErrorIs(t, err, fs.ErrNotExist)
}

func TestGuarded(t *testing.T) {
	for name, want := range map[string]bool{"etc/shadow": true, "home/x/.ssh/id_ed25519": true, "home/x/.ssh/id_ed25519.pub": false,
		"etc/ssh/ssh_host_rsa_key": true, "etc/pki/tls.key": true,
		"etc/gate/gate.toml": false, "etc/hosts": false, "srv/private/a.pem": true, "root/.netrc": true} {
		require.Equal(t, want, guarded(name, nil), name)
	}
	require.False(t, guarded("etc/shadow", []string{"/etc/shadow"}), "named on the command line")
}

func TestTailFileKeepsTheNewest(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 60 {
		limit := int64(1 + r.IntN(200))
		tail, err := transfer.NewTail(t.TempDir(), limit)
		require.NoError(t, err)
		var all []byte
		for range r.IntN(30) {
			piece := bytes.Repeat([]byte{byte('a' + r.IntN(26))}, r.IntN(90))
			n, err := tail.Write(piece)
			require.NoError(t, err)
			require.Equal(t, len(piece), n)
			all = append(all, piece...)
		}
		var got bytes.Buffer
		require.NoError(t, tail.CopyTo(&got))
		want := all[max(0, int64(len(all))-limit):]
		require.Equal(t, string(want), got.String(), "limit %d of %d", limit, len(all))
		require.Equal(t, int64(len(all)-len(want)), tail.Dropped())
		tail.Remove()
	}
}
func TestKindsAgreeWithTheAsk(t *testing.T) {
	require.ElementsMatch(t, append(ask.Kinds(), ask.Vitals), append(Kinds(), "person", "arrives"),
		"what persons bring and devices push is taken by nobody")
}

// bench is a case with a local system of files below root.
type bench struct {
	w    *casefile.Writer
	c    *Collector
	root string
}

func newBench(t testing.TB, files int) *bench {
	t.Helper()
	b := &bench{root: t.TempDir()}
	for i := range files {
		name := filepath.Join(b.root, "log", fmt.Sprintf("d%02d", i%20), fmt.Sprintf("f%05d.log", i))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(strings.Repeat(fmt.Sprintf("line of %d\n", i), 1+i%50)), 0o644))
	}
	k, err := ask.Parse("a.yaml", []byte("ask: a\nvendor: v\nvitals: no\nitems:\n  - {id: log, files: ['/log/**'], required: true}\n  - "+
		"{id: state, run: echo fine}\n"))
	require.NoError(t, err)
	s, err := site.Parse("s.yaml", []byte("site: s\nsystems: [{name: one, local: true}]\n"))
	require.NoError(t, err)
	h := casefile.Home{Dir: t.TempDir()}
	kase, err := h.Create("26031407", casefile.Info{Ask: "a", Systems: "s", Opened: time.Now()})
	require.NoError(t, err)
	b.w, err = kase.Write("test")
	require.NoError(t, err)
	t.Cleanup(func() { b.w.Close() })
	b.c = &Collector{Request: Request{Ask: k, Site: s, Depth: ask.Standard, Jobs: 4},
		Open: func(context.Context, *site.System) (reach.System, error) { return reach.NewLocal(b.root), nil }}
	return b
}

func TestAnInterruptedRoundGoesOn(t *testing.T) {
	b := newBench(t, 300)
	taken := 0
	var cancel context.CancelFunc
	b.c.Report = func(e Event) {
		if e.Kind == FileDone {
			if taken++; taken == 100 && cancel != nil {
				cancel()
			}
		}
	}
	var ctx context.Context
	ctx, cancel = context.WithCancel(context.Background())
	_, err := b.c.Run(ctx, b.w, "", "test")
	require.ErrorIs(t, err, context.Canceled)

	// As a crash would leave it: a torn line, a file that is not what it was, a half-fetched one.
	rounds, err := round.List(b.w.Case)
	require.NoError(t, err)
	require.False(t, rounds[0].Finished())
	f, err := os.OpenFile(rounds[0].LogFile(), os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	_, err = f.WriteString(`{"entry":{"system":"one","ite`)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	first := ""
	require.NoError(t, rounds[0].Entries(func(e round.Entry) error {
		if first == "" && e.Bytes > 20 {
			first = filepath.Join(rounds[0].RawDir(), e.System, e.Name)
			return os.Truncate(first, 7)
		}
		return nil
	}))

	cancel = nil
	resumed, fetched := 0, 0
	b.c.Report = func(e Event) {
		switch e.Kind {
		case Resuming:
			resumed = e.Files
		case Progress:
			fetched++
		}
	}
	r, err := b.c.Run(context.Background(), b.w, "", "test")
	require.NoError(t, err)
	require.Equal(t, "r1", r.ID)
	require.GreaterOrEqual(t, resumed, 90)
	require.Less(t, fetched, 300, "what was there was not fetched again")
	require.Equal(t, 300, r.Coverage[0].Files)

	whole := newBench(t, 300)
	undisturbed, err := whole.c.Run(context.Background(), whole.w, "", "test")
	require.NoError(t, err)
	require.Equal(t, evidence(t, undisturbed), evidence(t, r), "the same evidence as of a round that nobody disturbed")
	require.Equal(t, undisturbed.Coverage[0].Bytes, r.Coverage[0].Bytes)

	next, err := b.c.Run(context.Background(), b.w, "again", "test")
	require.NoError(t, err)
	require.Equal(t, "r2", next.ID, "a finished round is not gone on with")
}

// evidence gives the checksum of every file of a round.
func evidence(t testing.TB, r *round.Round) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, r.Entries(func(e round.Entry) error {
		if e.Command == nil {
			out[e.Name] = e.SHA256
		}
		return nil
	}))
	return out
}

func TestAnotherRequestIsAnotherRound(t *testing.T) {
	b := newBench(t, 5)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := b.c.Run(ctx, b.w, "", "test")
	require.ErrorIs(t, err, context.Canceled)
	b.c.Items = []string{"log"}
	round, err := b.c.Run(context.Background(), b.w, "", "test")
	require.NoError(t, err)
	require.Equal(t, "r2", round.ID)
}

func TestOurOwnTroubleIsNotBlamedOnASystem(t *testing.T) {
	b := newBench(t, 20)
	b.c.Report = func(e Event) {
		if e.Kind == Connected {
			require.NoError(t, os.RemoveAll(filepath.Join(b.w.RoundDir("r1"), "part"))) // as a disk that went away
		}
	}
	_, err := b.c.Run(context.Background(), b.w, "", "test")
	require.ErrorContains(t, err, "write in the case folder")
	rounds, err := round.List(b.w.Case)
	require.NoError(t, err)
	require.False(t, rounds[0].Finished(), "it can be gone on with")
	b.c.Report = nil
	r, err := b.c.Run(context.Background(), b.w, "", "test")
	require.NoError(t, err)
	require.Equal(t, 20, r.Coverage[0].Files)
}

func TestUnreachableSystemsHaveAState(t *testing.T) {
	for want, cause := range map[round.State]error{round.Refused: reach.ErrHostKey, round.Denied: reach.ErrLogin, round.Failed: reach.ErrConnection,
		round.TimedOut: os.ErrDeadlineExceeded} {
		b := newBench(t, 1)
		b.c.Open = func(context.Context, *site.System) (reach.System, error) { return nil, fmt.Errorf("x: %w", cause) }
		r, err := b.c.Run(context.Background(), b.w, "", "test")
		require.NoError(t, err)
		for _, cell := range r.Coverage {
			require.Equal(t, want, cell.State)
			require.NotEmpty(t, cell.Reason)
		}
	}
}

// A system that plays no role and that others are reached through gives what an item wants of hops, or what the engineer names.
func TestPlanLeavesHopsOut(t *testing.T) {
	k, err := ask.Parse("a.yaml", []byte("ask: a\nvendor: v\nitems:\n  - {id: all, run: date}\n  - {id: hops, of: [hop], run: date}\n  "+
		"- {id: gates, of: [gate], run: date}\n"))
	require.NoError(t, err)
	s, err := site.Parse("s.yaml", []byte("site: s\nsystems:\n  - {name: jump, ssh: svc@192.0.2.1}\n  - {name: both, roles: [gate], "+
		"ssh: svc@192.0.2.2}\n  - {name: gate, roles: [gate], ssh: svc@192.0.2.3, via: jump}\n  - {name: far, roles: [gate], ssh: "+
		"svc@192.0.2.4, via: both}\n  - {name: alone, ssh: svc@192.0.2.5}\n"))
	require.NoError(t, err)
	of := func(systems ...string) (out []string) {
		for _, c := range (&Request{Ask: k, Site: s, Systems: systems, Depth: ask.Standard}).Plan() {
			if c.System == "jump" && c.State == "" {
				out = append(out, c.Item)
			}
		}
		return out
	}
	require.Equal(t, []string{"hops"}, of())
	require.Equal(t, []string{"all", "hops", "vitals"}, of("jump"))
	for _, c := range (&Request{Ask: k, Site: s, Depth: ask.Standard}).Plan() {
		require.NotEqual(t, "hops", map[bool]string{true: c.Item}[c.System != "jump"])
		require.False(t, c.Item == "all" && c.System == "jump")
	}
}

func TestPlanNamesItemsThatNobodyPlays(t *testing.T) {
	k, err := ask.Parse("a.yaml", []byte("ask: a\nvendor: v\nvitals: no\nitems:\n  - {id: x, of: [pilot], run: date, required: true}\n"))
	require.NoError(t, err)
	s, err := site.Parse("s.yaml", []byte("site: s\nsystems: [{name: one, local: true}]\n"))
	require.NoError(t, err)
	plan := (&Request{Ask: k, Site: s}).Plan()
	require.Equal(t, round.Coverage{{Item: "x", Required: true, State: round.Missing, Code: round.CodeNoRole, Reason: "no system plays the role pilot"}},
		plan)
}

func TestFetchTakesAFileAsItWasAtFirst(t *testing.T) {
	dir := t.TempDir()
	src := filepath.Join(dir, "src")
	require.NoError(t, os.WriteFile(src, []byte("12345"), 0o600))
	local := reach.NewLocal(dir).FS()
	count := func(int64) {
		f, err := os.OpenFile(src, os.O_APPEND|os.O_WRONLY, 0o600) // it grows as soon as something was read
		require.NoError(t, err)
		_, err = f.WriteString("more")
		require.NoError(t, errors.Join(err, f.Close()))
	}
	take := transfer.File{FS: local, Name: "src", Part: filepath.Join(dir, "part"), Final: filepath.Join(dir, "to", "final"), Count: count}
	got, err := take.Take(context.Background())
	require.NoError(t, err)
	require.Equal(t, int64(5), got.Bytes)
	require.Contains(t, got.Note, "grew during collection")
	data, err := os.ReadFile(filepath.Join(dir, "to", "final"))
	require.NoError(t, err)
	require.Equal(t, "12345", string(data))

	require.NoError(t, os.Mkdir(filepath.Join(dir, "folder"), 0o700))
	take.Name, take.Final, take.Count = "folder", filepath.Join(dir, "to", "other"), func(int64) {}
	_, err = take.Take(context.Background())
	require.ErrorContains(t, err, "a folder is never opened")
	require.NoFileExists(t, filepath.Join(dir, "to", "other"))
}

func TestWindowChooses(t *testing.T) {
	b := newBench(t, 40)
	old := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	require.NoError(t, os.Chtimes(filepath.Join(b.root, "log/d00/f00000.log"), old, old))
	w, err := window.New([]window.Span{{From: time.Now().Add(-time.Hour), To: time.Now()}}, time.UTC)
	require.NoError(t, err)
	b.c.Window = w
	cov, entries, err := b.c.DryRun(context.Background())
	require.NoError(t, err)
	require.Equal(t, 39, cov[0].Files)
	require.Equal(t, 1, cov[0].Left)
	require.Len(t, entries, 41)
	require.NoDirExists(t, b.w.RoundDir("r1"))
}

func BenchmarkCollectSmallFiles(b *testing.B) {
	x := newBench(b, 2000)
	for b.Loop() {
		if _, err := x.c.Run(context.Background(), x.w, "", "bench"); err != nil {
			b.Fatal(err)
		}
	}
}
