//go:build !windows

package collect

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/patience"
	"envask/internal/posix"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/undo"
	"envask/internal/window"
)

// field is a case with this machine as its system, for items that write there.
type field struct {
	t        *testing.T
	tmp      string // what the system takes for its folder for passing things
	dir      string
	writer   *casefile.Writer
	open     func() (reach.System, error)
	system   string // keys of its entry
	window   window.Window
	cancel   func(Event) // told of events
	within   time.Duration
	patience patience.Clock
	free     int64 // bytes free here; 0 is not asked
}

func newField(t *testing.T) *field {
	f := &field{t: t, tmp: t.TempDir(), dir: t.TempDir(), open: func() (reach.System,
		error) {
		return reach.NewLocal("").WithEnv(os.Environ()), nil
	}}
	t.Setenv("TMPDIR", f.tmp)
	c, err := casefile.Home{Dir: t.TempDir()}.Create("26031407", casefile.Info{Opened: six})
	require.NoError(t, err)
	f.writer, err = c.Write("test")
	require.NoError(t, err)
	t.Cleanup(func() { f.writer.Close() })
	return f
}

func (f *field) collect(ctx context.Context, items string) (*round.Round, error) {
	f.t.Helper()
	k, err := ask.Parse("ask.yaml",
		[]byte("ask: a\nvendor: v\nvitals: no\nquestions:\n  - {id: serial, text: which, like: '^OG[0-9]+$'}\nitems:\n"+items))
	require.NoError(f.t, err)
	s, err := site.Parse("site.yaml", []byte("site: pier\nsystems:\n  - {name: desk, local: true, zone: Europe/Lisbon"+f.system+"}\n"))
	require.NoError(f.t, err)
	col := &Collector{Request: Request{Ask: k, Site: s, Depth: ask.Standard, Jobs: 1, Case: "26031407",
		Answers: map[string]string{"serial": "OG410772"}, Window: f.window, Within: f.within, Free: f.room()},
		Open: func(context.Context, *site.System) (reach.System, error) { return f.open() }, Report: f.cancel, Patience: &f.patience,
		Pauses: []time.Duration{time.Millisecond}}
	return col.Run(ctx, f.writer, "", "test")
}

func (f *field) room() func() int64 {
	if f.free == 0 {
		return nil
	}
	return func() int64 { return f.free }
}

func (f *field) entries(r *round.Round) map[string]round.Entry {
	f.t.Helper()
	m := map[string]round.Entry{}
	require.NoError(f.t, r.Entries(func(e round.Entry) error { m[e.Source] = e; return nil }))
	return m
}

// clean makes sure that nothing of ours is left, on the system and in the ledger.
func (f *field) clean() {
	f.t.Helper()
	left, err := filepath.Glob(filepath.Join(f.tmp, "*"))
	require.NoError(f.t, err)
	require.Empty(f.t, left)
	pending, err := undo.Pending(f.writer.Case)
	require.NoError(f.t, err)
	require.Empty(f.t, pending)
}

func TestWhatACommandMakesIsTakenAndRemoved(t *testing.T) {
	f := newField(t)
	old := filepath.Join(f.dir, "bundle-old.tgz")
	require.NoError(t, os.WriteFile(old, []byte("of an earlier case"), 0o600))
	r, err := f.collect(context.Background(), `  - id: bundle
    run: "echo making; echo inside > {folder}/a.txt; mkdir {folder}/sub; echo $$ > {folder}/sub/b; sleep 0.3; echo outside > `+f.dir+`/bundle-new.tgz; exit 3"
    makes: ['{folder}/**', '`+f.dir+`/bundle-*.tgz']
    remove: yes
`)
	require.NoError(t, err)
	require.Equal(t, round.Taken, r.Coverage[0].State, r.Coverage[0].Reason)
	require.Equal(t, 4, r.Coverage[0].Files, "three files and what the command printed")
	got := f.entries(r)
	require.Contains(t, got["{folder}/a.txt"].Reason, "SHA-256 verified against the system")
	require.Equal(t, "made/bundle/sub/b", got["{folder}/sub/b"].Name)
	require.Equal(t, "files"+f.dir+"/bundle-new.tgz", got[f.dir+"/bundle-new.tgz"].Name)
	data, err := os.ReadFile(filepath.Join(r.RawDir(), "desk", "commands", "bundle.txt"))
	require.NoError(t, err)
	require.Contains(t, string(data), "exit code: 3")
	require.Contains(t, string(data), "\nmaking\n")
	require.FileExists(t, old, "what was there before is not ours")
	require.NoFileExists(t, filepath.Join(f.dir, "bundle-new.tgz"))
	f.clean()

	r, err = f.collect(context.Background(), "  - {id: bundle, run: 'echo x > "+f.dir+"/bundle-kept.tgz', makes: '"+f.dir+"/*kept*'}\n")
	require.NoError(t, err)
	require.Equal(t, round.Taken, r.Coverage[0].State)
	require.FileExists(t, filepath.Join(f.dir, "bundle-kept.tgz"))
	f.clean()
}

// A log that is only written to or rotated while a command runs is not taken for what it made, and is never removed; nor is a file
// of secrets, or anything that was put in the place of what was taken.
func TestMadeIsOnlyWhatWasNotThere(t *testing.T) {
	f := newField(t)
	write := func(name, text string) string {
		file := filepath.Join(f.dir, name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	live, rotated := write("gate.log", "live\n"), write("door.log", "door\n")
	r, err := f.collect(context.Background(), `  - id: bundle
    run: "echo more >> `+live+`; mv `+rotated+` `+rotated+`.1; echo fresh > `+rotated+`; echo key > `+f.dir+`/host.key; echo made > `+f.dir+`/made.log; ln -s `+live+` `+f.dir+`/link.log"
    makes: ['`+f.dir+`/*.log*', '`+f.dir+`/*.key']
    remove: yes
`)
	require.NoError(t, err)
	got := f.entries(r)
	require.Equal(t, round.Taken, got[f.dir+"/made.log"].State)
	require.NotContains(t, got, live)
	require.Equal(t, round.Skipped, got[rotated+".1"].State)
	require.Contains(t, got[rotated+".1"].Reason, "it was "+rotated+" before")
	require.Equal(t, round.Refused, got[f.dir+"/host.key"].State)
	require.NotEqual(t, round.Taken, got[f.dir+"/link.log"].State)
	for _, stays := range []string{live, rotated, rotated + ".1", filepath.Join(f.dir, "host.key"), filepath.Join(f.dir, "link.log")} {
		require.FileExists(t, stays)
	}
	require.NoFileExists(t, filepath.Join(f.dir, "made.log"))
	f.clean()
}

func TestMakingThatDoesNotWork(t *testing.T) {
	for item, want := range map[string]struct {
		state  round.State
		reason string
	}{
		"run: 'true', makes: '{folder}/*'": {round.Failed,
			"no file matches {folder}/* (exit code 0)"},
		"run: 'no-such-tool {folder}', makes: '{folder}/*'":                    {round.Failed, "no such command"},
		"run: 'sleep 60; echo > {folder}/x', makes: '{folder}/*', timeout: 1s": {round.TimedOut, "stopped after 1s"},
		"run: 'echo > {folder}/x', makes: '{folder}/*', space: 900TiB":         {round.Failed, "and it wants 900 TiB"},
		"run: 'tool {from}', makes: '{folder}/*'":                              {round.Failed, "the case has no window"},
		"run: 'tool {folder}', makes: '{folder}/*', elevated: true": {round.Failed,
			"give elevate: for this system in the systems file"},
		"run: 'kill -9 $$', makes: '{folder}/*'":                                       {round.Failed, "no file matches"},
		"run: 'ln -s /etc/shadow {folder}/x; mkfifo {folder}/y', makes: '{folder}/**'": {round.Taken, ""},
	} {
		t.Run(item, func(t *testing.T) {
			f := newField(t)
			r, err := f.collect(context.Background(), "  - {id: x, "+item+"}\n")
			require.NoError(t, err)
			require.Equal(t, want.state, r.Coverage[0].State, r.Coverage[0].Reason)
			require.Contains(t, r.Coverage[0].Reason, want.reason)
			for _, e := range f.entries(r) {
				require.False(t, strings.HasSuffix(e.Source, "/x") && e.State == round.Taken, "a link that a tool made leads nowhere")
			}
			f.clean()
		})
	}
}

// A command that makes files is started once, whatever happens to the connection and to us meanwhile.
func TestMakingGoesOnWithoutUs(t *testing.T) {
	f := newField(t)
	count := filepath.Join(f.dir, "count")
	items := "  - {id: x, run: 'echo run >> " + count + "; sleep 1.5; echo done > {folder}/x', makes: '{folder}/*'}\n"
	ctx, cancel := context.WithCancel(context.Background())
	f.cancel = func(e Event) {
		if e.Kind == Waiting && e.Took > 300*time.Millisecond {
			cancel() // as Ctrl-C
		}
	}
	_, err := f.collect(ctx, items)
	require.ErrorIs(t, err, context.Canceled)
	k, err := ask.Parse("ask.yaml", []byte("ask: other\nvendor: v\nitems: [{id: x, run: date}]\n"))
	require.NoError(t, err)
	other, err := (&Collector{Request: Request{Ask: k, Site: &site.Site{}}}).Making(f.writer.Case)
	require.NoError(t, err)
	require.Empty(t, other, "another collection does not go on with it")

	f.cancel = nil
	opens := 0
	f.open = func() (reach.System, error) {
		opens++
		l := reach.NewLocal("").WithEnv(os.Environ())
		if opens == 1 {
			return &shortLived{Local: l, until: time.Now().Add(300 * time.Millisecond)}, nil
		}
		return l, nil
	}
	r, err := f.collect(context.Background(), items)
	require.NoError(t, err)
	require.Equal(t, "r1", r.ID)
	require.Equal(t, round.Taken, r.Coverage[0].State, r.Coverage[0].Reason)
	require.GreaterOrEqual(t, opens, 2, "the connection broke in between")
	data, err := os.ReadFile(count)
	require.NoError(t, err)
	require.Equal(t, "run\n", string(data))
	f.clean()
}

// Killed between the ledger's record of our folder and our own note of it, the record is found again.
func TestMakingGoesOnAfterAKillAtTheRecord(t *testing.T) {
	f := newField(t)
	ctx, cancel := context.WithCancel(context.Background())
	f.cancel = func(e Event) {
		if e.Kind == Waiting && e.Took > 100*time.Millisecond {
			cancel()
		}
	}
	items := "  - {id: x, run: 'sleep 1; echo done > {folder}/x', makes: '{folder}/*'}\n"
	_, err := f.collect(ctx, items)
	require.ErrorIs(t, err, context.Canceled)
	note, err := filepath.Glob(filepath.Join(f.writer.Dir, "rounds", "r1", "making", "*.json"))
	require.NoError(t, err)
	require.Len(t, note, 1)
	data, err := os.ReadFile(note[0])
	require.NoError(t, err)
	cut := regexp.MustCompile(`"change":"[0-9a-f]+"`).ReplaceAll(data, []byte(`"change":""`))
	require.NotEqual(t, string(data), string(cut))
	require.NoError(t, os.WriteFile(note[0], cut, 0o600))
	f.cancel = nil
	r, err := f.collect(context.Background(), items)
	require.NoError(t, err)
	require.Equal(t, round.Taken, r.Coverage[0].State, r.Coverage[0].Reason)
	f.clean()
}

// A connection that breaks when a file that was made is to be removed leaves nothing there.
func TestWhatWasMadeIsRemovedAfterALostConnection(t *testing.T) {
	f := newField(t)
	broken := false
	f.open = func() (reach.System, error) {
		return &breaksAt{Local: reach.NewLocal("").WithEnv(os.Environ()), text: "rm -f ", broken: &broken}, nil
	}
	made := filepath.Join(f.dir, "bundle-new.tgz")
	r, err := f.collect(context.Background(), "  - {id: x, run: 'echo x > "+made+"', makes: '"+f.dir+"/*.tgz', remove: yes}\n")
	require.NoError(t, err)
	require.True(t, broken)
	require.Equal(t, round.Taken, r.Coverage[0].State, r.Coverage[0].Reason)
	require.NoFileExists(t, made)
	f.clean()
}

// breaksAt is a system whose connection breaks at the first command with a text in it.
type breaksAt struct {
	*reach.Local
	text   string
	broken *bool
	lost   bool
}

func (s *breaksAt) Lost() error {
	if s.lost {
		return errors.Join(reach.ErrLost, errors.New("cut"))
	}
	return nil
}

func (s *breaksAt) Run(ctx context.Context, command string, stdout, stderr io.Writer) (int, error) {
	if !*s.broken && strings.Contains(command, s.text) {
		*s.broken, s.lost = true, true
	}
	if err := s.Lost(); err != nil {
		return -1, err
	}
	return s.Local.Run(ctx, command, stdout, stderr)
}

// shortLived is a system whose connection breaks after a while.
type shortLived struct {
	*reach.Local
	until time.Time
}

func (s *shortLived) Lost() error {
	if time.Now().After(s.until) {
		return errors.Join(reach.ErrLost, errors.New("cut"))
	}
	return nil
}

func (s *shortLived) Run(ctx context.Context, command string, stdout, stderr io.Writer) (int, error) {
	if err := s.Lost(); err != nil {
		return -1, err
	}
	return s.Local.Run(ctx, command, stdout, stderr)
}

func TestPlaceholdersOfACommand(t *testing.T) {
	f := newField(t)
	w, err := window.New([]window.Span{{From: six, To: six.Add(time.Hour)}, {From: six.Add(3 * time.Hour), To: six.Add(4 * time.Hour)}},
		time.UTC)
	require.NoError(t, err)
	f.window = w
	round, err := f.collect(context.Background(), `  - {id: a, run: 'echo {from} {to} {case} {answer.serial}; echo ${HOME:+braces}'}
  - {id: b, run: 'echo {from}', time-format: date-time}
  - {id: c, run: 'echo {to}', time-format: unix}
  - {id: d, run: 'echo {from}', time-format: compact, zone: Asia/Tokyo}
`)
	require.NoError(t, err)
	text := func(name string) string {
		data, err := os.ReadFile(filepath.Join(round.RawDir(), "desk", "commands", name+".txt"))
		require.NoError(t, err)
		return string(data)
	}
	require.Contains(t, text("a"), "\n2026-03-14T06:00:00Z 2026-03-14T10:00:00Z 26031407 OG410772\nbraces\n")
	require.Contains(t, text("b"), "\n2026-03-14 06:00:00\n", "in the system's zone")
	require.Contains(t, text("c"), "\n1773482400\n")
	require.Contains(t, text("d"), "\n20260314150000\n")

	k, err := ask.Parse("ask.yaml", []byte("ask: a\nvendor: v\nquestions:\n  - {id: q, text: which, like: '^[a-z]+$'}\nitems:\n  - {id: "+
		"x, run: 'echo {answer.q}'}\n"))
	require.NoError(t, err)
	for answer, want := range map[string]string{"": "it needs the answer to the question q",
		"x; rm -rf /": "is not as the vendor wants it", "fine": ""} {
		_, err := (&Request{Ask: k, Answers: map[string]string{"q": answer}}).answer("q")
		if want == "" {
			require.NoError(t, err)
		} else {
			require.ErrorContains(t, err, want)
		}
	}
	line, err := ask.Fill("echo {case}", func(string) (string, error) { return "it's; $(reboot)", nil }, posixWord)
	require.NoError(t, err)
	require.Equal(t, `echo 'it'\''s; $(reboot)'`, line, "whatever an answer holds is one word")
	_, err = ask.Fill("echo {case}", func(string) (string, error) { return "two\nlines", nil }, posixWord)
	require.ErrorContains(t, err, "{case} holds a line end")
}

// Items of a group are of one state, or it is said that they are not.
func TestTogether(t *testing.T) {
	f := newField(t)
	a, b := filepath.Join(f.dir, "a"), filepath.Join(f.dir, "b")
	require.NoError(t, os.WriteFile(a, []byte("one"), 0o600))
	require.NoError(t, os.WriteFile(b, []byte("one"), 0o600))
	items := "  - {id: a, files: [" + a + "], cut: none, together: pair}\n  - {id: b, files: [" + b +
		"], cut: none, together: pair}\n  - {id: c, run: cat " + a + ", together: pair}\n"
	round, err := f.collect(context.Background(), items)
	require.NoError(t, err)
	for _, cell := range round.Coverage {
		require.Equal(t, "of one state with the group pair (read twice)", cell.Together)
	}

	changed := 0
	f.cancel = func(e Event) { // a changes when b was taken, the first time
		if e.Kind == CellDone && e.Item == "c" && changed == 0 {
			changed++
			require.NoError(t, os.WriteFile(a, []byte("two"), 0o600))
		}
	}
	round, err = f.collect(context.Background(), items+"  - {id: d, run: echo}\n")
	require.NoError(t, err)
	require.Equal(t, "of one state with the group pair (read twice)", round.Coverage[0].Together)
	data, err := os.ReadFile(filepath.Join(round.RawDir(), "desk", "files", a))
	require.NoError(t, err)
	require.Equal(t, "two", string(data))
	text, err := os.ReadFile(filepath.Join(round.RawDir(), "desk", "commands", "c.txt"))
	require.NoError(t, err)
	require.Contains(t, string(text), "\ntwo")

	n := 0
	f.cancel = func(e Event) { // it never rests
		if e.Kind == CellDone && e.Item == "c" {
			n++
			require.NoError(t, os.WriteFile(a, []byte(strings.Repeat("x", n)), 0o600))
		}
	}
	round, err = f.collect(context.Background(), items+"  - {id: e, run: echo}\n")
	require.NoError(t, err)
	require.Contains(t, round.Coverage[0].Reason, "NOT of one state with the group pair")
	require.Contains(t, round.Coverage[0].Reason, a)
}

// A run that was interrupted between two items of a group takes both again: they are to be of one state.
func TestTogetherAfterAnInterruption(t *testing.T) {
	f := newField(t)
	a, b := filepath.Join(f.dir, "a"), filepath.Join(f.dir, "b")
	require.NoError(t, os.WriteFile(a, []byte("one"), 0o600))
	require.NoError(t, os.WriteFile(b, []byte("one"), 0o600))
	items := "  - {id: a, files: [" + a + "], cut: none, together: pair}\n  - {id: between, run: echo}\n  - {id: b, files: [" + b +
		"], cut: none, together: pair}\n"
	ctx, cancel := context.WithCancel(context.Background())
	f.cancel = func(e Event) {
		if e.Kind == CellDone && e.Item == "between" {
			cancel()
		}
	}
	_, err := f.collect(ctx, items)
	require.ErrorIs(t, err, context.Canceled)
	require.NoError(t, os.WriteFile(a, []byte("two"), 0o600))
	f.cancel = nil
	round, err := f.collect(context.Background(), items)
	require.NoError(t, err)
	require.Equal(t, "r1", round.ID)
	require.Equal(t, "of one state with the group pair (read twice)", round.Coverage[0].Together)
	data, err := os.ReadFile(filepath.Join(round.RawDir(), "desk", "files", a))
	require.NoError(t, err)
	require.Equal(t, "two", string(data))
}

func TestNeeds(t *testing.T) {
	f := newField(t)
	file := filepath.Join(f.dir, "agent.conf")
	require.NoError(t, os.WriteFile(file, []byte("version = 4.10.1\nlevel = info\n"), 0o600))
	for need, want := range map[string]string{
		"{command: sh}": "",
		"{command: no-such-tool, do: install it}": "needs the command no-such-tool: no such command: " +
			"no-such-tool; install it",
		"{file: " + file + ", like: 'level = debug', do: switch it on}":   "it is not so; switch it on",
		"{file: " + file + ", like: 'level = info'}":                      "",
		"{file: " + file + ", like: 'version = ([0-9.]+)', least: '4.9'}": "",
		"{file: " + file + ", least: '4.11'}":                             "version 4.11 or newer: it is 4.10.1",
		"{file: /no/such/file}":                                           "there is no such file",
		"{run: 'echo v 5', least: '5.1'}":                                 "it names no version",
		"{run: 'echo v 5.1.0', least: '5.1'}":                             "",
		"{run: 'exit 4'}":                                                 "it ended with exit code 4",
	} {
		r, err := f.collect(context.Background(), "  - {id: x, run: echo fine, required: true, needs: ["+need+"]}\n  - {id: y, files: ["+
			file+"], cut: none, required: true, needs: ["+need+"]}\n")
		require.NoError(t, err)
		run, files := r.Coverage[0], r.Coverage[1]
		require.Equal(t, round.Taken, files.State, "files may do all the same")
		require.Equal(t, want != "", files.Lacking(), need)
		if want == "" {
			require.Equal(t, round.Taken, run.State, need+run.Reason)
			continue
		}
		require.Equal(t, round.Missing, run.State)
		require.Contains(t, run.Reason, want, need)
		require.Contains(t, files.Reason, want)
		require.True(t, run.Lacking())
	}
}

// What a command makes is cut to the window where the ask says so; what is undated is taken whole, and by default all is.
func TestMadeFilesAreCut(t *testing.T) {
	at := time.Date(2026, 3, 14, 6, 12, 0, 0, time.UTC)
	w, err := window.New([]window.Span{{From: at, To: at.Add(time.Minute)}}, time.UTC)
	require.NoError(t, err)
	script := "d={folder}; for m in 10 11 12 13 14; do echo 2026-03-14T06:$m:30Z line $m; done > $d/pass.log; echo 2026-03-13T01:00:00Z " +
		"old > $d/old.log; echo about > $d/about.txt"
	for cut, want := range map[string][3]round.State{"": {round.Taken, round.Taken, round.Taken},
		", cut: lines": {round.Taken, round.Empty, round.Taken}, ", cut: files": {round.Taken, round.Empty, round.Taken}} {
		f := newField(t)
		f.window = w
		r, err := f.collect(context.Background(), "  - {id: x, run: '"+script+"', makes: '{folder}/*'"+cut+"}\n")
		require.NoError(t, err)
		all := f.entries(r)
		require.Equal(t, want, [3]round.State{all["{folder}/pass.log"].State, all["{folder}/old.log"].State,
			all["{folder}/about.txt"].State}, "%s: %v", cut, r.Coverage)
		data, err := os.ReadFile(filepath.Join(r.RawDir(), "desk", filepath.FromSlash(all["{folder}/pass.log"].Name)))
		require.NoError(t, err)
		require.Equal(t, map[bool]int{true: 1, false: 5}[cut == ", cut: lines"], strings.Count(string(data), "line"), cut)
		require.Empty(t, mustGlob(t, filepath.Join(f.tmp, "envask-*")), "our folder is removed")
	}
	_, err = ask.Parse("a.yaml", []byte("ask: a\nvendor: v\nitems: [{id: a, run: x, cut: lines}]\n"))
	require.ErrorContains(t, err, "cut: goes with files: or makes:")
}

func mustGlob(t *testing.T, pattern string) []string {
	list, err := filepath.Glob(pattern)
	require.NoError(t, err)
	return list
}

func posixWord(text string) (string, error) { return posix.Word(text), nil }
