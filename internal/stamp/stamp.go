// Package stamp recognises timestamps in bytes. It is never told a format.
package stamp

import (
	"bytes"
	"time"
)

// SearchLimit is how far into a line its own time may stand, in bytes.
const SearchLimit = 200

// Context says what a bare line leaves open.
type Context struct {
	Zone      *time.Location // the zone of times that name none; nil means UTC
	Reference time.Time      // the file's date, from which a missing year is taken
}

// Find gives the time of a line: the first timestamp within SearchLimit. Known are ISO 8601 and RFC 3339 (T or space,
// dot or comma before the fraction, with or without offset), the common log format of web servers, and syslog
// (RFC 3164, without year).
func Find(line []byte, c Context) (time.Time, bool) {
	if len(line) > SearchLimit {
		line = line[:SearchLimit]
	}
	if c.Zone == nil {
		c.Zone = time.UTC
	}
	for i := 0; i < len(line); i++ {
		b := line[i]
		if i > 0 && (isDigit(line[i-1]) || isLetter(line[i-1]) || line[i-1] == '.') {
			continue
		}
		switch {
		case isDigit(b):
			if t, ok := isoTime(line[i:], c.Zone); ok {
				return t, true
			}
			if t, ok := webTime(line[i:]); ok {
				return t, true
			}
		case b >= 'A' && b <= 'S':
			if t, ok := syslogTime(line[i:], c); ok {
				return t, true
			}
		}
	}
	return time.Time{}, false
}

func isDigit(b byte) bool  { return b >= '0' && b <= '9' }
func isLetter(b byte) bool { return b|0x20 >= 'a' && b|0x20 <= 'z' }

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

// clock reads "15:04:05" with an optional fraction and gives how many bytes it took.
func clock(b []byte) (h, m, s, ns, used int, ok bool) {
	if len(b) < 8 || b[2] != ':' || b[5] != ':' {
		return
	}
	h, ok1 := number(b, 2)
	m, ok2 := number(b[3:], 2)
	s, ok3 := number(b[6:], 2)
	if !ok1 || !ok2 || !ok3 || h > 23 || m > 59 || s > 60 {
		return 0, 0, 0, 0, 0, false
	}
	used = 8
	if len(b) > 9 && (b[8] == '.' || b[8] == ',') && isDigit(b[9]) {
		unit := 100_000_000
		for used = 9; used < len(b) && isDigit(b[used]); used++ {
			ns += int(b[used]-'0') * unit
			unit /= 10
		}
	}
	return h, m, s, ns, used, true
}

// offset reads "Z", "+01:00", "+0100" or "+01", after at most one space.
func offset(b []byte) (*time.Location, bool) {
	if len(b) > 0 && b[0] == ' ' {
		if len(b) < 2 || b[1] != '+' && b[1] != '-' {
			return nil, false
		}
		b = b[1:]
	}
	if len(b) == 0 {
		return nil, false
	}
	if b[0] == 'Z' && (len(b) == 1 || !isLetter(b[1])) {
		return time.UTC, true
	}
	if b[0] != '+' && b[0] != '-' {
		return nil, false
	}
	h, ok := number(b[1:], 2)
	if !ok || h > 14 {
		return nil, false
	}
	rest := bytes.TrimPrefix(b[3:], []byte(":"))
	m, _ := number(rest, 2)
	if m > 59 {
		return nil, false
	}
	seconds := h*3600 + m*60
	if b[0] == '-' {
		seconds = -seconds
	}
	return time.FixedZone("", seconds), true
}

func makeTime(y, mon, d, h, m, s, ns int, zone *time.Location) (time.Time, bool) {
	t := time.Date(y, time.Month(mon), d, h, m, s, ns, zone)
	if y < 1970 || y > 2200 || mon < 1 || mon > 12 || d < 1 || t.Day() != d {
		return time.Time{}, false
	}
	return t, true
}

func isoTime(b []byte, zone *time.Location) (time.Time, bool) {
	if len(b) < 19 || b[4] != '-' || b[7] != '-' || b[10] != 'T' && b[10] != ' ' && b[10] != 't' {
		return time.Time{}, false
	}
	y, ok1 := number(b, 4)
	mon, ok2 := number(b[5:], 2)
	d, ok3 := number(b[8:], 2)
	h, m, s, ns, used, ok4 := clock(b[11:])
	if !ok1 || !ok2 || !ok3 || !ok4 {
		return time.Time{}, false
	}
	if z, ok := offset(b[11+used:]); ok {
		zone = z
	}
	return makeTime(y, mon, d, h, m, s, ns, zone)
}

// webTime reads "14/Mar/2026:06:12:00 +0000".
func webTime(b []byte) (time.Time, bool) {
	if len(b) < 26 || b[2] != '/' || b[6] != '/' || b[11] != ':' {
		return time.Time{}, false
	}
	d, ok1 := number(b, 2)
	mon := month(b[3:6])
	y, ok2 := number(b[7:], 4)
	h, m, s, ns, used, ok3 := clock(b[12:])
	if !ok1 || !ok2 || !ok3 || mon == 0 {
		return time.Time{}, false
	}
	z, ok := offset(b[12+used:])
	if !ok {
		return time.Time{}, false
	}
	return makeTime(y, mon, d, h, m, s, ns, z)
}

const months = "JanFebMarAprMayJunJulAugSepOctNovDec"

func month(b []byte) int {
	for i := 0; i < 12; i++ {
		if string(b) == months[3*i:3*i+3] {
			return i + 1
		}
	}
	return 0
}

// syslogTime reads "Mar 14 06:12:00"; the year is the latest that does not put the line more than a day after the
// reference.
func syslogTime(b []byte, c Context) (time.Time, bool) {
	if len(b) < 15 || b[3] != ' ' || b[6] != ' ' || c.Reference.IsZero() {
		return time.Time{}, false
	}
	mon := month(b[:3])
	day := bytes.TrimPrefix(b[4:6], []byte(" "))
	d, ok1 := number(day, len(day))
	h, m, s, ns, _, ok2 := clock(b[7:])
	if mon == 0 || !ok1 || !ok2 {
		return time.Time{}, false
	}
	year := c.Reference.In(c.Zone).Year()
	for y := year + 1; y >= year-4; y-- { // four years back: a leap day may need them
		t, ok := makeTime(y, mon, d, h, m, s, ns, c.Zone)
		if ok && !t.After(c.Reference.Add(24*time.Hour)) {
			return t, true
		}
	}
	return time.Time{}, false
}
