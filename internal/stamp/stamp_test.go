package stamp

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func load(t testing.TB, zone string) *time.Location {
	t.Helper()
	l, err := time.LoadLocation(zone)
	require.NoError(t, err)
	return l
}

func noon(t testing.TB) Facts {
	return Facts{Zone: load(t, "Europe/Berlin"), AsOf: time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)}
}

// samples gives the lines of a table of samples.
func samples(t testing.TB, table string) []string {
	t.Helper()
	lines := strings.Split(strings.Trim(table, "\n"), "\n")
	require.GreaterOrEqual(t, len(lines), 250)
	return lines
}

// times reads all lines of a file.
func times(f Facts, text string) []string {
	p := Learn(f, true, []byte(text))
	r := p.Reader()
	var out []string
	for _, line := range strings.SplitAfter(text, "\n") {
		if line == "" {
			continue
		}
		at := "-"
		if m, ok := r.Time([]byte(line)); ok {
			at = m.Format(time.RFC3339Nano)
		}
		out = append(out, at)
	}
	return out
}

func TestEveryFormat(t *testing.T) {
	for _, row := range samples(t, datedLines) {
		want, line, ok := strings.Cut(row, "\t")
		require.True(t, ok, row)
		assert.Equal(t, want, times(noon(t), line+"\n")[0], "%q", line)
	}
}

func TestNoTimeWhereThereIsNone(t *testing.T) {
	for _, line := range samples(t, undatedLines) {
		if line != "" {
			assert.Equal(t, "-", times(noon(t), line+"\n")[0], "%q", line)
		}
	}
}

// Whole files: what one line leaves open, the others settle.
func TestWhatTheFileTells(t *testing.T) {
	berlin := noon(t)
	named := func(name string) Facts { return Facts{Zone: time.UTC, Name: name, AsOf: berlin.AsOf} }
	for _, c := range []struct {
		name, text string
		f          Facts
		want       []string
	}{
		{"day first, from a value over 12", "03/04/2026 06:12:00 a\n14/04/2026 06:12:00 b\n", berlin, []string{"2026-04-03T04:12:00Z", "2026-04-14T04:12:00Z"}},
		{"month first, from a value over 12", "03/04/2026 06:12:00 a\n03/14/2026 06:12:00 b\n", berlin, []string{"2026-03-04T05:12:00Z", "2026-03-14T05:12:00Z"}},
		{"month first, from the order", "01/12/2025 06:12:00 a\n02/01/2025 06:12:00 b\n02/02/2025 06:12:00 b\n", berlin, []string{"2025-01-12T05:12:00Z", "2025-02-01T05:12:00Z", "2025-02-02T05:12:00Z"}},
		{"day first, since the other would lie ahead", "10/03/2026 06:12:00 a\n", berlin, []string{"2026-03-10T05:12:00Z"}},
		{"the turn of the year", "Dec 31 23:59:59 g a\nJan  1 00:00:01 g b\nMar 14 06:00:00 g c\n", berlin, []string{"2025-12-31T22:59:59Z", "2025-12-31T23:00:01Z", "2026-03-14T05:00:00Z"}},
		{"a leap day ties its neighbours", "Feb 28 06:00:00 g a\nFeb 29 06:00:00 g b\nMar  1 06:00:00 g c\n", berlin, []string{"2024-02-28T05:00:00Z", "2024-02-29T05:00:00Z", "2024-03-01T05:00:00Z"}},
		{"several years", "Nov  1 06:00:00 g\nFeb  1 06:00:00 g\nNov  1 06:00:00 g\nFeb  1 06:00:00 g\n", berlin, []string{"2024-11-01T05:00:00Z", "2025-02-01T05:00:00Z", "2025-11-01T05:00:00Z", "2026-02-01T05:00:00Z"}},
		{"clocks over midnight", "23:59:58 a\n00:00:03 b\n", berlin, []string{"2026-03-13T22:59:58Z", "2026-03-13T23:00:03Z"}},
		{"clocks under a head with the day", "Log of 12 March 2026\n06:12:00 a\n06:13:00 b\n", berlin, []string{"-", "2026-03-12T05:12:00Z", "2026-03-12T05:13:00Z"}},
		{"clocks behind a dated line", "2026-03-10 23:59:00 start\n23:59:30 a\n00:00:10 b\n", berlin, []string{"2026-03-10T22:59:00Z", "2026-03-10T22:59:30Z", "2026-03-10T23:00:10Z"}},
		{"a head of each day", "--- 2026-03-10 ---\n06:12:00 a\n--- 2026-03-12 ---\n06:12:00 b\n", berlin, []string{"-", "2026-03-10T05:12:00Z", "-", "2026-03-12T05:12:00Z"}},
		{"clocks in a file named after its day", "06:12:00 a\n", named("logs/gate-20260311.log"), []string{"2026-03-11T06:12:00Z"}},
		{"clocks in a folder named after its day", "06:12:00 a\n", named("logs/2026/03/11/gate.log"), []string{"2026-03-11T06:12:00Z"}},
		{"a clock set back an hour is no midnight", "06:12:00 a\n05:13:00 b\n", named("gate-20260311.log"), []string{"2026-03-11T06:12:00Z", "2026-03-11T05:13:00Z"}},
		{"an hour that occurs twice", "2025-10-26 02:30:00 a\n2025-10-26 02:59:00 b\n2025-10-26 02:01:00 c\n2025-10-26 02:58:00 c\n2025-10-26 03:00:00 d\n", berlin,
			[]string{"2025-10-26T00:30:00Z", "2025-10-26T00:59:00Z", "2025-10-26T01:01:00Z", "2025-10-26T01:58:00Z", "2025-10-26T02:00:00Z"}},
		{"an hour that does not exist", "2025-03-30 02:30:00 a\n", berlin, []string{"2025-03-30T01:30:00Z"}},
		{"a table with a head", "Ticket,Expires,Opened,Time\n7,2027-01-01 00:00:00,2026-01-01 00:00:00,2026-03-14 06:12:00\n", berlin, []string{"-", "2026-03-14T05:12:00Z"}},
		{"a table with day and clock apart", "ID;Time;Host;Date\n7;06:12:00;gate-1;14.03.2026\n", berlin, []string{"-", "2026-03-14T05:12:00Z"}},
		{"web logs in UTC", "#Version: 1.0\n#Date: 2026-03-14 06:00:00\n#Fields: date time c-ip\n2026-03-14 06:12:00 192.0.2.11\n", berlin, []string{"-", "2026-03-14T06:00:00Z", "-", "2026-03-14T06:12:00Z"}},
		{"web logs with the clock alone", "#Date: 2026-03-14 06:00:00\n#Fields: time c-ip\n06:12:00 192.0.2.11\n", berlin, []string{"2026-03-14T06:00:00Z", "-", "2026-03-14T06:12:00Z"}},
		{"since the start, which a line tells", "[    0.000000] Linux version 6\n[    1.500000] rtc_cmos 00:01: setting system clock to 2026-03-14T06:12:00 UTC (1773468720)\n[   61.500000] up\n", berlin,
			[]string{"2026-03-14T06:11:58.5Z", "2026-03-14T06:12:00Z", "2026-03-14T06:13:00Z"}},
		{"since the start, with any number of digits", "[    1.000000] a\n[   12.000000] b\n[  123.000000] c\n[ 1234.000000] d\n[12345.000000] e\n[123456.000000] f\n[1234567.000000] g\n[12345678.000000] h\n[123456789.000000] i\n",
			Facts{Zone: time.UTC, AsOf: berlin.AsOf, Boot: time.Unix(1_600_000_000, 0)}, []string{"2020-09-13T12:26:41Z", "2020-09-13T12:26:52Z", "2020-09-13T12:28:43Z", "2020-09-13T12:47:14Z", "2020-09-13T15:52:25Z",
				"2020-09-14T22:44:16Z", "2020-09-27T19:22:47Z", "2021-02-03T09:47:58Z", "2024-08-12T09:59:49Z"}},
		{"since the start, which is not known", "[    0.500000] up\n", berlin, []string{"-"}},
		{"since the start, which is given", "[    0.500000] up\n", Facts{Zone: time.UTC, AsOf: berlin.AsOf, Boot: berlin.AsOf}, []string{"2026-03-14T12:00:00.5Z"}},
		{"dates within records", strings.Repeat("2026-03-14 06:12:00 a\n", 6) + "  2026-03-10 01:00:00 planned\n", berlin, append(repeat("2026-03-14T05:12:00Z", 6), "-")},
		{"dates in the text of records", strings.Repeat("2026-03-14 06:12:00 a\n", 9) + "pump seven 2026-03-10 01:00:00\n192.0.2.1 - - [14/Mar/2026:06:14:00 +0000] c\n", berlin, append(repeat("2026-03-14T05:12:00Z", 9), "-", "2026-03-14T06:14:00Z")},
		{"always behind words", "Pump one began at 2026-03-14 06:12:00\nPump two began at 2026-03-14 06:13:00\nPump three began at 2026-03-14 06:14:00\n", berlin,
			[]string{"2026-03-14T05:12:00Z", "2026-03-14T05:13:00Z", "2026-03-14T05:14:00Z"}},
		{"several formats in one file", "2026-03-14 06:12:00 a\nMar 14 06:13:00 g b\n192.0.2.1 - - [14/Mar/2026:06:14:00 +0000] c\n{\"ts\":1773469020}\n", berlin,
			[]string{"2026-03-14T05:12:00Z", "2026-03-14T05:13:00Z", "2026-03-14T06:14:00Z", "2026-03-14T06:17:00Z"}},
		{"line ends, NULs and a byte order mark", "\xef\xbb\xbf2026-03-14 06:12:00 a\r\n\x00\x00\x002026-03-14 06:13:00 b\r\n\x00\x00\x00", berlin, []string{"2026-03-14T05:12:00Z", "2026-03-14T05:13:00Z", "-"}},
		{"Latin-1", "14 M\xe4r 2026 06:12:00 a\n", berlin, []string{"2026-03-14T05:12:00Z"}},
		{"an abbreviation of two meanings", "2026-03-14 06:12:00 IST a\n", Facts{Zone: load(t, "Asia/Jerusalem"), AsOf: berlin.AsOf}, []string{"2026-03-14T04:12:00Z"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			if strings.Contains(c.name, "clock alone") {
				c.want[0] = "2026-03-14T06:00:00Z"
			}
			if strings.Contains(c.name, "in UTC") {
				c.want = []string{"-", "2026-03-14T06:00:00Z", "-", "2026-03-14T06:12:00Z"}
			}
			require.Equal(t, c.want, times(c.f, c.text))
		})
	}
}

func repeat(s string, n int) []string {
	var out []string
	for range n {
		out = append(out, s)
	}
	return out
}

func TestWhatStaysOpenIsSaid(t *testing.T) {
	for _, c := range []struct {
		line string
		zone string
		want Doubt
	}{
		{"01/02/2026 06:12:00 a\n", "UTC", DoubtOrder},
		{"14/02/2026 06:12:00 a\n", "UTC", 0},
		{"Mar 14 06:12:00 g a\n", "UTC", DoubtYear},
		{"06:12:00 a\n", "UTC", DoubtDay},
		{"2026-03-14 06:12:00 IST a\n", "UTC", DoubtZone},
		{"2025-10-26 02:30:00 a\n", "Europe/Berlin", DoubtTwice},
		{"2025-03-30 02:30:00 a\n", "Europe/Berlin", DoubtNever},
		{"2026-03-14 06:12:00 a\n", "Europe/Berlin", 0},
	} {
		p := Learn(Facts{Zone: load(t, c.zone), AsOf: noon(t).AsOf}, true, []byte(c.line))
		r := p.Reader()
		_, ok := r.Time([]byte(c.line))
		require.True(t, ok, c.line)
		require.Equal(t, c.want, r.Doubt(), c.line)
		require.Len(t, r.Doubt().Texts(), map[bool]int{true: 1, false: 0}[c.want != 0])
	}
}

func TestForms(t *testing.T) {
	for line, want := range map[string]string{
		"2026-03-14T06:12:00.123Z up":               "YYYY-MM-DDThh:mm:ss.fffZ",
		"[14/Mar/2026:06:12:00 +0100] up":           "DD/Mon/YYYY:hh:mm:ss +0100",
		"Mar 14 06:12:00 g up":                      "Mon DD hh:mm:ss",
		"Sat Mar 14 06:12:00 2026 up":               "Mon DD hh:mm:ss YYYY",
		"3/14/2026 6:12:00 AM up":                   "M/DD/YYYY h:mm:ss AM",
		"01/02/2026 06:12:00 up":                    "DD/MM/YYYY hh:mm:ss",
		"20260314T061200Z up":                       "YYYYMMDDThhmmssZ",
		"1773468720.123 up":                         "seconds since 1970",
		"06:12:00,123 up":                           "hh:mm:ss,fff",
		"@4000000069b4fc3a00000000 up":              "TAI64N",
		"[   12.345678] up":                         "[seconds since the start]",
		"260314  6:12:00 up":                        "YYMMDD  h:mm:ss",
		"14. März 2026 06:12:00 up":                 "DD. Mon YYYY hh:mm:ss",
		`{"time":"2026-03-14 06:12:00","msg":"up"}`: "YYYY-MM-DD hh:mm:ss",
		"2026-03-14-06.12.00.123456+060 up":         "YYYY-MM-DD-hh.mm.ss.ffffff+060",
	} {
		p := Learn(noon(t), true, []byte(line+"\n"))
		require.Len(t, p.Forms, 1, line)
		require.Equal(t, want, p.Forms[0].Label, line)
	}
}

func FuzzLines(f *testing.F) {
	for _, table := range []string{datedLines, undatedLines} {
		for _, row := range samples(f, table) {
			_, line, ok := strings.Cut(row, "\t")
			if !ok {
				line = row
			}
			f.Add([]byte(line))
		}
	}
	facts := noon(f)
	f.Fuzz(func(t *testing.T, text []byte) {
		p := Learn(facts, true, text)
		in, any := p.Reader(), p.At()
		for _, line := range strings.Split(string(text), "\n") {
			before := line
			s, ok := in.Stamp([]byte(line))
			require.Equal(t, before, line)
			if ok {
				require.True(t, s.Start >= 0 && s.Start <= s.End, "%+v", s)
				if at, ok := in.Moment(&s); ok {
					require.True(t, at.Year() >= 1969 && at.Year() <= 2201, "%s from %q", at, line)
				}
			}
			any.Time([]byte(line))
		}
	})
}

func BenchmarkLines(b *testing.B) {
	for name, line := range map[string]string{
		"first":  "2026-03-14T06:12:00.123+00:00 INFO  pass  [reader-2] pass OT00030425 accepted zone=2 lane=1 in 87 ms",
		"syslog": "Mar 14 06:12:00 gate-1 sshd[2211]: Accepted publickey for svc from 198.51.100.23 port 50122 ssh2",
		"web":    `192.0.2.11 - - [14/Mar/2026:06:12:00 +0000] "GET /quote?zone=1&class=adult HTTP/1.1" 200 412 "-" "gate-agent/4.2"`,
		"json":   `{"level":"info","time":"2026-03-14T06:12:00.123Z","msg":"quote","gate":"gate-1","zone":3,"cents":410,"ms":12}`,
		"none":   "	at boarding.fare.Table.parse(Table.java:211) with no table of zone 4 and lane 2 in the reader",
	} {
		b.Run(name, func(b *testing.B) {
			text := []byte(line)
			r := Learn(noon(b), true, []byte(strings.Repeat(line+"\n", 50))).Reader()
			b.SetBytes(int64(len(text)) + 1)
			for b.Loop() {
				r.Time(text)
			}
		})
	}
}

// A line that is read by the pattern of the one before has the same time as one that is recognised by itself.
func TestThePatternOfTheLineBeforeChangesNothing(t *testing.T) {
	for _, row := range samples(t, datedLines) {
		_, line, _ := strings.Cut(row, "\t")
		for _, other := range []string{strings.Replace(line, "06:12:00", "07:33:59", 1), strings.Replace(line, "06:12:00", "27:33:59", 1), strings.Replace(line, "06:12:00", "07:33:5x", 1),
			strings.Replace(line, "06:12:00.", "07:33:59,", 1), strings.Replace(line, "+01", "+02", 1), strings.Replace(line, "06:12:00.123", "07:33:59.1", 1), line[:len(line)/2], line + "9"} {
			p := Learn(noon(t), true, []byte(line+"\n"+other+"\n"))
			after, alone := p.Reader(), p.Reader()
			after.Time([]byte(line))
			a, okA := after.Time([]byte(other))
			b, okB := alone.Time([]byte(other))
			if strings.Contains(line, "up 12 days") || strings.HasPrefix(line, "[06:12") || strings.HasPrefix(line, "06:12") {
				continue // a clock alone depends on the lines before
			}
			require.Equal(t, okB, okA, "%q after %q", other, line)
			require.Equal(t, b, a, "%q after %q", other, line)
		}
	}
}
