package flow

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/round"
	"envask/internal/window"
)

func TestTryingAnAsk(t *testing.T) {
	a := &App{Now: func() time.Time { return time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC) }}
	k, err := ask.Parse("a.yaml", []byte("ask: a\nvendor: v\nitems:\n  - {id: log, of: [gate], files: ['/l/*.log*', '/none/*']}\n  - {id: conf, files: [/etc/*], cut: none}\n  - {id: run, run: touch here}\n"))
	require.NoError(t, err)
	lines := "2026-03-14 06:00:00 a\n2026-03-14 06:30:00 b\n2026-03-14 08:00:00 c\n"
	for name, layout := range map[string]string{"a system's top": "", "an archive's folder": "top/systems/gate-1/files", "a round's folder": "raw/gate-1/files", "systems side by side": "gate-1/files"} {
		dir := t.TempDir()
		write := func(file, text string) {
			file = filepath.Join(dir, layout, file)
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		}
		write("l/gate.log", lines)
		write("l/gate.log.1", "2026-03-13 06:00:00 a\n")
		write("etc/gate.conf", "x = 1\n")
		got, err := a.TryAsk(context.Background(), TryRequest{Ask: k, Against: dir, Zone: "UTC", Depth: ask.Deep,
			Window: window.Given{From: []string{"2026-03-14 06:10"}, To: []string{"2026-03-14 07:00"}}})
		require.NoError(t, err, name)
		states := map[string]round.State{}
		sizes := map[string]int64{}
		for _, e := range got.Entries {
			states[e.Source] = e.State
			if e.Price != nil {
				sizes[e.Source] = e.Price.Bytes
			}
		}
		require.Equal(t, map[string]round.State{"/l/gate.log": round.Taken, "/l/gate.log.1": round.Empty, "/etc/gate.conf": round.Taken, "touch here": round.Taken}, states, name)
		require.EqualValues(t, 22, sizes["/l/gate.log"], name)
		require.Equal(t, []string{"log: /none/*"}, got.Unused, name)
		require.NoFileExists(t, filepath.Join(dir, "here"))
		require.Nil(t, got.Price.Loses)
	}
	for _, q := range []TryRequest{{Against: "/no/such/folder"}, {Against: t.TempDir(), Zone: "No/Zone"}, {Against: t.TempDir(), Window: window.Given{From: []string{"soon"}}}} {
		q.Ask = k
		_, err := a.TryAsk(context.Background(), q)
		require.Equal(t, fault.Usage, fault.ClassOf(err), "%+v", q)
	}
}

func TestTheVerdictOfAProbe(t *testing.T) {
	there := collect.Probed{System: "a", Reached: true, State: round.Taken}
	gone := collect.Probed{System: "b", State: round.Failed, Reason: "down"}
	unknown := collect.Probed{System: "b", State: round.Refused, Reason: "key"}
	cell := func(s round.State, required bool) round.Cell {
		return round.Cell{System: "a", Item: "x", State: s, Required: required}
	}
	for _, c := range []struct {
		name    string
		systems []collect.Probed
		items   bool
		cells   round.Coverage
		class   fault.Class
	}{
		{"all fine", []collect.Probed{there}, true, round.Coverage{cell(round.Taken, true)}, 0},
		{"nothing in the window yet", []collect.Probed{there}, true, round.Coverage{cell(round.Empty, true)}, 0},
		{"something missing that nobody requires", []collect.Probed{there}, true, round.Coverage{cell(round.Denied, false)}, 0},
		{"something required is denied", []collect.Probed{there}, true, round.Coverage{cell(round.Denied, true)}, fault.Incomplete},
		{"not approved, so not looked at", []collect.Probed{there}, false, round.Coverage{cell("", true)}, 0},
		{"one system down, of an ask that is not approved", []collect.Probed{there, gone}, false, nil, fault.Incomplete},
		{"one system down of which nothing is required", []collect.Probed{there, gone}, true, nil, fault.Incomplete},
		{"the only system refused", []collect.Probed{unknown}, true, nil, fault.Refused},
	} {
		err := (&Probed{Systems: c.systems, Items: c.items, Coverage: c.cells}).verdict()
		if c.class == 0 {
			require.NoError(t, err, c.name)
			continue
		}
		require.Equal(t, c.class, fault.ClassOf(err), c.name)
	}
	require.Positive(t, freeSpace(t.TempDir()))
	require.EqualValues(t, -1, freeSpace("/no/such/folder"))
}
