package collect

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/window"
)

var six = time.Date(2026, 3, 14, 6, 0, 0, 0, time.UTC)

// host is a local system below a folder.
type host struct {
	t    *testing.T
	root string
	wrap func(reach.FS) reach.FS

	system func(*reach.Local) reach.System
	way    string
}

func newHost(t *testing.T) *host { return &host{t: t, root: t.TempDir(), way: "local: true"} }

// write writes a file that was last changed at a moment.
func (h *host) write(name, text string, modified time.Time) {
	h.t.Helper()
	file := filepath.Join(h.root, name)
	require.NoError(h.t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(h.t, os.WriteFile(file, []byte(text), 0o644))
	require.NoError(h.t, os.Chtimes(file, modified, modified))
}

// log gives lines from one moment to another, a minute apart.
func minutes(from, to time.Duration) string {
	var b strings.Builder
	for at := from; at <= to; at += time.Minute {
		fmt.Fprintf(&b, "%s line\n", six.Add(at).Format("2006-01-02 15:04:05"))
	}
	return b.String()
}

func packed(text string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, _ = z.Write([]byte(text))
	_ = z.Close()
	return b.String()
}

// system gives the host, through a wrapper where a test wants one.
type wrapped struct {
	*reach.Local
	fsys reach.FS
	far  bool
}

// slowHost is one behind a slow link, with or without commands that compress.
type slowHost struct {
	wrapped
	can, broken bool
	stretches   int
}

func (s *slowHost) CanSqueeze(context.Context) bool { return s.can }

func (s *slowHost) Squeezed(_ context.Context, name string, from, to int64) (io.ReadCloser, error) {
	s.stretches++
	data, err := fs.ReadFile(s.fsys, name)
	if err != nil {
		return nil, err
	}
	if s.broken {
		return struct {
				io.Reader
				io.Closer
			}{io.MultiReader(bytes.NewReader(data[from:from+1000]), iotest.ErrReader(errors.New("torn"))),
				io.NopCloser(strings.NewReader(""))},
			nil
	}
	return io.NopCloser(bytes.NewReader(data[from:to])), nil
}

// slowFS gives its files slowly when much is asked for at a time.
type slowFS struct{ reach.FS }

type slowFile struct{ fs.File }

func (f slowFS) Open(name string) (fs.File, error) {
	file, err := f.FS.Open(name)
	return slowFile{file}, err
}

func (f slowFile) ReadAt(b []byte, off int64) (int, error) {
	if len(b) >= rateSample {
		time.Sleep(time.Second * rateSample / slowLink * 3)
	}
	return f.File.(io.ReaderAt).ReadAt(b, off)
}

// Over a slow link large files come compressed, whole or in stretches; a system that cannot do it, or fails in the middle,
// gives the same bytes the plain way.
func TestSlowLinks(t *testing.T) {
	big := minutes(-3000*time.Hour, time.Hour) + minutes(61*time.Minute, 2000*time.Hour)
	for _, c := range []struct {
		name        string
		can, broken bool
		stretches   bool
	}{{"compressed", true, false, true}, {"torn", true, true, true}, {"without gzip", false, false, false}} {
		h := newHost(t)
		h.write("log/big.log", big, six)
		h.write("log/whole.txt", strings.Repeat("nothing dated\n", 200000), time.Now())
		var s *slowHost
		h.system = func(l *reach.Local) reach.System {
			s = &slowHost{wrapped: wrapped{l, slowFS{l.FS()}, true}, can: c.can, broken: c.broken}
			return s
		}
		h.way = "ssh: svc@192.0.2.11"
		got, _, round := h.collect("files: [/log/*]")
		require.Equal(t, c.stretches, s.stretches > 0, c.name)
		require.Equal(t, strings.Repeat("nothing dated\n", 200000), h.text(round, got["/log/whole.txt"]), c.name)
		require.Contains(t, got["/log/big.log"].Cut.Sure, "assumed sorted after", c.name)
		require.Equal(t, minutes(0, time.Hour), h.text(round, got["/log/big.log"]), c.name)
	}
}

func (w wrapped) FS() reach.FS { return w.fsys }

// Served says that it is far where the test's systems file says so.
func (w wrapped) Served() reach.Served {
	if w.far {
		return reach.Served{Way: "ssh"}
	}
	return w.Local.Served()
}

// collect takes one item, given by its keys, from 06:00 to 07:00.
func (h *host) collect(item string) (map[string]round.Entry, round.Cell, *round.Round) {
	h.t.Helper()
	k, err := ask.Parse("ask.yaml", []byte("ask: a\nvendor: v\nvitals: no\nitems:\n  - {id: log, "+item+"}\n"))
	require.NoError(h.t, err)
	s, err := site.Parse("site.yaml", []byte("site: pier\nsystems:\n  - {name: desk, "+h.way+", zone: UTC}\n"))
	require.NoError(h.t, err)
	w, err := window.New([]window.Span{{From: six, To: six.Add(time.Hour)}}, time.UTC)
	require.NoError(h.t, err)
	c, err := casefile.Home{Dir: h.t.TempDir()}.Create("26031407", casefile.Info{Opened: six})
	require.NoError(h.t, err)
	writer, err := c.Write("test")
	require.NoError(h.t, err)
	defer writer.Close()
	local := reach.NewLocal(h.root)
	var target reach.System = local
	if h.system != nil {
		target = h.system(local)
	}
	if h.wrap != nil {
		target = wrapped{local, h.wrap(local.FS()), false}
	}
	col := &Collector{Request: Request{Ask: k, Site: s, Window: w, Depth: ask.Standard, Jobs: 1},
		Open: func(context.Context, *site.System) (reach.System, error) { return target, nil }}
	r, err := col.Run(context.Background(), writer, "", "test")
	require.NoError(h.t, err)
	entries := map[string]round.Entry{}
	require.NoError(h.t, r.Entries(func(e round.Entry) error { entries[e.Source] = e; return nil }))
	return entries, r.Coverage[0], r
}

func (h *host) text(r *round.Round, e round.Entry) string {
	h.t.Helper()
	data, err := os.ReadFile(filepath.Join(r.RawDir(), e.System, filepath.FromSlash(e.Name)))
	require.NoError(h.t, err)
	require.Equal(h.t, e.Bytes, int64(len(data)))
	return string(data)
}

const hour = time.Hour

// A rotated set: members are chosen by what is in them, though every time of change lies.
func TestRotatedSetByContent(t *testing.T) {
	h := newHost(t)
	now := time.Now()
	h.write("log/gate.log", minutes(50*time.Minute, 3*hour), six.Add(-99*hour)) // restored with an old time
	h.write("log/gate.log.1", minutes(-2*hour, 49*time.Minute), now)
	h.write("log/gate.log.2.gz", packed(minutes(-5*hour, -2*hour-time.Minute)), now)
	h.write("log/gate.log.3.gz", packed(minutes(-9*hour, -5*hour-time.Minute)), now)
	h.write("log/other-20260314.log", minutes(10*time.Minute, 20*time.Minute), now)
	h.write("log/other-20260313.log", minutes(-24*hour, -20*hour), now)
	h.write("log/old.txt", "nothing dated\n", six.Add(-hour))
	h.write("log/new.txt", "nothing dated\n", now)
	got, cell, r := h.collect("files: [/log/*]")
	states := map[string]round.State{}
	for source, e := range got {
		states[source] = e.State
	}
	require.Equal(t, map[string]round.State{"/log/gate.log": round.Taken, "/log/gate.log.1": round.Taken, "/log/gate.log.2.gz": round.Empty,
		"/log/gate.log.3.gz":      round.Empty,
		"/log/other-20260314.log": round.Taken, "/log/other-20260313.log": round.Empty, "/log/old.txt": round.Empty,
		"/log/new.txt": round.Taken}, states)
	require.Equal(t, minutes(50*time.Minute, hour), h.text(r, got["/log/gate.log"]))
	require.Equal(t, minutes(0, 49*time.Minute), h.text(r, got["/log/gate.log.1"]))
	require.Equal(t, "read whole", got["/log/gate.log"].Cut.Sure)
	require.EqualValues(t, 131, got["/log/gate.log"].Cut.Of)
	require.Nil(t, got["/log/other-20260314.log"].Cut, "all of it belongs, so it is taken as it is")
	require.Contains(t, got["/log/gate.log.2.gz"].Reason, "2026-03-14 01:00:00 to 03:59:00: before the window")
	require.Contains(t, got["/log/old.txt"].Reason, "no dated line; last changed 2026-03-14 05:00:00, before the window")
	require.Equal(t, 4, cell.Left)
}

// One member of a set tells for all whether day or month stands first.
func TestMembersSettleTheOrderForEachOther(t *testing.T) {
	h := newHost(t)
	late := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	h.write("log/gate.log", "05/03/2026 06:30:00 a\n", late)
	h.write("log/gate.log.1", "28/02/2026 06:00:00 a\n04/03/2026 06:00:00 b\n", late)
	h.write("log/alone.log", "05/03/2026 06:30:00 a\n", late)
	got, _, _ := h.collect("files: [/log/*]")
	require.Equal(t, "2026-03-05T06:30:00Z", got["/log/gate.log"].First.Format(time.RFC3339))
	require.Equal(t, "2026-05-03T06:30:00Z", got["/log/alone.log"].First.Format(time.RFC3339), "nothing but custom tells")
}

func TestPackedMembersAreCutToPlainText(t *testing.T) {
	h := newHost(t)
	h.write("log/gate.log", minutes(2*hour, 3*hour), six.Add(3*hour))
	h.write("log/gate.log.1.gz", packed(minutes(30*time.Minute, 119*time.Minute)), six.Add(2*hour))
	h.write("log/inner.log.gz", packed(minutes(10*time.Minute, 20*time.Minute)), six.Add(hour))
	h.write("log/inner.log", minutes(2*hour, 3*hour), six.Add(3*hour))
	h.write("log/torn.log.gz", packed(strings.Repeat(minutes(10*time.Minute, 20*time.Minute), 50))[:120], six.Add(hour))
	got, _, r := h.collect("files: [/log/*]")
	require.Equal(t, "files/log/gate.log.1", got["/log/gate.log.1.gz"].Name)
	e := got["/log/gate.log.1.gz"]
	require.Equal(t, "files/log/gate.log.1", e.Name)
	require.Equal(t, "gzip", e.Cut.Unpacked)
	require.Equal(t, minutes(30*time.Minute, hour), h.text(r, e))
	torn := got["/log/torn.log.gz"]
	require.Equal(t, round.Cut, torn.State, torn.Reason)
	require.Contains(t, torn.Reason, "it ends early")
	require.Contains(t, h.text(r, torn), "2026-03-14 06:10:00 line\n")
}

func TestHistoryNewestVersionsAndCompanions(t *testing.T) {
	h := newHost(t)
	for i, n := range []string{"gate.log", "gate.log.1", "gate.log.2", "gate.log.3"} {
		h.write("log/"+n, minutes(time.Duration(40-10*i)*time.Minute, time.Duration(49-10*i)*time.Minute),
			six.Add(time.Duration(50-10*i)*time.Minute))
	}
	for _, c := range []struct {
		item string
		want []string
	}{
		{"files: [/log/gate*], history: no", []string{"/log/gate.log"}},
		{"files: [/log/gate*], history: 2", []string{"/log/gate.log", "/log/gate.log.1", "/log/gate.log.2"}},
		{"files: [/log/gate*], history: yes", []string{"/log/gate.log", "/log/gate.log.1", "/log/gate.log.2", "/log/gate.log.3"}},
		{"files: [/log/gate*], newest: 1, cut: none", []string{"/log/gate.log"}},
	} {
		got, _, _ := h.collect(c.item)
		var taken []string
		for _, n := range []string{"/log/gate.log", "/log/gate.log.1", "/log/gate.log.2", "/log/gate.log.3"} {
			if got[n].State == round.Taken {
				taken = append(taken, n)
			}
		}
		require.Equal(t, c.want, taken, c.item)
	}
	for _, v := range []string{"4.9", "4.10", "4.2"} {
		h.write("opt/agent-"+v+"/log/a.log", minutes(0, time.Minute), six)
	}
	got, _, _ := h.collect("files: ['/opt/agent-*/log/*.log'], newest-version: true")
	require.Equal(t, round.Taken, got["/opt/agent-4.10/log/a.log"].State)
	require.Equal(t, round.Skipped, got["/opt/agent-4.9/log/a.log"].State)
	require.Contains(t, got["/opt/agent-4.9/log/a.log"].Reason, "the newest is 4.10")

	h.write("trace/x.trc", minutes(0, time.Minute), six)
	h.write("trace/x.aux", "index", six.Add(-999*hour))
	h.write("trace/y.trc", minutes(0, time.Minute), six)
	got, cell, _ := h.collect("files: [/trace/*.trc], with: ['{stem}.aux', '{name}.idx']")
	require.Equal(t, round.Taken, got["/trace/x.aux"].State)
	require.Equal(t, "belongs to /trace/x.trc", got["/trace/x.aux"].Reason)
	require.Equal(t, round.Missing, got["/trace/y.aux"].State)
	require.Equal(t, "belongs to /trace/y.trc and is missing", got["/trace/y.aux"].Reason)
	require.Equal(t, round.Missing, got["/trace/x.trc.idx"].State)
	require.Contains(t, cell.Reason, "missing")
}

func TestLimitsOfAnItem(t *testing.T) {
	h := newHost(t)
	h.write("log/a.log", minutes(0, 29*time.Minute), six)
	h.write("log/b.log", minutes(30*time.Minute, 59*time.Minute), six)
	h.write("log/c.log", minutes(-30*time.Minute, 10*time.Minute), six)
	line := len("2026-03-14 06:00:00 line\n")
	got, cell, r := h.collect(fmt.Sprintf("files: [/log/*], max: %dB", 45*line+3))
	require.Equal(t, round.Taken, got["/log/b.log"].State)
	require.Equal(t, round.Cut, got["/log/a.log"].State)
	require.Equal(t, minutes(15*time.Minute, 29*time.Minute), h.text(r, got["/log/a.log"]))
	require.Contains(t, got["/log/a.log"].Reason, "newest 375 B kept of 750 B (the item's max)")
	require.Equal(t, round.Cut, cell.State)
	require.Contains(t, []round.State{round.Cut, round.Skipped}, got["/log/c.log"].State)

	got, _, r = h.collect("files: [/log/a.log], last-lines: 3")
	require.Equal(t, minutes(27*time.Minute, 29*time.Minute), h.text(r, got["/log/a.log"]))
	got, _, r = h.collect("files: [/log/c.log], last-lines: 2")
	require.Equal(t, minutes(9*time.Minute, 10*time.Minute), h.text(r, got["/log/c.log"]))
}

// cut: files keeps whole members that overlap the window, cut: none all of them.
func TestWholeMembers(t *testing.T) {
	h := newHost(t)
	h.write("log/gate.log", minutes(30*time.Minute, 3*hour), six.Add(3*hour))
	h.write("log/gate.log.1", minutes(-3*hour, -2*hour), six.Add(-2*hour))
	got, _, r := h.collect("files: [/log/*], cut: files")
	require.Equal(t, minutes(30*time.Minute, 3*hour), h.text(r, got["/log/gate.log"]))
	require.Nil(t, got["/log/gate.log"].Cut)
	require.Equal(t, round.Empty, got["/log/gate.log.1"].State)
	got, _, r = h.collect("files: [/log/*], cut: none")
	require.Equal(t, minutes(-3*hour, -2*hour), h.text(r, got["/log/gate.log.1"]))
}

func TestRotateFirst(t *testing.T) {
	h := newHost(t)
	h.write("log/gate.log", minutes(0, time.Minute), six)
	mark := filepath.Join(h.root, "rotated")
	got, cell, _ := h.collect("files: [/log/*], rotate-first: 'touch " + mark + "'")
	require.FileExists(t, mark)
	require.Equal(t, round.Taken, cell.State)
	require.Equal(t, 0, got["touch "+mark].Command.Exit)
	got, cell, _ = h.collect("files: [/log/*], rotate-first: 'echo no such log; exit 3'")
	require.Equal(t, round.Failed, cell.State)
	require.Contains(t, cell.Reason, "rotate-first ended with code 3; the log is taken as it is: no such log")
	require.Equal(t, round.Taken, got["/log/gate.log"].State)
}

// rotating renames the log at the moment when its rotated member is opened to be taken.
type rotating struct {
	reach.FS
	once   sync.Once
	opens  map[string]int
	mu     sync.Mutex
	rotate func()
}

func (r *rotating) Open(name string) (fs.File, error) {
	r.mu.Lock()
	r.opens[name]++
	n := r.opens[name]
	r.mu.Unlock()
	if name == "log/gate.log.1" && n == 2 {
		r.once.Do(r.rotate)
	}
	return r.FS.Open(name)
}

func TestRotationWhileWeRead(t *testing.T) {
	h := newHost(t)
	h.write("log/gate.log", minutes(40*time.Minute, 55*time.Minute), six.Add(55*time.Minute))
	h.write("log/gate.log.1", minutes(20*time.Minute, 39*time.Minute), six.Add(39*time.Minute))
	h.wrap = func(f reach.FS) reach.FS {
		return &rotating{FS: f, opens: map[string]int{}, rotate: func() {
			require.NoError(t, os.Rename(filepath.Join(h.root, "log/gate.log.1"), filepath.Join(h.root, "log/gate.log.2")))
			require.NoError(t, os.Rename(filepath.Join(h.root, "log/gate.log"), filepath.Join(h.root, "log/gate.log.1")))
			h.write("log/gate.log", minutes(56*time.Minute, 59*time.Minute), six.Add(59*time.Minute))
		}}
	}
	got, _, r := h.collect("files: [/log/*]")
	all := ""
	for _, e := range got {
		if e.Name != "" {
			all += h.text(r, e)
		}
	}
	require.Equal(t, round.Taken, got["/log/gate.log%~again"].State, "the new current file has an entry of its own")
	for at := 20 * time.Minute; at < time.Hour; at += time.Minute {
		require.Contains(t, all, six.Add(at).Format("2006-01-02 15:04:05"), "nothing is lost")
	}
}

func TestClocks(t *testing.T) {
	base, err := window.New([]window.Span{{From: six, To: six.Add(hour)}}, time.UTC)
	require.NoError(t, err)
	for _, c := range []struct {
		clock round.Clock
		want  string
		text  string
	}{
		{round.Clock{Measured: true, Offset: 90 * time.Second, Uncertainty: time.Second}, "2026-03-14 06:00 to 07:01:31 (UTC, +00:00)",
			"1m30s ahead of ours (± 1s)"},
		{round.Clock{Measured: true, Offset: -90 * time.Second, Uncertainty: time.Second}, "2026-03-14 05:58:29 to 07:00 (UTC, +00:00)",
			"1m30s behind ours (± 1s)"},
		{round.Clock{Measured: true, Offset: 30 * hour, Uncertainty: time.Second},
			"2026-03-14 06:00 to 07:00, 2026-03-15 11:59:59 to 13:00:01 (UTC, +00:00)", "30h0m0s ahead of ours (± 1s)"},
		{round.Clock{Measured: true, Offset: time.Millisecond, Uncertainty: time.Second},
			"2026-03-14 06:00 to 07:00 (UTC, +00:00)", "as ours (± 1s)"},
		{round.Clock{How: "it cannot run commands"}, "2026-03-14 05:55 to 07:05 (UTC, +00:00)",
			"not measured: it cannot run commands; 5m0s more are taken on both sides"},
	} {
		require.Equal(t, c.want, c.clock.Widen(base).String())
		require.Equal(t, c.text, c.clock.String())
	}
	for text, want := range map[string]bool{"1773468720.123456789": true, "1773468720.%N": true, "1773468720": true, "x": false, "": false,
		"99999999999999999999": false} {
		_, _, ok := parseDate(text)
		require.Equal(t, want, ok, text)
	}
	for _, noise := range []string{"", "Welcome to gate-2\n\n14 updates\n"} {
		var a answer
		for _, b := range []byte(noise + "1773468720.500000000\nyes\n") {
			_, _ = a.Write([]byte{b})
		}
		require.Equal(t, six.Add(12*time.Minute+500*time.Millisecond), a.there.UTC())
		require.Equal(t, "yes\n", a.buf.String()[a.rest:])
	}
	for text, want := range map[string]string{"yes\n": "yes", "no\n": "no", "Leap status     : Normal\n": "yes",
		"Leap status     : Not synchronised\n": "no", "": "", "sh: no such thing": ""} {
		require.Equal(t, want, synchronised(text), text)
	}
}

// A date in a comment makes no log of a configuration file: its age decides, and it is taken whole.
func TestADateInACommentMakesNoLog(t *testing.T) {
	h := newHost(t)
	config := "# generated 2024-01-01 00:00:00\n" + strings.Repeat("key = value\n", 20)
	h.write("etc/gate.conf", config, time.Now())
	got, _, round := h.collect("files: [/etc/*]")
	require.Equal(t, config, h.text(round, got["/etc/gate.conf"]))
	require.Contains(t, got["/etc/gate.conf"].Reason, "no dated line; taken whole")
}
