package logset

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"

	"envask/internal/stamp"
	"envask/internal/window"
)

var six = time.Date(2026, 3, 14, 6, 0, 0, 0, time.UTC)

// content gives bytes as a file.
func content(data []byte) Content {
	return Content{Open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }, ReadAt: bytes.NewReader(data).ReadAt, Size: int64(len(data))}
}

func facts() stamp.Facts { return stamp.Facts{Zone: time.UTC, AsOf: six.Add(24 * time.Hour)} }

func spans(t testing.TB, edges ...time.Duration) window.Window {
	t.Helper()
	var all []window.Span
	for i := 0; i < len(edges); i += 2 {
		all = append(all, window.Span{From: six.Add(edges[i]), To: six.Add(edges[i+1])})
	}
	w, err := window.New(all, time.UTC)
	require.NoError(t, err)
	return w
}

// cut cuts as the program does.
func cut(t testing.TB, data []byte, w window.Window) (string, *Outcome) {
	t.Helper()
	var out bytes.Buffer
	c := content(data)
	o, err := Cut(context.Background(), c, Inspect(c, facts()), Wish{Window: w}, nil, &out)
	require.NoError(t, err)
	return out.String(), o
}

func at(offset time.Duration, text string) string {
	return six.Add(offset).Format("2006-01-02T15:04:05.000Z ") + text + "\n"
}

func TestCutKeepsWholeRecords(t *testing.T) {
	w := spans(t, 10*time.Minute, 20*time.Minute)
	trace := "\tat fare.Table.parse\n\tat fare.Loader.run\n"
	for _, c := range []struct{ name, in, want string }{
		{"a trace goes with its line", at(0, "a") + at(15*time.Minute, "b") + trace + at(30*time.Minute, "c") + trace, at(15*time.Minute, "b") + trace},
		{"both ends belong", at(10*time.Minute, "a") + at(20*time.Minute, "b") + at(20*time.Minute+time.Millisecond, "c"), at(10*time.Minute, "a") + at(20*time.Minute, "b")},
		{"out of order", at(30*time.Minute, "a") + at(12*time.Minute, "b") + at(5*time.Minute, "c"), at(12*time.Minute, "b")},
		{"a trace before the first line goes with it", trace + at(15*time.Minute, "b"), trace + at(15*time.Minute, "b")},
		{"a trace before a line that is left is left", trace + at(0, "a") + at(15*time.Minute, "b"), at(15*time.Minute, "b")},
		{"heads of columns stay", "#Fields: date time\n" + at(0, "a") + at(15*time.Minute, "b"), "#Fields: date time\n" + at(15*time.Minute, "b")},
		{"heads of a table stay", "Time,Host\n" + "2026-03-14 06:00:00,g\n2026-03-14 06:15:00,g\n", "Time,Host\n2026-03-14 06:15:00,g\n"},
		{"1970 and 2099 go with the line before", at(15*time.Minute, "b") + "1970-01-01T00:00:07Z boot\n2099-01-01T00:00:00Z odd\n" + at(40*time.Minute, "c") + "1970-01-01T00:00:07Z boot\n",
			at(15*time.Minute, "b") + "1970-01-01T00:00:07Z boot\n2099-01-01T00:00:00Z odd\n"},
		{"CRLF and no last line end", strings.ReplaceAll(at(0, "a")+at(15*time.Minute, "b"), "\n", "\r\n") + strings.TrimSuffix(at(16*time.Minute, "c"), "\n"),
			strings.ReplaceAll(at(15*time.Minute, "b"), "\n", "\r\n") + strings.TrimSuffix(at(16*time.Minute, "c"), "\n")},
		{"NULs after a power cut", at(15*time.Minute, "b") + strings.Repeat("\x00", 5000) + at(16*time.Minute, "c") + at(40*time.Minute, "d"), at(15*time.Minute, "b") + strings.Repeat("\x00", 5000) + at(16*time.Minute, "c")},
		{"a clock set back in the middle", at(19*time.Minute, "a") + at(65*time.Minute, "b") + at(15*time.Minute, "c") + at(70*time.Minute, "d"), at(19*time.Minute, "a") + at(15*time.Minute, "c")},
		{"nothing", at(0, "a") + at(30*time.Minute, "b"), ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, o := cut(t, []byte(c.in), w)
			require.Equal(t, c.want, got)
			require.Equal(t, c.want == "", o.Nothing())
			require.Equal(t, c.want == c.in, o.All)
		})
	}
	whole := at(11*time.Minute, "a") + trace
	got, o := cut(t, []byte(whole), w)
	require.Equal(t, whole, got)
	require.True(t, o.All)
}

// A record whose time is not in its first line is kept from its beginning.
func TestCutKeepsRecordsThatBeginBeforeTheirTime(t *testing.T) {
	w := spans(t, 10*time.Minute, 20*time.Minute)
	journal := func(offset time.Duration, text string) string {
		return fmt.Sprintf("__CURSOR=s=%s\n__REALTIME_TIMESTAMP=%d\n__MONOTONIC_TIMESTAMP=7\nMESSAGE=%s\n_PID=7\n\n", text, six.Add(offset).UnixMicro(), text)
	}
	xml := func(offset time.Duration, text string) string {
		return fmt.Sprintf("<record>\n  <date>%s</date>\n  <message>%s</message>\n</record>\n", six.Add(offset).Format("2006-01-02T15:04:05"), text)
	}
	events := func(offset time.Duration, text string) string {
		return fmt.Sprintf("Event[0]:\n  Log Name: System\n  Source: Gate\n  Date: %s\n  Description:\n%s\n\n", six.Add(offset).Format("2006-01-02T15:04:05.000"), text)
	}
	for name, record := range map[string]func(time.Duration, string) string{"journal": journal, "xml": xml, "events": events} {
		in := record(0, "a") + record(11*time.Minute, "b") + record(15*time.Minute, "c") + record(30*time.Minute, "d")
		got, _ := cut(t, []byte(in), w)
		require.Equal(t, record(11*time.Minute, "b")+record(15*time.Minute, "c"), got, name)
		got, _ = cut(t, []byte(record(11*time.Minute, "b")+record(30*time.Minute, "d")), w)
		require.Equal(t, record(11*time.Minute, "b"), got, name)
	}
}

func TestCutUTF16(t *testing.T) {
	wide := func(s string) []byte {
		var b []byte
		for _, c := range []byte(s) {
			b = append(b, c, 0)
		}
		return b
	}
	mark := []byte{0xff, 0xfe}
	in := append(append([]byte{}, mark...), wide(at(0, "a")+at(15*time.Minute, "b")+"\tmore\n"+at(30*time.Minute, "c"))...)
	got, _ := cut(t, in, spans(t, 10*time.Minute, 20*time.Minute))
	require.Equal(t, string(append(append([]byte{}, mark...), wide(at(15*time.Minute, "b")+"\tmore\n")...)), got)
}

func TestCutPackedMembers(t *testing.T) {
	text := at(0, "a") + at(15*time.Minute, "b") + at(30*time.Minute, "c")
	var g, x, z bytes.Buffer
	gw := gzip.NewWriter(&g)
	xw, err := xz.NewWriter(&x)
	require.NoError(t, err)
	zw, err := zstd.NewWriter(&z)
	require.NoError(t, err)
	for _, w := range []io.WriteCloser{gw, xw, zw} {
		_, err := io.WriteString(w, text)
		require.NoError(t, err)
		require.NoError(t, w.Close())
	}
	bz, err := hex.DecodeString("425a683931415926535974cc20f10000175b00001040037f1004103800200040da8501a7a1ea850d34c003db668b308d9f11264b195d41473652274976524e3032467e2ee48a70a120e99841e2")
	require.NoError(t, err)
	var one, two bytes.Buffer
	for b, names := range map[*bytes.Buffer][]string{&one: {"gate.log"}, &two: {"gate.log", "fare.log"}} {
		archive := zip.NewWriter(b)
		for _, n := range names {
			w, err := archive.Create(n)
			require.NoError(t, err)
			_, err = io.WriteString(w, text)
			require.NoError(t, err)
		}
		require.NoError(t, archive.Close())
	}
	w := spans(t, 10*time.Minute, 20*time.Minute)
	for name, data := range map[string][]byte{"gzip": g.Bytes(), "bzip2": bz, "xz": x.Bytes(), "zstd": z.Bytes(), "zip": one.Bytes()} {
		got, o := cut(t, data, w)
		require.Equal(t, at(15*time.Minute, "b"), got, name)
		require.Equal(t, name, o.Packing)
	}
	require.ErrorIs(t, Inspect(content(two.Bytes()), facts()).Err, ErrSeveral)

	// A gzip that ends early: what is whole is taken, and it is said.
	long := strings.Repeat(text, 3000)
	g.Reset()
	gw = gzip.NewWriter(&g)
	_, err = io.WriteString(gw, long)
	require.NoError(t, err)
	require.NoError(t, gw.Close())
	got, o := cut(t, g.Bytes()[:g.Len()-200], w)
	require.Error(t, o.Ended)
	require.Contains(t, got, at(15*time.Minute, "b"))
	require.False(t, o.All)
}

// Within the bound of disorder the fast cut gives the same bytes as reading every line.
func TestFastCutEqualsSlowCut(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 7))
		data := randomLog(r)
		c := content(data)
		l := Inspect(c, facts())
		require.True(t, l.Profile.Anywhere())
		for range 4 {
			from := time.Duration(r.IntN(int(3 * time.Hour)))
			w := spans(t, from, from+time.Duration(r.IntN(int(time.Hour))))
			if r.IntN(3) == 0 {
				more := from + time.Hour + time.Duration(r.IntN(int(time.Hour)))
				w = spans(t, from, from+time.Duration(r.IntN(int(time.Hour))), more, more+time.Duration(r.IntN(int(time.Minute))))
			}
			var fast, slow bytes.Buffer
			f, err := cutFast(context.Background(), c, l, w.Spans, &fast)
			require.NoError(t, err, "seed %d", seed)
			s, err := cutSlow(context.Background(), c, l, Wish{Window: w}, nil, &slow)
			require.NoError(t, err)
			if f.All {
				fast.Write(data)
			}
			if s.Nothing() {
				require.True(t, f.Nothing(), "seed %d", seed)
				continue
			}
			require.Equal(t, slow.String(), fast.String(), "seed %d, window %s", seed, w)
			require.Positive(t, f.Probes)
			if !f.All {
				require.Equal(t, int64(fast.Len()), f.Bytes)
			}
		}
	}
}

// randomLog makes a log of some hours: lines out of place within the bound, traces, long lines, lines dated 1970.
func randomLog(r *rand.Rand) []byte {
	var b bytes.Buffer
	if r.IntN(2) == 0 {
		b.WriteString("# agent log\n")
	}
	step := 1 + r.IntN(4000)
	most := time.Duration(0)
	for t := time.Duration(0); t < 4*time.Hour && b.Len() < 600<<10; t += time.Duration(r.IntN(step)) * time.Millisecond {
		at := t
		if r.IntN(5) == 0 {
			at -= time.Duration(r.IntN(int(DisorderTime)))
		}
		most = max(most, at)
		fmt.Fprintf(&b, "%s line %d\n", six.Add(at).Format("2006-01-02 15:04:05.000"), r.IntN(1000))
		switch r.IntN(60) {
		case 0:
			for range r.IntN(400) {
				b.WriteString("\tat fare.Table.parse(Table.java:211)\n")
			}
		case 1:
			b.WriteString(strings.Repeat("x", r.IntN(20000)) + "\n")
		case 2:
			b.WriteString("1970-01-01 00:00:09.000 boot\n")
		}
		if r.IntN(3000) == 0 {
			t += time.Duration(r.IntN(int(time.Hour)))
		}
	}
	return b.Bytes()
}

func TestDisorderIsNoticed(t *testing.T) {
	var b bytes.Buffer
	for i := range 40000 {
		offset := time.Duration(i) * time.Second
		if i > 20000 {
			offset -= 2 * time.Hour // the clock was set back
		}
		b.WriteString(at(offset, "line"))
	}
	w := spans(t, 5*time.Hour, 5*time.Hour+time.Minute)
	got, o := cut(t, b.Bytes(), w)
	require.Equal(t, 122, strings.Count(got, "\n"), "both times that it was then")
	require.Zero(t, o.Probes)
	require.Contains(t, strings.Join(o.Notes, "; "), "not in order")
}

// A file that is known to come in no order is read whole, whatever its probes would say.
func TestUnorderedIsReadWhole(t *testing.T) {
	var b strings.Builder
	for i := range 40000 {
		b.WriteString(at(time.Duration(i)*time.Second, "line"))
	}
	c := content([]byte(b.String()))
	w := spans(t, time.Hour, time.Hour+time.Minute)
	for unordered, probes := range map[bool]bool{true: false, false: true} {
		var out bytes.Buffer
		o, err := Cut(context.Background(), c, Inspect(c, facts()), Wish{Window: w, Unordered: unordered}, nil, &out)
		require.NoError(t, err)
		require.Equal(t, probes, o.Probes > 0)
		require.Equal(t, 61, strings.Count(out.String(), "\n"))
	}
}

func TestSets(t *testing.T) {
	for name, want := range map[string]string{
		"/l/x.log": "/l/x.log", "/l/x.log.1": "/l/x.log", "/l/x.log.2.gz": "/l/x.log", "/l/x.1.log": "/l/x.log", "/l/x-20260314.log": "/l/x.log", "/l/x.log-20260314.xz": "/l/x.log",
		"/l/x.log.2026-03-14-06": "/l/x.log", "/l/x_0003.log": "/l/x.log", "/l/x.log.old": "/l/x.log", "/l/x.bak": "/l/x", "/l/2026-03-14/x.log": "/l/x.log", "/l/2026/03/14/x.log": "/l/x.log",
		"/l/x.log.2026-03-14.3.gz": "/l/x.log", "/l/x.2026-03-14.log.zst": "/l/x.log", "/l/x.log~": "/l/x.log", "/l/x-old.log": "/l/x.log", "/l/x.log.20260314-061200": "/l/x.log",
	} {
		require.Equal(t, want, PlaceOf(name).Set, name)
		require.Equal(t, name == want, PlaceOf(name).Current, name)
	}
	names := []string{"/l/x.log.2.gz", "/l/x.log", "/l/x.log.10", "/l/x.log.1", "/l/y-20260312.log", "/l/y-20260314.log", "/l/y-20260313.log", "/l/gate.1.log", "/l/gate.2.log", "/l/z_0009.log", "/l/z_0010.log"}
	var got [][]string
	for _, set := range Sets(names) {
		var members []string
		for _, i := range set {
			members = append(members, names[i])
		}
		got = append(got, members)
	}
	require.Equal(t, [][]string{{"/l/x.log", "/l/x.log.1", "/l/x.log.2.gz", "/l/x.log.10"}, {"/l/y-20260314.log", "/l/y-20260313.log", "/l/y-20260312.log"},
		{"/l/gate.1.log"}, {"/l/gate.2.log"}, {"/l/z_0010.log", "/l/z_0009.log"}}, got)
	for _, c := range []struct{ a, b string }{{"4.9", "4.10"}, {"4.2", "4.2.1"}, {"4.02", "4.10"}, {"1", "99999999999999999999999999"}} {
		require.True(t, versionLess(c.a, c.b), "%s before %s", c.a, c.b)
		require.False(t, versionLess(c.b, c.a), "%s before %s", c.b, c.a)
	}
}

func FuzzPlaceOf(f *testing.F) {
	for _, s := range []string{"/l/x.log.2.gz", "x-20260314.log", "/2026/03/14/x", "x_0003.log", "", "/", "x.99999.log"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, name string) {
		p := PlaceOf(name)
		require.False(t, p.older(p))
		NewestVersions([]string{name, name + "1"})
		require.Len(t, Sets([]string{name}), 1)
	})
}

// What cannot be told apart by line is taken whole, or left by its age: a log without line ends, one endless line.
func TestWithoutLineEnds(t *testing.T) {
	text := strings.ReplaceAll(strings.Repeat(at(0, "a"), 3000), "\n", " ")
	l := Inspect(content([]byte(text)), facts())
	require.True(t, l.Lineless)
	require.False(t, l.Cuttable())
	file := fstest.MapFS{"log": {Data: []byte(text), ModTime: six.Add(5 * time.Hour)}}
	info, err := file.Stat("log")
	require.NoError(t, err)
	v := Choose(&Member{Look: l, Info: info}, spans(t, 2*time.Hour, 3*time.Hour))
	require.True(t, v.Take)
	require.False(t, v.Cut)
	require.Equal(t, "no line ends; taken whole", v.Why)
	require.False(t, Choose(&Member{Look: l, Info: info}, spans(t, 6*time.Hour, 7*time.Hour)).Take)
}

func TestHugeLineTakesLittleMemory(t *testing.T) {
	line := at(15*time.Minute, strings.Repeat("y", 3*lineBuffer))
	got, _ := cut(t, []byte(at(0, "a")+line+at(30*time.Minute, strings.Repeat("z", 3*lineBuffer))), spans(t, 10*time.Minute, 20*time.Minute))
	require.Equal(t, line, got)
}

func FuzzCut(f *testing.F) {
	f.Add([]byte(at(0, "a")+at(15*time.Minute, "b")), int64(600), int64(600))
	f.Add([]byte("\xff\xfe1\x00\n\x00"), int64(0), int64(9))
	f.Add([]byte("Time,Host\n2026-03-14 06:15:00,g\n\x00\x00"), int64(0), int64(3600))
	f.Fuzz(func(t *testing.T, data []byte, from, length int64) {
		from, length = from%86400, (length%86400+86400)%86400
		w, err := window.New([]window.Span{{From: six.Add(time.Duration(from) * time.Second), To: six.Add(time.Duration(from+length) * time.Second)}}, time.UTC)
		require.NoError(t, err)
		c := content(data)
		l := Inspect(c, facts())
		if l.Profile == nil {
			return
		}
		var out bytes.Buffer
		o, err := Cut(context.Background(), c, l, Wish{Window: w}, nil, &out)
		if err != nil {
			return
		}
		require.Equal(t, int64(out.Len()), o.Bytes)
		if o.All && o.Packing == "" {
			require.Equal(t, len(data), out.Len())
		}
		if l.Dated() && l.Profile.Anywhere() && l.enc == bytewise && l.Packing == "" {
			_, _ = cutFast(context.Background(), c, l, w.Spans, io.Discard)
		}
	})
}
