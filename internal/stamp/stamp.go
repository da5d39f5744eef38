package stamp

import (
	"bytes"
	"sync"
	"time"
)

// SearchLimit is how far into a line its own time may begin, in bytes.
const SearchLimit = 200

// KeyedLimit is how far into a line of JSON or XML its time is looked for, in bytes: there the key tells which it is,
// wherever it stands.
const KeyedLimit = 64 << 10

// style is how a date is written.
type style uint8

const (
	noDate     style = iota // 06:12:00
	ymd                     // 2026-03-14, 2026/3/14, 2026.03.14
	compact                 // 20260314
	ordinal                 // 2026-073 (ISO 8601)
	isoWeek                 // 2026-W11-6 (ISO 8601)
	numeric                 // 14/03/2026, 3/14/26: the order is not known from the line
	monthDay                // 03-14
	dayMonYear              // 14-Mar-2026
	monDayYear              // Mar 14 2026
	yearMonDay              // 2026 Mar 14
	monDay                  // Mar 14
	dayMon                  // 14 Mar
	shortYMD                // 260314
	glued                   // I0314: severity, month and day
	epoch                   // 1773468720.123 and its thousandfold forms
	tai                     // @4000000069b4fb3a0a1b2c3d
	uptime                  // [12345.678]
)

// hasYear says whether the style writes its year.
func (s style) hasYear() bool {
	return s != noDate && s != monthDay && s != monDay && s != dayMon && s != glued && s != uptime
}

// Order is the order of a numeric date.
type Order uint8

// The orders.
const (
	AnyOrder Order = iota
	DayFirst
	MonthFirst
	YearFirst
)

func (o Order) String() string {
	return [...]string{"unknown", "day first", "month first", "year first"}[o]
}

// place is how well the position of a stamp in its line speaks for its being the line's own.
type place uint8

const (
	elsewhere place = iota // a date that is mentioned
	unsure                 // after prose; only the whole file can tell
	inside                 // after words of a head: a level, a thread, a host
	keyed                  // the value of a key that means the time
	atStart                // the first thing in the line
)

// Stamp is a time as a line writes it. Its fields are only what is written.
type Stamp struct {
	Start, End int // where it stands in the line, in bytes

	style            style
	place            place
	sep              byte   // between the numbers of the date
	year, month, day int    // month 0 when the order of n is not known
	n                [3]int // a numeric date's numbers, as they stand
	wide             int    // which of n is a year of four digits, counted from 1; 0 for none
	hour, min, sec   int
	clockPos         int // where a clock of the form 15:04:05 begins, in the line; 0 where it has another form or begins it
	nano             int
	half             bool // with AM or PM
	coarse           bool // without seconds
	fraction         bool
	boxed            bool // in brackets of its own
	zone             zoneForm
	offset           int    // seconds east of UTC, for zoneOffset
	abbr             string // for zoneAbbr: as it is written; for zoneName: the zone's name
	moment           time.Time
	up               time.Duration
}

type zoneForm uint8

const (
	zoneNone zoneForm = iota
	zoneOffset
	zoneAbbr // "CET"
	zoneName // "Europe/Lisbon"
)

// Absolute says whether the stamp names a moment by itself: with year, order and zone.
func (s *Stamp) Absolute() bool {
	return !s.moment.IsZero() || s.style.hasYear() && s.zone == zoneOffset && (s.style != numeric || s.month > 0)
}

// Scan finds the line's own time, as it is written. A line of UTF-16 must be narrowed first (see Narrow).
func Scan(line []byte) (Stamp, bool) {
	setup()
	s, ok := scan(line)
	return s, ok && s.place > unsure
}

// scan is Scan that also gives stamps whose place leaves doubt.
func scan(line []byte) (Stamp, bool) {
	line = trimLine(line)
	if len(line) == 0 {
		return Stamp{}, false
	}
	trimmed := bytes.TrimLeft(line, " \t")
	if looksJSON(trimmed) {
		return scanJSON(line, len(line)-len(trimmed))
	}
	limit := SearchLimit
	if looksXML(trimmed) {
		limit = KeyedLimit
	}
	if len(line) > limit+64 { // a stamp that begins within the limit may end after it
		line = line[:limit+64]
	}
	if isHexDump(trimmed) {
		return Stamp{}, false
	}
	var s, weak Stamp
	for i := 0; i < len(line) && i < limit; i++ {
		b := line[i]
		if !begins[b] || i > 0 && !mayPrecede(line, i) {
			continue
		}
		if !isDigit(b) && !mayName(line[i:]) || !read(&s, line, i) {
			continue
		}
		switch s.place = placeOf(line, &s); {
		case s.place > unsure:
			return s, true
		case s.place == unsure && weak.place != unsure:
			weak = s
		}
		i = s.End - 1 // what lies within it is no second one
	}
	return weak, weak.place == unsure
}

// trimLine takes off the line end and the NUL bytes that a power cut leaves.
func trimLine(line []byte) []byte {
	for len(line) > 0 && (line[len(line)-1] == '\n' || line[len(line)-1] == '\r' || line[len(line)-1] == 0) {
		line = line[:len(line)-1]
	}
	if len(line) > 0 && line[0] == 0 {
		line = bytes.TrimLeft(line, "\x00")
	}
	return bytes.TrimPrefix(line, []byte("\xef\xbb\xbf")) // a byte order mark
}

// begins are the bytes with which a stamp can begin.
var begins [256]bool

// setup makes the tables, when the first file is looked at: a program that looks at none starts without them.
var setup = sync.OnceFunc(func() {
	setupNames()
	setupWords()
	for b := '0'; b <= '9'; b++ {
		begins[b] = true
	}
	for b, ok := range monthStarts {
		begins[b] = begins[b] || ok
	}
	for _, b := range []byte("IWEFD@") {
		begins[b] = true
	}
})

// mayPrecede says whether a stamp can begin behind the byte before i: not in the middle of a word, number, path or
// version.
func mayPrecede(line []byte, i int) bool {
	p := line[i-1]
	switch {
	case p == '.':
		return i == 1 // a mark that some devices put before a time that they do not trust
	case isDigit(p), isLetter(p), p == '/', p == '\\', p == '+', p == '_', p == '%', p == '$', p == '~', p >= 0x80:
		return p == 0xbf && i == 3 || p == 0xa0 // behind a byte order mark or a no-break space
	case p == '-':
		return i < 2 || line[i-2] == '-' || line[i-2] == ' ' || line[i-2] == '|'
	case p == ':':
		return i < 2 || line[i-2] != ':'
	case p == ',' || p == '@':
		return p == ',' || i == 1
	}
	return true
}

// candidate reads a stamp at position i, whatever stands before it.
func candidate(line []byte, i int) (s Stamp, ok bool) {
	ok = read(&s, line, i)
	return s, ok
}

// mayName says at little cost whether a month's name, a glued date or a TAI label can begin here.
func mayName(b []byte) bool {
	if len(b) < 6 {
		return false
	}
	if isLetter(b[0]) && isLetter(b[1]) {
		return nameStarts[int(b[0]|0x20-'a')*26+int(b[1]|0x20-'a')]
	}
	return b[0] >= 0x80 || b[1] >= 0x80 || isDigit(b[1])
}

// read is candidate without a copy.
func read(s *Stamp, line []byte, i int) bool {
	*s = Stamp{Start: i}
	b := line[i:]
	ok := false
	switch {
	case isDigit(b[0]):
		ok = s.fromDigits(line, i)
	case b[0] == '@':
		ok = s.fromTAI(b)
	default:
		if s.glued(line, i) {
			ok = true
		} else {
			ok = s.fromMonth(b)
		}
	}
	return ok && mayFollow(line, s.End)
}

// mayFollow says whether a stamp can end before the byte at end.
func mayFollow(line []byte, end int) bool {
	if end >= len(line) {
		return true
	}
	b := line[end]
	next := byte(0)
	if end+1 < len(line) {
		next = line[end+1]
	}
	switch {
	case isDigit(b), isLetter(b), b == '_', b == '%':
		return false
	case b == '.':
		return !isLetter(next) && !isDigit(next)
	case b == '-':
		return !isDigit(next) && (next < 'a' || next > 'z')
	case b == '/' || b == '\\':
		return next == ' ' || next == 0
	}
	return true
}

func isDigit(b byte) bool  { return b-'0' <= 9 }
func isLetter(b byte) bool { return b|0x20 >= 'a' && b|0x20 <= 'z' }
func isUpper(b byte) bool  { return b >= 'A' && b <= 'Z' }

// number reads n digits at the start of b; ok is false when there are not that many.
func number(b []byte, n int) (v int, ok bool) {
	if len(b) < n {
		return 0, false
	}
	for _, d := range b[:n] {
		if !isDigit(d) {
			return 0, false
		}
		v = v*10 + int(d-'0')
	}
	return v, true
}

// digits counts the digits at the start of b.
func digits(b []byte) int {
	n := 0
	for n < len(b) && isDigit(b[n]) {
		n++
	}
	return n
}

// spaces counts the blanks at the start of b, at most most of them.
func spaces(b []byte, most int) int {
	n := 0
	for n < len(b) && n < most && b[n] == ' ' {
		n++
	}
	return n
}

// Narrow gives the bytes of a line of UTF-16 as one byte a character, for Scan; what is beyond Latin-1 becomes '?'.
// big says that the high byte comes first.
func Narrow(dst, line []byte, big bool) []byte {
	dst = dst[:0]
	for i := 0; i+1 < len(line); i += 2 {
		lo, hi := line[i], line[i+1]
		if big {
			lo, hi = hi, lo
		}
		switch {
		case hi == 0xfe && lo == 0xff: // the byte order mark
		case hi != 0:
			dst = append(dst, '?')
		default:
			dst = append(dst, lo)
		}
	}
	return dst
}
