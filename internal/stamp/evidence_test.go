package stamp

import (
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every name of every month is read, in small letters, as a capital, and in Latin-1 where it has such a form.
func TestMonthNames(t *testing.T) {
	setup()
	seen := map[string]int{}
	for m, words := range monthWords {
		for _, w := range words {
			if other, twice := seen[w]; twice {
				assert.Equal(t, other, m, "%s means two months", w)
			}
			seen[w] = m
			for _, form := range []string{w, capital(w), latin1(w)} {
				if form == "" {
					continue
				}
				got, used := monthName([]byte(form + " 2026"))
				assert.Equal(t, m, got, "%q", form)
				assert.Equal(t, len(form), used, "%q", form)
			}
		}
	}
	require.Greater(t, len(seen), 200)
	for _, no := range []string{"Foo 1", "Marchers 1", "ma 1", "", "\xff\xff\xff"} {
		m, _ := monthName([]byte(no))
		require.Zero(t, m, no)
	}
}

func capital(w string) string {
	r := []rune(w)
	r[0] = unicode.ToUpper(r[0])
	return string(r)
}

func TestDaysOfTheWeek(t *testing.T) {
	setup()
	for _, yes := range []string{"Sat", "Sat,", "Saturday", "Sa.", "samedi", "sábado", "Samstag,", "сб", "LØR"} {
		if yes != "LØR" { // capitals of every language are not folded
			require.True(t, isDay([]byte(yes)), yes)
		}
	}
	for _, no := range []string{"", "S", "Sxt", "March", "1st", "Saturdays"} {
		require.False(t, isDay([]byte(no)), no)
	}
}

// The arithmetic of days agrees with the standard library's.
func TestCivilDays(t *testing.T) {
	for day := civilDays(1969, 12, 1); day < civilDays(2101, 1, 1); day += 7 {
		at := time.Unix(int64(day)*86400, 0).UTC()
		y, m, d := fromCivilDays(day)
		require.Equal(t, []int{at.Year(), int(at.Month()), at.Day()}, []int{y, m, d})
		require.Equal(t, day, civilDays(y, m, d))
		require.Equal(t, (int(at.Weekday())+6)%7, weekday(day))
	}
	for _, c := range []struct {
		y, m, d int
		want    bool
	}{{2024, 2, 29, true}, {2026, 2, 29, false}, {0, 2, 29, true}, {2000, 2, 29, true}, {2100, 2, 29, false}, {2026, 4, 31, false}, {2026, 13, 1, false}, {2026, 0, 1, false}, {1900, 1, 1, false}} {
		require.Equal(t, c.want, validDay(c.y, c.m, c.d), "%v", c)
	}
}

func TestZones(t *testing.T) {
	for text, want := range map[string]string{
		"Z":                             "06:12:00",
		"+01:00":                        "05:12:00",
		"+0100":                         "05:12:00",
		"+01":                           "05:12:00",
		" +01:00":                       "05:12:00",
		"-03:30":                        "09:42:00",
		"+1400":                         "16:12:00",
		" UTC":                          "06:12:00",
		" GMT+2":                        "04:12:00",
		" UTC-5":                        "11:12:00",
		" CEST":                         "04:12:00",
		" MESZ":                         "04:12:00",
		" JST":                          "21:12:00",
		" (CET)":                        "05:12:00",
		" [Europe/Lisbon]":              "06:12:00",
		" America/New_York":             "10:12:00", // daylight saving began a week before
		" Pacific Standard Time":        "14:12:00",
		" Central European Summer Time": "04:12:00",
		" +0000 (UTC)":                  "06:12:00",
		"+01:00[Europe/Lisbon]":         "05:12:00",
		" LOG":                          "05:12:00", // no zone: the site's
		" +05 degrees":                  "05:12:00",
		" -1234 items":                  "05:12:00",
		" CETUS":                        "05:12:00",
		" Nowhere/Land":                 "05:12:00",
	} {
		require.Contains(t, times(noon(t), "2026-03-14 06:12:00"+text+" up\n")[0], "T"+want, text)
	}
}

// The order of numeric dates: what settles it, and whether that is certain.
func TestOrderOfDates(t *testing.T) {
	june := time.Date(2026, 6, 20, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		name, text, zone string
		order            Order
		sure             bool
		why              string
	}{
		{"a day over 12", "01/02/2026 13/02/2026", "UTC", DayFirst, true, "from values over 12"},
		{"a month that would be over 12", "01/02/2026 01/22/2026", "UTC", MonthFirst, true, "from values over 12"},
		{"one broken line among many", strings.Repeat("01/22/2026 ", 60) + "22/01/2026", "UTC", MonthFirst, true, "from values over 12"},
		{"days that go on", "01/02/2026 02/02/2026 03/02/2026 01/03/2026", "UTC", DayFirst, true, "from the order of the lines"},
		{"months that go on", "02/01/2026 02/02/2026 02/03/2026 03/01/2026", "UTC", MonthFirst, true, "from the order of the lines"},
		{"one order lies ahead", "05/07/2026", "UTC", MonthFirst, true, "from the file's date"},
		{"one order goes on day by day", "06/11/2025 06/12/2025", "UTC", MonthFirst, true, "from the order of the lines"},
		{"nothing tells, in America", "01/02/2026", "America/New_York", MonthFirst, false, "assumed"},
		{"nothing tells, in Europe", "01/02/2026", "Europe/Lisbon", DayFirst, false, "assumed"},
		{"dots are day first", "01.02.2026", "America/New_York", DayFirst, true, "assumed"},
		{"two digits, year first", "26/03/14", "UTC", YearFirst, true, "from the file's date"},
	} {
		var b strings.Builder
		for _, d := range strings.Fields(c.text) {
			fmt.Fprintf(&b, "%s 06:12:00 x\n", d)
		}
		p := Learn(Facts{Zone: load(t, c.zone), AsOf: june}, true, []byte(b.String()))
		var g orderGuess
		for _, o := range p.orders {
			if o.order != AnyOrder {
				g = o
			}
		}
		assert.Equal(t, c.order, g.order, c.name)
		assert.Equal(t, c.sure, g.sure, c.name)
		assert.Contains(t, p.Orders, c.why, c.name)
	}
	p := Learn(Facts{Zone: time.UTC, AsOf: june, Order: DayFirst}, true, []byte("01/02/2026 06:12:00 x\n"))
	require.Equal(t, "day first, from other files of the set", p.Orders)
	require.Equal(t, DayFirst, p.Order())
	require.Equal(t, AnyOrder, Learn(Facts{Zone: time.UTC}, true, []byte("01/02/2026 06:12:00 x\n")).Order(), "what is assumed settles nothing for others")
}

// Lines can be read in any order only where each tells its time by itself.
func TestAnywhere(t *testing.T) {
	for text, want := range map[string]bool{
		"2026-03-14 06:12:00 a\n":                             true,
		"Mar 14 06:12:00 g a\n":                               true,
		"06:12:00 a\n":                                        false,
		"nothing\n":                                           false,
		"Feb 28 06:00:00 g\nFeb 29 06:00:00 g\n":              false,
		"[ 5.000000] a\n[ 0.000000] b\n":                      false,
		"__CURSOR=x\n__REALTIME_TIMESTAMP=1773468720000000\n": false,
	} {
		require.Equal(t, want, Learn(noon(t), true, []byte(text)).Anywhere(), "%q", text)
	}
	p := Learn(noon(t), true, []byte("2026-03-14 06:12:00 a\n"))
	at, ok := p.At().Time([]byte("2025-10-26 02:30:00 b"))
	require.True(t, ok)
	require.Equal(t, "2025-10-26T00:30:00Z", at.Format(time.RFC3339), "the first time of an hour that occurs twice")
}

func TestUnsettled(t *testing.T) {
	for text, want := range map[string]bool{
		"2026-03-14 06:12:00 a\n":    false,
		"06:12:00 a\n":               true,
		"Mar 14 06:12:00 g a\n":      true,
		"01/02/2026 06:12:00 a\n":    true,
		"13/02/2026 06:12:00 a\n":    false,
		"[    5.000000] a\n":         true,
		"nothing\n":                  true,
		"14.02.2026 06:12:00 a\n":    false,
		"1773468720.123 a b c d e\n": false,
	} {
		require.Equal(t, want, Learn(noon(t), false, []byte(text)).Unsettled(), "%q", text)
	}
}

// Days in names of files and folders.
func TestDayInName(t *testing.T) {
	for name, want := range map[string]string{
		"gate-20260314.log":            "2026-03-14",
		"gate-2026-03-14.log":          "2026-03-14",
		"gate_2026_03_14.log":          "2026-03-14",
		"gate.log.2026-03-14-06":       "2026-03-14",
		"gate.log.2026031406":          "2026-03-14",
		"/var/log/2026/03/14/gate.log": "2026-03-14",
		"/var/log/20260314/gate.log":   "2026-03-14",
		`C:\logs\2026-03-14\gate.log`:  "2026-03-14",
		"gate.log":                     "",
		"gate-20261314.log":            "",
		"gate-12345678.log":            "",
		"gate-123.log":                 "",
		"":                             "",
	} {
		got := ""
		if d := dayInName(name); d > 0 {
			y, m, day := fromCivilDays(d)
			got = fmt.Sprintf("%04d-%02d-%02d", y, m, day)
		}
		require.Equal(t, want, got, name)
	}
}

// The keys of records, also nested, torn, or with the time far behind.
func TestKeysOfRecords(t *testing.T) {
	long := strings.Repeat("x", 5000)
	for line, want := range map[string]string{
		`{"msg":"` + long + `","time":"2026-03-14T06:12:00Z"}`:                        "2026-03-14T06:12:00Z",
		`{"time":"2026-03-14T06:12:00Z","msg":"torn`:                                  "2026-03-14T06:12:00Z",
		`{"a":{"b":{"c":{"d":{"time":"2026-03-14T06:12:00Z"}}}}}`:                     "2026-03-14T06:12:00Z",
		`{"a":[1,2,{"time":"2026-03-14T06:12:00Z"}]}`:                                 "2026-03-14T06:12:00Z",
		`{"a":{"time":"2026-01-01T00:00:00Z"},"time":"2026-03-14T06:12:00Z"}`:         "2026-03-14T06:12:00Z",
		`{"starttime":"2026-01-01T00:00:00Z","timestamp":"2026-03-14T06:12:00Z"}`:     "2026-03-14T06:12:00Z",
		`{"msg":"say \"time\":\"2026-01-01T00:00:00Z\"","ts":"2026-03-14T06:12:00Z"}`: "2026-03-14T06:12:00Z",
		`{"ts":1.773468720e+09,"msg":"up"}`:                                           "2026-03-14T06:12:00Z",
		`{"ts":{"$date":{"$numberLong":"1773468720000"}}}`:                            "2026-03-14T06:12:00Z",
		`{"time":"06:12:00","date":"2026-03-14"}`:                                     "2026-03-14T05:12:00Z",
		`{"time":null,"ts":"2026-03-14T06:12:00Z"}`:                                   "2026-03-14T06:12:00Z",
		`{"time":"","level":"info"}`:                                                  "-",
		`{"time":12,"level":"info"}`:                                                  "-",
		`{"time":"2026-03-14T06:12:00Z and more"}`:                                    "-",
		`{}`:       "-",
		`{"`:       "-",
		`{"time":`: "-",
	} {
		require.Equal(t, want, times(noon(t), line+"\n")[0], line[:min(len(line), 80)])
	}
}

func TestColumns(t *testing.T) {
	for head, rows := range map[string][2]string{
		"id,Timestamp,host":                {`7,2026-03-14 06:12:00,"gate, one"`, "2026-03-14T05:12:00Z"},
		`"Level","Date and Time","Source"`: {`"Error","3/14/2026 6:12:00 AM","Gate"`, "2026-03-14T05:12:00Z"},
		"host;valid until;time":            {"gate-1;2027-01-01 00:00:00;2026-03-14 06:12:00", "2026-03-14T05:12:00Z"},
		"host\ttime\tmsg":                  {"gate-1\t1773468720\tup at 2026-01-01 00:00:00", "2026-03-14T06:12:00Z"},
		"Date,Time,Event":                  {"14.03.2026,06:12:00,up", "2026-03-14T05:12:00Z"},
		"time,host":                        {`broken row`, "-"},
	} {
		require.Equal(t, []string{"-", rows[1]}, times(noon(t), head+"\n"+rows[0]+"\n"), head)
	}
}

func TestNarrow(t *testing.T) {
	require.Equal(t, "a?b", string(Narrow(nil, []byte{'a', 0, 0x14, 0x20, 'b', 0}, false)))
	require.Equal(t, "a?b", string(Narrow(nil, []byte{0, 'a', 0x20, 0x14, 0, 'b'}, true)))
	require.Equal(t, "a", string(Narrow(nil, []byte{0xff, 0xfe, 'a', 0, 'b'}, false)), "a mark at its start, half a character at its end")
}
