package flow

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/round"
	"envask/internal/undo"
)

// richer gives a desk whose ask has sets, a group, and an item that lacks.
func richer(t *testing.T) *desk {
	d := newDesk(t)
	d.write(t, "ask.yaml", strings.ReplaceAll(`ask: a
vendor: Ostrevane Gate Systems
items:
  - {id: log, files: ['DIR/log/*'], cut: none, required: true}
  - {id: dump, files: ['DIR/dump/*'], cut: none}
  - {id: deep, run: echo, depth: deep}
sets: [{name: crash, items: [dump], text: do not restart}]
groups: [{name: pair, items: [log, dump], why: they explain each other}]
routes: [{name: stick, to: 'DIR/stick'}]
`, "DIR", d.dir))
	d.write(t, "systems.yaml", "site: pier\nsystems:\n  - {name: pc, local: true, before-you-start: plug in the key}\n  - {name: old, folder: "+d.dir+"/nowhere}\n")
	k, err := LoadAsk(filepath.Join(d.dir, "ask.yaml"))
	require.NoError(t, err)
	require.NoError(t, d.app.PutApproval(k))
	return d
}

func states(cov round.Coverage) map[string]round.State {
	m := map[string]round.State{}
	for _, c := range cov {
		m[c.System+" "+c.Item] = c.State
	}
	return m
}

// A group that is not whole makes the collection incomplete, and --missing takes just what is lacking.
func TestGroupsAndWhatIsMissing(t *testing.T) {
	d := richer(t)
	q := CollectRequest{Depth: ask.Standard, Jobs: 2, Systems: []string{"pc"}}
	_, err := d.app.Collect(context.Background(), d.c, CollectRequest{Depth: ask.Standard, Jobs: 2, Missing: true})
	require.Equal(t, fault.Usage, fault.ClassOf(err))
	require.ErrorContains(t, err, "there is no round yet to go on from")

	got, err := d.app.Collect(context.Background(), d.c, q)
	require.Equal(t, fault.Incomplete, fault.ClassOf(err))
	require.ErrorContains(t, err, "the group pair is not whole: pc lacks dump")
	require.Equal(t, []round.GroupResult{{Name: "pair", Why: "they explain each other", Items: []string{"log", "dump"}, Lacking: []string{"pc lacks dump"}}}, got.Round.Groups)

	p := d.pack(t)
	require.Contains(t, strings.Join(p.Lacking, "\n"), "group pair: pc lacks dump", "the archive says it, too")

	d.write(t, "dump/core", "of the agent\n")
	q.Missing = true
	got, err = d.app.Collect(context.Background(), d.c, q)
	require.NoError(t, err)
	s := states(got.Coverage)
	require.Equal(t, round.Taken, s["pc dump"])
	require.Equal(t, round.Skipped, s["pc log"])
	require.Equal(t, "r2", got.Round.ID)

	q.Systems = nil
	got, err = d.app.Collect(context.Background(), d.c, q)
	require.Equal(t, fault.Incomplete, fault.ClassOf(err), "the other system is still lacking")
	require.Equal(t, round.Failed, states(got.Coverage)["old log"])
}

// What has to be done first is asked; what is larger than it should be, too. A no changes nothing.
func TestQuestionsBeforeACollection(t *testing.T) {
	d := richer(t)
	d.write(t, "dump/core", strings.Repeat("x", 5000))
	q := CollectRequest{Depth: ask.Standard, Jobs: 2, Systems: []string{"pc"}, Sets: []string{"crash"}}
	var asked []string
	answer := map[string]bool{}
	d.app.Confirm = func(question string) (bool, error) { asked = append(asked, question); return answer["ready"], nil }
	d.app.Large = func(why string) (bool, error) { asked = append(asked, why); return answer["large"], nil }
	var sets []string
	report := d.app.Report
	d.app.Report = func(e any) {
		if s, ok := e.(SetChosen); ok {
			sets = append(sets, s.Set.Text)
		}
		report(e)
	}
	_, err := d.app.Collect(context.Background(), d.c, q)
	require.ErrorContains(t, err, "not ready; nothing was collected")
	require.Equal(t, []string{"Before pc can be reached: plug in the key. Is that done?"}, asked)
	require.Equal(t, []string{"do not restart"}, sets)

	answer["ready"], asked = true, nil
	q.Budget = 1000
	_, err = d.app.Collect(context.Background(), d.c, q)
	require.Equal(t, fault.Refused, fault.ClassOf(err))
	require.ErrorContains(t, err, "it would take about 4.9 KiB, and the budget is 1000 B")
	require.Len(t, asked, 2)
	rounds, err := round.List(d.c)
	require.NoError(t, err)
	require.Empty(t, rounds)

	answer["large"] = true
	got, err := d.app.Collect(context.Background(), d.c, q)
	require.NoError(t, err)
	require.Equal(t, round.Taken, states(got.Coverage)["pc dump"])

	d.app.Confirm = func(string) (bool, error) { return false, errors.New("the terminal is gone") }
	_, err = d.app.Collect(context.Background(), d.c, q)
	require.ErrorContains(t, err, "the terminal is gone")
}

// Passes go into one round until one closes it; then --again begins a new one of just these systems.
func TestPassesAndAgain(t *testing.T) {
	d := richer(t)
	d.write(t, "dump/core", "x")
	require.NoError(t, os.MkdirAll(filepath.Join(d.dir, "nowhere", d.dir, "log"), 0o700))
	q := CollectRequest{Depth: ask.Standard, Jobs: 2, Systems: []string{"pc"}, LeaveOpen: true}
	got, err := d.app.Collect(context.Background(), d.c, q)
	require.NoError(t, err, "what an open round lacks is not known yet")
	require.True(t, got.Round.Open)
	require.False(t, got.Round.Finished())
	require.NoError(t, os.Remove(filepath.Join(d.dir, "dump", "core")))

	got, err = d.app.Collect(context.Background(), d.c, CollectRequest{Depth: ask.Standard, Jobs: 2, Systems: []string{"old"}})
	require.Equal(t, fault.Incomplete, fault.ClassOf(err))
	require.Equal(t, "r1", got.Round.ID)
	s := states(got.Coverage)
	require.Equal(t, round.Taken, s["pc dump"], "of the first pass")
	require.Equal(t, round.Missing, s["old log"])

	got, err = d.app.Collect(context.Background(), d.c, CollectRequest{Depth: ask.Standard, Jobs: 2, Again: []string{"pc"}})
	require.Error(t, err)
	require.Equal(t, "r2", got.Round.ID)
	s = states(got.Coverage)
	require.Equal(t, []round.State{round.Missing, round.Skipped}, []round.State{s["pc dump"], s["old log"]})
	_, err = d.app.Collect(context.Background(), d.c, CollectRequest{Depth: ask.Standard, Jobs: 2, Sets: []string{"freeze"}})
	require.ErrorContains(t, err, `there is no set "freeze"`)
}

// Only what the ledger says is ours, and has our marker, is removed; the rest stays in the list with its reason.
func TestTidyRemovesWhatIsOurs(t *testing.T) {
	d := newDesk(t)
	ours, theirs, file := filepath.Join(d.dir, "envask-1"), filepath.Join(d.dir, "envask-2"), filepath.Join(d.dir, "made.tgz")
	d.write(t, "envask-1/ours/made-by-envask", "")
	d.write(t, "envask-1/made/big", "x")
	d.write(t, "envask-2/something", "not ours")
	d.write(t, "made.tgz", "x")
	left, err := d.app.Tidy(context.Background(), d.c, nil)
	require.NoError(t, err)
	require.Empty(t, left)

	w, err := d.c.Write("test")
	require.NoError(t, err)
	log := undo.Log{Ledger: w.Ledger}
	for _, c := range [][3]string{{collect.KindFolder, "pc", ours}, {collect.KindFolder, "pc", theirs}, {collect.KindFile, "pc", file}, {collect.KindFolder, "gone", "/tmp/x"}, {"file", "route stick", "/in/x.part"}} {
		_, err := log.Begin(c[0], c[1], c[2])
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	left, err = d.app.Tidy(context.Background(), d.c, nil)
	require.ErrorContains(t, err, "2 things of ours are still there")
	require.NoDirExists(t, ours)
	require.NoFileExists(t, file)
	require.FileExists(t, filepath.Join(theirs, "something"), "a folder without our marker is not touched")
	why := map[string]string{}
	for _, l := range left {
		why[l.Path] = l.Why
	}
	require.Contains(t, why[theirs], "it does not have our marker")
	require.Contains(t, why["/tmp/x"], "no such system in the systems file")
	require.Contains(t, why["/in/x.part"], "the next envask submit over that route removes it")
	require.Empty(t, why[ours])
	pending, err := undo.Pending(d.c)
	require.NoError(t, err)
	require.Len(t, pending, 3)
}
