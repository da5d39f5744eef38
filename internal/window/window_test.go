package window

import (
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"
)

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := ParseZone(name)
	require.NoError(t, err)
	return z
}

func TestParseTime(t *testing.T) {
	lisbon := zone(t, "Europe/Lisbon")
	now := time.Date(2026, 7, 15, 9, 0, 0, 0, lisbon)
	for _, c := range []struct {
		text string
		edge Edge
		want string // in UTC
	}{
		{"2026-03-14T06:12:00Z", Begin, "2026-03-14T06:12:00Z"},
		{"2026-03-14T06:12:00+02:00", Begin, "2026-03-14T04:12:00Z"},
		{"2026-03-14T06:12Z", Begin, "2026-03-14T06:12:00Z"},
		{"2026-03-14 06:12 +05:30", Begin, "2026-03-14T00:42:00Z"},
		{"2026-03-14 06:12", Begin, "2026-03-14T06:12:00Z"},
		{"2026-07-14 06:12:30", Begin, "2026-07-14T05:12:30Z"},
		{"06:12", Begin, "2026-07-15T05:12:00Z"},
		{"today 06:12", Begin, "2026-07-15T05:12:00Z"},
		{"yesterday 22:00", Begin, "2026-07-14T21:00:00Z"},
		{"now", Begin, "2026-07-15T08:00:00Z"},
		// Clocks went back on 25 October 2026: 01:30 came twice.
		{"2026-10-25 01:30", Begin, "2026-10-25T00:30:00Z"},
		{"2026-10-25 01:30", End, "2026-10-25T01:30:00Z"},
		{"2026-10-25 00:59", End, "2026-10-24T23:59:00Z"},
	} {
		got, err := ParseTime(c.text, lisbon, now, c.edge)
		require.NoError(t, err, c.text)
		require.Equal(t, c.want, got.UTC().Format(time.RFC3339), "%s edge %d", c.text, c.edge)
	}
	for _, bad := range []string{"", "soon", "2026-13-01 00:00", "2026-02-30 10:00", "25:00", "14/03/2026 06:12", "2026-03-29 01:30"} {
		_, err := ParseTime(bad, lisbon, now, Begin)
		require.Error(t, err, bad)
	}
}

func TestHalfHourZonesRepeatToo(t *testing.T) {
	howe := zone(t, "Australia/Lord_Howe") // shifts by 30 minutes: 01:45 on 5 April 2026 comes twice
	first, err := ParseTime("2026-04-05 01:45", howe, time.Now(), Begin)
	require.NoError(t, err)
	second, err := ParseTime("2026-04-05 01:45", howe, time.Now(), End)
	require.NoError(t, err)
	require.Equal(t, 30*time.Minute, second.Sub(first))
}

func TestParseJoinsAndSortsSpans(t *testing.T) {
	now := time.Date(2026, 3, 14, 9, 0, 0, 0, time.UTC)
	w, err := Parse(Given{From: []string{"06:00", "04:00", "06:30"}, To: []string{"06:40", "04:10", "07:00"}}, time.UTC, now)
	require.NoError(t, err)
	require.Equal(t, "2026-03-14 04:00 to 04:10, 2026-03-14 06:00 to 07:00 (UTC, +00:00)", w.String())

	w, err = Parse(Given{Around: []string{"06:12"}}, time.UTC, now)
	require.NoError(t, err)
	require.Equal(t, 2*DefaultMargin, w.Spans[0].To.Sub(w.Spans[0].From))

	w, err = Parse(Given{From: []string{"08:00"}}, time.UTC, now)
	require.NoError(t, err)
	require.Equal(t, now, w.Spans[0].To, "a span without end lasts until now")

	for _, g := range []Given{{To: []string{"06:00"}}, {From: []string{"05:00", "06:00"}}, {Margin: "5m"}, {Last: "-1h"}, {Last: "0s"}, {Last: "1x"}, {Last: "d"}} {
		_, err := Parse(g, time.UTC, now)
		require.Error(t, err, "%+v", g)
	}
}

func TestParseDuration(t *testing.T) {
	for text, want := range map[string]time.Duration{"90s": 90 * time.Second, "2h": 2 * time.Hour, "1d": 24 * time.Hour, "1d12h": 36 * time.Hour} {
		got, err := ParseDuration(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got, text)
	}
}

func TestOverlaps(t *testing.T) {
	at := func(h int) time.Time { return time.Date(2026, 3, 14, h, 0, 0, 0, time.UTC) }
	w, err := New([]Span{{at(4), at(5)}, {at(8), at(9)}}, time.UTC)
	require.NoError(t, err)
	for _, c := range []struct {
		from, to time.Time
		want     bool
	}{
		{at(1), at(3), false}, {at(1), at(4), true}, {at(6), at(7), false}, {at(5), at(6), true}, {at(6), at(20), true}, {at(10), at(11), false},
		{time.Time{}, at(3), false}, {time.Time{}, at(6), true}, {at(10), time.Time{}, false}, {at(6), time.Time{}, true}, {time.Time{}, time.Time{}, true},
	} {
		require.Equal(t, c.want, w.Overlaps(c.from, c.to), "%s to %s", c.from, c.to)
	}
	require.True(t, Window{}.Overlaps(at(1), at(2)), "no limit")
	require.True(t, w.Grow(time.Hour).Overlaps(at(3), at(3)))
	require.False(t, w.Grow(-2*time.Hour).Limited(), "nothing is left of the spans")
}

func TestNoTimeBeforeThereWereLogs(t *testing.T) {
	for _, s := range []string{"0001-01-01 0:00", "1969-12-31T23:59:59Z", "0206-03-14 06:12", "9999-01-01 00:00"} {
		_, err := ParseTime(s, time.UTC, time.Date(2026, 7, 15, 9, 0, 0, 0, time.UTC), Begin)
		require.ErrorContains(t, err, "is the year right?", s)
	}
}

func FuzzParseTime(f *testing.F) {
	for _, s := range []string{"06:12", "yesterday 22:00", "2026-03-14T06:12:00Z", "2026-03-29 01:30", "0000-00-00 00:00", "0001-01-01 0:00", "now"} {
		f.Add(s)
	}
	loc, err := ParseZone("Europe/Lisbon")
	require.NoError(f, err)
	now := time.Date(2026, 7, 15, 9, 0, 0, 0, loc)
	f.Fuzz(func(t *testing.T, s string) {
		got, err := ParseTime(s, loc, now, Begin)
		if err != nil {
			return
		}
		// What was read can be written and read again.
		again, err := ParseTime(got.Format("2006-01-02T15:04:05Z07:00"), loc, now, Begin)
		require.NoError(t, err)
		require.WithinDuration(t, got, again, time.Second)
	})
}
