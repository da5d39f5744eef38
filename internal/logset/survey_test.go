package logset

import (
	"context"
	"io/fs"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/stamp"
)

func survey(t *testing.T, f stamp.Facts, text string) *Survey {
	t.Helper()
	s, err := Examine(context.Background(), content([]byte(text)), f, nil)
	require.NoError(t, err)
	return s
}

func kinds(s *Survey) []string {
	var out []string
	for _, j := range s.Jumps {
		out = append(out, j.Kind)
	}
	return out
}

// every gives lines a minute apart.
func every(from, n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(at(time.Duration(from+i)*time.Minute, "line"))
	}
	return b.String()
}

func TestSurveyOfOrderAndJumps(t *testing.T) {
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	local := stamp.Facts{Zone: berlin, AsOf: six.Add(24 * time.Hour)}
	for _, c := range []struct {
		name, text string
		f          stamp.Facts
		order      string
		jumps      []string
	}{
		{"sorted", every(0, 30), facts(), Sorted, nil},
		{"a little out of order", at(0, "a") + at(2*time.Second, "b") + at(time.Second, "c"), facts(), NearlySorted, nil},
		{"a gap", every(0, 60) + every(600, 60), facts(), Sorted, []string{JumpGap}},
		{"a clock set back", every(0, 60) + every(10, 60), facts(), NotSorted, []string{JumpBack}},
		{"daylight saving ends", "2025-10-26 02:58:00 a\n2025-10-26 02:59:00 a\n2025-10-26 02:00:00 a\n2025-10-26 02:01:00 a\n", local, Sorted, []string{JumpDST}},
		{"daylight saving, written out", "2025-10-26T02:59:00+02:00 a\n2025-10-26T02:00:00+01:00 a\n", local, Sorted, []string{JumpDST}},
		{"a restart", "[    1.000000] a\n[   90.000000] b\n[    0.500000] c\n", stamp.Facts{Zone: time.UTC, AsOf: six, Boot: six}, Sorted, nil},
		{"nothing dated", "a\nb\n", facts(), "", nil},
		{"empty", "", facts(), "", nil},
	} {
		s := survey(t, c.f, c.text)
		require.Equal(t, c.order, s.Order, c.name)
		require.Equal(t, c.jumps, kinds(s), c.name)
		for _, j := range s.Jumps {
			require.Contains(t, j.In(time.UTC), "line ", c.name)
		}
	}
}

func TestSurveyCounts(t *testing.T) {
	s := survey(t, facts(), every(0, 10)+"\ttrace\n1970-01-01T00:00:00Z odd\n2099-01-01T00:00:00Z odd\n"+every(10, 10))
	require.EqualValues(t, 23, s.Lines)
	require.EqualValues(t, 22, s.Dated)
	require.EqualValues(t, 2, s.Odd)
	require.Equal(t, six, s.First)
	require.Equal(t, six.Add(19*time.Minute), s.Last)
	require.Equal(t, Sorted, s.Order, "what is dated far from all others is no disorder")

	many := strings.Builder{}
	for i := range 40 {
		many.WriteString(every(100*(i%2), 3)) // merged from two
	}
	s = survey(t, facts(), many.String())
	backs := 0
	for _, j := range s.Jumps {
		if j.Kind == JumpBack {
			backs++
			require.Equal(t, 20, j.Times+1)
		}
	}
	require.Equal(t, 1, backs, "many steps back are told as one")
	require.LessOrEqual(t, len(s.Jumps), 2*maxJumps)
}

// A file is read as far as it can be, and that it ends early is said.
func TestSurveyOfTornFiles(t *testing.T) {
	torn := content([]byte("\x1f\x8b\x08\x00\x00\x00\x00\x00\x00\xff"))
	_, err := Examine(context.Background(), torn, facts(), nil)
	require.Error(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Examine(ctx, content([]byte(every(0, 5))), facts(), nil)
	require.ErrorIs(t, err, context.Canceled)
	n := int64(0)
	s, err := Examine(context.Background(), content([]byte(every(0, 5))), facts(), func(line int64, at time.Time, d stamp.Doubt, text []byte) error {
		n++
		require.Equal(t, n, line)
		require.Equal(t, six.Add(time.Duration(n-1)*time.Minute), at)
		require.Zero(t, d)
		require.Contains(t, string(text), "line")
		return nil
	})
	require.NoError(t, err)
	require.Equal(t, s.Lines, n)
}

// What the two ends of a file tell decides about it.
func TestChoose(t *testing.T) {
	w := spans(t, 10*time.Minute, 20*time.Minute, 60*time.Minute, 70*time.Minute)
	for _, c := range []struct {
		name, text string
		until      time.Duration
		take, cut  bool
		why        string
	}{
		{"within a span", every(11, 5), 0, true, false, "06:11:00 to 06:15:00"},
		{"over an edge", every(5, 10), 0, true, true, "06:05:00 to 06:14:00"},
		{"before", every(0, 5), 0, false, false, "before the window"},
		{"after", every(100, 5), 0, false, false, "after the window"},
		{"between", every(30, 5), 0, false, false, "between the spans of the window"},
		{"a minute of disorder", every(5, 5), 0, true, true, "06:05:00 to 06:09:00"},
		{"no date", "a\nb\n", 0, false, false, "no dated line; last changed"},
	} {
		info := memInfo{size: int64(len(c.text)), modified: six.Add(-time.Hour)}
		m := &Member{Look: Inspect(content([]byte(c.text)), facts()), Info: info}
		Bound([]*Member{m})
		v := Choose(m, w)
		require.Equal(t, c.take, v.Take, c.name)
		require.Equal(t, c.cut, v.Cut, c.name)
		require.Contains(t, v.Why, c.why, c.name)
	}
	require.True(t, Choose(&Member{}, spans(t)).Take, "no window, no limit")
	newer, older := &Member{Look: Inspect(content([]byte(every(50, 5))), facts())}, &Member{Look: Inspect(content([]byte(every(0, 5))), facts())}
	older.Look.Last = time.Time{} // as of a large compressed member
	Bound([]*Member{newer, older})
	require.Equal(t, six.Add(50*time.Minute), older.Until)
}

type memInfo struct {
	fs.FileInfo
	size     int64
	modified time.Time
}

func (i memInfo) Size() int64        { return i.size }
func (i memInfo) ModTime() time.Time { return i.modified }
