package logset

import (
	"bytes"
	"compress/gzip"
	"errors"
	"io"
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/window"
)

func judge(t *testing.T, data []byte, modified time.Time, w window.Window) Verdict {
	t.Helper()
	m := fstest.MapFS{"log": {Data: data, ModTime: modified}}
	info, err := fs.Stat(m, "log")
	require.NoError(t, err)
	return Judge(func() (io.ReadCloser, error) { return m.Open("log") }, info, w, time.UTC)
}

func TestJudge(t *testing.T) {
	at := time.Date(2026, 3, 14, 6, 12, 0, 0, time.UTC)
	w, err := window.New([]window.Span{{From: at.Add(-time.Hour), To: at.Add(time.Hour)}}, time.UTC)
	require.NoError(t, err)
	line := func(t time.Time) []byte { return []byte(t.Format(time.RFC3339) + " up\n") }
	zip := func(data []byte) []byte {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		_, err := z.Write(data)
		require.NoError(t, err)
		require.NoError(t, z.Close())
		return b.Bytes()
	}
	for _, c := range []struct {
		name     string
		data     []byte
		modified time.Time
		take     bool
		why      string
	}{
		{"in the window", line(at), at, true, "begins 2026-03-14 06:12:00"},
		{"begun before, still written", line(at.Add(-9 * time.Hour)), at, true, "begins 2026-03-13 21:12:00"},
		{"not changed since before", line(at.Add(-9 * time.Hour)), at.Add(-8 * time.Hour), false, "last changed 2026-03-13 22:12:00, before the window"},
		{"begins after", line(at.Add(2 * time.Hour)), at.Add(3 * time.Hour), false, "begins 2026-03-14 08:12:00, after the window"},
		{"within the slack of clocks", line(at.Add(time.Hour + ClockSlack - time.Minute)), at.Add(3 * time.Hour), true, "begins"},
		{"changed just before, within the slack", line(at.Add(-9 * time.Hour)), at.Add(-time.Hour - ClockSlack + time.Minute), true, "begins"},
		{"compressed, begins after", zip(line(at.Add(2 * time.Hour))), at.Add(3 * time.Hour), false, "after the window"},
		{"compressed, in the window", zip(line(at)), at.Add(3 * time.Hour), true, "begins"},
		{"broken gzip head", []byte("\x1f\x8b\x08broken"), at, true, "no dated line"},
		{"no time at all", []byte("nothing\n"), at, true, "no dated line"},
		{"empty", nil, at, true, "no dated line"},
		{"time on the third line", append([]byte("# head\n\n"), line(at.Add(2*time.Hour))...), at.Add(3 * time.Hour), false, "after the window"},
		{"one endless line", []byte(strings.Repeat("x", 3*HeadLimit)), at, true, "no dated line"},
	} {
		v := judge(t, c.data, c.modified, w)
		require.Equal(t, c.take, v.Take, "%s: %s", c.name, v.Why)
		require.Contains(t, v.Why, c.why, c.name)
	}
	require.True(t, judge(t, nil, at.Add(-99*time.Hour), window.Window{}).Take, "no window, no limit")

	two, err := window.New([]window.Span{{From: at.Add(-5 * time.Hour), To: at.Add(-4 * time.Hour)}, {From: at, To: at.Add(time.Hour)}}, time.UTC)
	require.NoError(t, err)
	v := judge(t, line(at.Add(-3*time.Hour)), at.Add(-time.Hour), two)
	require.False(t, v.Take)
	require.Contains(t, v.Why, "between the spans")
}

func TestJudgeSaysWhenItCannotLook(t *testing.T) {
	m := fstest.MapFS{"log": {ModTime: time.Now()}}
	info, err := fs.Stat(m, "log")
	require.NoError(t, err)
	w, err := window.New([]window.Span{{From: time.Now().Add(-time.Hour), To: time.Now()}}, time.UTC)
	require.NoError(t, err)
	v := Judge(func() (io.ReadCloser, error) { return nil, fs.ErrPermission }, info, w, time.UTC)
	require.True(t, v.Take)
	require.True(t, errors.Is(v.Err, fs.ErrPermission))
}
