package flow

import (
	"testing"
	"time"

	"envask/internal/round"

	"github.com/stretchr/testify/require"
)

func TestThePriceOfAWindow(t *testing.T) {
	now := time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)
	file := func(system, item, source string, first time.Duration, bytes, more int64) round.Entry {
		return round.Entry{System: system, Item: item, Source: source, First: now.Add(first), Price: &round.Price{Bytes: bytes, HourMore: more}}
	}
	p := priceOf([]round.Entry{
		file("gate-1", "log", "/l/gate.log", -2*time.Hour, 100, 10), file("gate-1", "log", "/l/gate.log.1", -14*time.Hour, 100, 10), file("gate-1", "log", "/l/gate.log.2.gz", -26*time.Hour, 100, 0),
		file("fare-1", "web", "/l/web.log", -3*time.Hour, 5000, 0), file("fare-1", "web", "/l/web.log.1", -8*time.Hour, 0, 0),
		file("fare-1", "old", "/l/old.log", -900*time.Hour, 1, 0), file("fare-1", "old", "/l/old.log.1", -901*time.Hour, 1, 0),
		{System: "gate-1", Item: "state", Command: &round.Ran{}},
	}, map[string]float64{"gate-1": 100, "fare-1": 1000}, now)
	require.Equal(t, []string{"web", "log", "old"}, []string{p.Items[0].Item, p.Items[1].Item, p.Items[2].Item})
	require.EqualValues(t, 5302, p.Bytes)
	require.EqualValues(t, 20, p.HourMore)
	require.InDelta(t, 5.002, p.Took.Seconds(), 0.001, "systems are taken side by side")
	require.Equal(t, 3*time.Second, p.Items[1].Took)
	require.Equal(t, &Loss{System: "fare-1", Set: "/l/web.log", Oldest: now.Add(-8 * time.Hour), At: now.Add(2 * time.Hour)}, p.Loses)
	require.Nil(t, priceOf(nil, nil, now).Loses)
}
