package flow

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/reach"
	"envask/internal/redact"
	"envask/internal/site"
	"envask/internal/submit"
	"envask/internal/undo"
)

// desk is an engineer with one local case.
type desk struct {
	app   *App
	c     *casefile.Case
	dir   string
	notes []string
}

func newDesk(t *testing.T) *desk {
	t.Helper()
	d := &desk{dir: t.TempDir()}
	d.app = &App{Home: casefile.Home{Dir: filepath.Join(d.dir, "home")}, Version: "test", Who: "m.quintela", Now: time.Now, Command: "test",
		Dialer: func(s *site.Site, _ map[string]string) (*reach.Dialer, error) {
			return &reach.Dialer{Site: s, HostKeys: &reach.HostKeys{}}, nil
		},
		Report: func(e any) {
			if n, ok := e.(Note); ok {
				d.notes = append(d.notes, n.Text)
			}
		}}
	d.write(t, "log/gate.log", "2026-03-14T06:12:00Z password=brass-Kelp-71! from 192.0.2.61\n")
	require.NoError(t, os.Mkdir(filepath.Join(d.dir, "stick"), 0o700))
	d.write(t, "ask.yaml", fmt.Sprintf("ask: a\nvendor: Ostrevane Gate Systems\nitems:\n  - {id: log, files: ['%[1]s/log/*'], cut: "+
		"none}\nroutes:\n  - {name: stick, to: '%[1]s/stick'}\n  - {name: tiny, to: '%[1]s/stick', limit: 10B}\n", d.dir))
	d.write(t, "systems.yaml", "site: pier\nsystems: [{name: pc, local: true}]\n")
	o, err := d.app.Open(OpenRequest{Name: "26031407", Ask: filepath.Join(d.dir, "ask.yaml"),
		Systems: filepath.Join(d.dir, "systems.yaml")})
	require.NoError(t, err)
	require.NoError(t, d.app.PutApproval(o.Ask))
	d.c = o.Case
	return d
}

func (d *desk) write(t *testing.T, name, text string) {
	t.Helper()
	file := filepath.Join(d.dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
}

func (d *desk) collect(t *testing.T) {
	t.Helper()
	_, err := d.app.Collect(context.Background(), d.c, CollectRequest{Depth: ask.Standard, Jobs: 2})
	require.NoError(t, err)
}

func (d *desk) pack(t *testing.T) *Packed {
	t.Helper()
	p, err := d.app.Pack(context.Background(), d.c, PackRequest{})
	require.NoError(t, err)
	return p
}

func yes(string) (bool, error) { return true, nil }

func TestASentArchiveIsNeverOverwritten(t *testing.T) {
	d := newDesk(t)
	d.collect(t)
	first := d.pack(t)
	_, err := d.app.Submit(context.Background(), d.c, SubmitRequest{Routes: []string{"stick"}, Confirm: yes})
	require.NoError(t, err)
	again := d.pack(t)
	require.True(t, again.Same)
	require.Equal(t, first.Archive, again.Archive)

	d.c.Title = "another title makes another archive"
	require.NoError(t, d.c.Save())
	second := d.pack(t)
	require.Equal(t, strings.TrimSuffix(first.Archive, ".tar.gz")+"-2.tar.gz", second.Archive)
	sum, err := durable.FileSum(t.Context(), first.Archive)
	require.NoError(t, err)
	require.Equal(t, first.SHA256, sum)
	require.Contains(t, strings.Join(d.notes, "\n"), "was sent already and stays")
	require.Equal(t, second.SHA256, d.pack(t).SHA256)
}

// Whatever text goes into an archive, its identities are in the case's table afterwards: reasons, notes, answers, names.
func TestEveryAliasInAnArchiveIsInTheTable(t *testing.T) {
	d := newDesk(t)
	d.write(t, "log/from-198.51.100.7.log", "nothing\n")
	d.c.Title = "seen from 198.51.100.8"
	d.c.Brief = map[string]string{"who": "ines.tavares@merrowick.example", "where": "198.51.100.9"}
	require.NoError(t, d.c.Save())
	_, err := d.app.Collect(context.Background(), d.c, CollectRequest{Depth: ask.Standard, Note: "after 198.51.100.10 was restarted"})
	require.NoError(t, err)
	p := d.pack(t)
	table, err := redact.LoadTable(d.c.AliasFile())
	require.NoError(t, err)
	known := map[string]bool{}
	for _, a := range table.All() {
		known[a.Original] = true
	}
	for _, o := range []string{"192.0.2.61", "198.51.100.7", "198.51.100.8", "198.51.100.9", "198.51.100.10",
		"ines.tavares@merrowick.example"} {
		require.True(t, known[o], o)
	}
	before := len(known)
	require.True(t, d.pack(t).Same)
	table, err = redact.LoadTable(d.c.AliasFile())
	require.NoError(t, err)
	require.Len(t, table.All(), before)
	require.Empty(t, p.OpenQuestions)
}

func TestLeftoversOfACrashAreRemoved(t *testing.T) {
	d := newDesk(t)
	d.collect(t)
	d.pack(t)
	// As a submit leaves it that was killed: written down, made, never finished.
	mine, gone, foreign := filepath.Join(d.dir, "stick", ".x.part"), filepath.Join(d.dir, "stick", ".y.part"),
		filepath.Join(d.dir, "stick", ".z.part")
	d.write(t, "stick/.x.part", "half")
	d.write(t, "stick/.z.part", "not ours")
	w, err := d.c.Write("test")
	require.NoError(t, err)
	for _, p := range []string{mine, gone} {
		_, err = undo.Log{Ledger: w.Ledger}.Begin("file", "route stick", p)
		require.NoError(t, err)
	}
	_, err = undo.Log{Ledger: w.Ledger}.Begin("file", "route other", foreign)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	v, err := d.app.ShowCase(d.c)
	require.NoError(t, err)
	require.Len(t, v.Pending, 3)

	_, err = d.app.Submit(context.Background(), d.c, SubmitRequest{Routes: []string{"stick"}, Confirm: yes})
	require.NoError(t, err)
	require.NoFileExists(t, mine)
	require.FileExists(t, foreign, "only what the ledger says is ours on this route is removed")
	v, err = d.app.ShowCase(d.c)
	require.NoError(t, err)
	require.Len(t, v.Pending, 1)
	require.Len(t, v.Receipts, 1)
}

func TestSubmitAsksAndRefuses(t *testing.T) {
	d := newDesk(t)
	d.collect(t)
	d.pack(t)
	for _, c := range []struct {
		q    SubmitRequest
		want string
		code int
	}{
		{SubmitRequest{Confirm: yes}, "several routes: stick, tiny", 2},
		{SubmitRequest{Routes: []string{"tiny"}, Confirm: yes}, "takes 10 B at most", 4},
		{SubmitRequest{Routes: []string{"stick"}}, "no terminal to ask", 4},
		{SubmitRequest{Routes: []string{"stick"}, Confirm: func(string) (bool, error) { return false, nil }}, "not sent, as you said", 4},
		{SubmitRequest{Routes: []string{"stick"}, Confirm: yes, Archive: filepath.Join(d.dir, "nowhere.tar.gz")}, "no such file", 1},
	} {
		_, err := d.app.Submit(context.Background(), d.c, c.q)
		require.ErrorContains(t, err, c.want)
		require.Equal(t, c.code, fault.ExitCode(err), c.want)
	}
	left, err := os.ReadDir(filepath.Join(d.dir, "stick"))
	require.NoError(t, err)
	require.Empty(t, left)
}

// What an interrupted submit says of the other side is what is known of it.
func TestWhatAnInterruptedSubmitLeft(t *testing.T) {
	d := newDesk(t)
	for _, c := range []struct {
		err  error
		want string
	}{
		{context.Canceled, "interrupted; nothing was left there"},
		{fmt.Errorf("%w; %w", context.Canceled, submit.ErrUnderway), "interrupted; whether the other side took it is not known"},
		{&someParts{2, 3, context.Canceled}, "interrupted; 2 of 3 parts are there; nothing was left of the next"},
	} {
		require.ErrorContains(t, d.app.interruptedOn(d.c, ask.Route{Name: "stick"}, c.err), c.want)
	}
	d.collect(t)
	d.pack(t)
	ctx, cancel := context.WithCancel(context.Background())
	parts := 0
	d.app.Report = func(e any) {
		if p, ok := e.(SubmitProgress); ok && p.Done > 0 {
			parts++
			cancel()
		}
	}
	_, err := d.app.Submit(ctx, d.c, SubmitRequest{Routes: []string{"stick"}, Confirm: yes})
	require.Positive(t, parts)
	left, readErr := os.ReadDir(filepath.Join(d.dir, "stick"))
	require.NoError(t, readErr)
	if err == nil { // it had arrived already
		require.Len(t, left, 1)
		return
	}
	require.Equal(t, len(left) == 0, strings.Contains(err.Error(), "nothing was left there"), "%v: %v", err, left)
}

// The leak check reads what was really written: a value that gets past the replacing is found, and the archive is not kept.
func TestALeakIsRefused(t *testing.T) {
	d := newDesk(t)
	d.write(t, "log/a.log", "token=lighthouse-4471\n")
	d.collect(t)
	w, err := d.c.Write("test")
	require.NoError(t, err)
	defer w.Close()
	k, err := d.app.approvedAsk(d.c)
	require.NoError(t, err)
	p := newPacking(d.app, d.c, k, PackRequest{})
	sel, rules := &selection{job: p.job}, newRuleset(p.job)
	require.NoError(t, p.prepare(w, sel, rules))
	p.tmp = t.TempDir()
	rules.writer.New = func() any {
		return redact.NewEngine(redact.Options{Keep: []string{"lighthouse-4471"}, Aliases: rules.table})
	} // it lets one through
	_, err = p.run(context.Background(), w, &evidence{job: p.job, sel: sel, rules: rules})
	require.ErrorContains(t, err, "a value that must not leave is still on the system: systems/pc/files"+d.dir+
		"/log/a.log at byte 6 (rule keyed-secret)")
	require.Equal(t, fault.Refused, fault.ClassOf(err))
	require.NotContains(t, err.Error(), "lighthouse")
}

func TestInterruptedPackLeavesNothing(t *testing.T) {
	d := newDesk(t)
	d.collect(t)
	killed := filepath.Join(d.c.OutDir(), unfinished+"1") // what a run left that was killed goes with the next one
	require.NoError(t, os.MkdirAll(killed, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(killed, "archive"), []byte("half"), 0o600))
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := d.app.Pack(ctx, d.c, PackRequest{})
	require.Equal(t, 130, fault.ExitCode(err))
	left, err := os.ReadDir(d.c.OutDir())
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestRefusedAltogether(t *testing.T) {
	d := newDesk(t)
	d.app.Dialer = func(s *site.Site, _ map[string]string) (*reach.Dialer, error) {
		return nil, fault.New(fault.Usage, "", "", "no dialer", "")
	}
	_, err := d.app.Collect(context.Background(), d.c, CollectRequest{Depth: ask.Standard})
	require.ErrorContains(t, err, "no dialer")
	rounds, err := d.app.ShowCase(d.c)
	require.NoError(t, err)
	require.Empty(t, rounds.Rounds, "nothing was begun")
}
