package collect

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/round"
	"envask/internal/spill"
)

// sources gives the keys of the entries of a round in their order.
func sources(t *testing.T, r *round.Round) (keys []string) {
	t.Helper()
	require.NoError(t, r.Entries(func(e round.Entry) error {
		keys = append(keys, e.System+"\x00"+e.Item+"\x00"+e.Source)
		return nil
	}))
	return keys
}

// More files than are sorted at once, with names that are no text, in folders and patterns that overlap: each is taken once, and the
// log of the round tells it once, in order.
func TestManyFilesWithOddNames(t *testing.T) {
	b := newBench(t, 0)
	for i := range 5000 {
		name := filepath.Join(b.root, "log", fmt.Sprintf("d%d", i%3), fmt.Sprintf("caf\xe9-%05d\xff.log", i))
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte("x"), 0o644))
	}
	files := b.c.Ask.Items[0].Spec
	require.Equal(t, "files", files.Kind())
	r, err := b.c.Run(context.Background(), b.w, "", "test")
	require.NoError(t, err)
	require.Equal(t, 5000, r.Coverage[0].Files)
	require.Equal(t, round.Taken, r.Coverage[0].State)
	keys := sources(t, r)
	require.Len(t, keys, 5001)
	require.True(t, slices.IsSorted(keys))
	require.True(t, r.Sorted)
	n := 0
	require.NoError(t, filepath.WalkDir(r.RawDir(), func(_ string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			n++
		}
		return err
	}))
	require.Equal(t, 5001, n)
	require.NoDirExists(t, r.PartDir())
	left, err := os.ReadDir(r.Dir())
	require.NoError(t, err)
	for _, x := range left {
		require.NotContains(t, x.Name(), "tmp")
		require.NotContains(t, x.Name(), "list-")
	}
}

// What a file was taken as before is not told any more when it was taken again; the ledger vouches for what is there.
func TestTheLogOfARoundIsArranged(t *testing.T) {
	b := newBench(t, 40)
	ctx, cancel := context.WithCancel(context.Background())
	taken := 0
	b.c.Report = func(e Event) {
		if e.Kind == FileDone {
			if taken++; taken == 25 {
				cancel()
			}
		}
	}
	_, err := b.c.Run(ctx, b.w, "", "test")
	require.ErrorIs(t, err, context.Canceled)
	b.c.Report = nil
	r, err := b.c.Run(context.Background(), b.w, "", "test")
	require.NoError(t, err)

	lines := 0
	require.NoError(t, r.EachLine(func(l round.Line, _ int64) error {
		if l.Entry != nil {
			lines++
		}
		return nil
	}))
	keys := sources(t, r)
	require.Len(t, keys, 41)
	require.Equal(t, len(keys), lines, "each once")
	again, err := round.Load(b.w.Case, r.ID)
	require.NoError(t, err)
	require.Equal(t, keys, sources(t, again))

	// A log of before rounds were arranged gives the same.
	data, err := os.ReadFile(r.LogFile())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(r.LogFile(), slices.Concat(data, data), 0o600))
	again.Sorted = false
	require.Equal(t, keys, sources(t, again))
}

// moved tells what came up or changed since files were listed, whatever else lies between.
func TestMovedFilesAreFound(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	f := &filesWork{work: &work{dryRun: true}, names: spill.NewHashes()}
	list := func() *spill.List[listed] {
		l := spill.NewList[listed]("")
		names, err := os.ReadDir(dir)
		require.NoError(t, err)
		var all []listed
		for _, x := range names {
			info, err := x.Info()
			require.NoError(t, err)
			all = append(all, newListed("log/"+x.Name(), info))
		}
		slices.SortFunc(all, func(a, b listed) int { return bySet(&a, &b) })
		for i := range all {
			require.NoError(t, l.Add(&all[i]))
		}
		return l
	}
	write("a.log", "current")
	write("a.log.1", "older")
	write("b.log", "a long current one")
	write("c.log", "same")
	before := list()
	require.NoError(t, before.Each(func(l *listed) error { f.names.Put(l.Path); return nil }))
	write("a.log", "current, and it grew") // not another file
	write("a.log.1", "what was current")   // another content under the name
	write("a.log.2", "older")              // new
	write("b.log", "short")                // began anew
	moved, err := f.moved(before, list())
	require.NoError(t, err)
	was := map[string]bool{}
	require.NoError(t, moved.Each(func(l *listed) error { was[string(l.Path)] = l.Was; return nil }))
	require.Equal(t, map[string]bool{"log/a.log.1": true, "log/a.log.2": false, "log/b.log": true}, was)
}

// A place that an entry of another item has with other bytes is never given away, before and after that entry stands in the log.
func TestClaimsAreKept(t *testing.T) {
	b := newBench(t, 1)
	r, err := b.c.Run(context.Background(), b.w, "", "test")
	require.NoError(t, err)
	require.NoError(t, r.OpenLog())
	defer func() { require.NoError(t, r.CloseLog(false)) }()
	c := newClaims(r)
	mine := &round.Entry{Item: "a", Source: "/x", Name: "files/x", SHA256: "11", State: round.Taken}
	other := &round.Entry{Item: "b", Source: "/x", Name: "files/x", SHA256: "22"}
	same := &round.Entry{Item: "b", Source: "/x", Name: "files/x", SHA256: "11", State: round.Taken}
	check := func(e *round.Entry, free, there bool) {
		t.Helper()
		gotFree, gotThere := c.free("files/x", e)
		require.Equal(t, []bool{free, there}, []bool{gotFree, gotThere})
	}
	check(mine, true, false)
	entry := *mine
	c.fresh["files/x"] = &entry
	check(mine, true, false)
	check(other, false, false)
	check(same, true, true)
	at, err := r.Record(round.Line{Entry: mine})
	require.NoError(t, err)
	c.hold(mine, at)
	require.Empty(t, c.fresh)
	check(mine, true, false)
	check(other, false, false)
	check(same, true, true)
	at, err = r.Record(round.Line{Entry: same})
	require.NoError(t, err)
	c.hold(same, at)
	check(&round.Entry{Item: "a", Source: "/x", SHA256: "33"}, false, false) // two have it: not even its first owner may change it
}
