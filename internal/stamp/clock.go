package stamp

import "bytes"

// joints are texts that may stand between a date and its clock, besides single signs and blanks.
var joints = [][]byte{
	[]byte(` time=`), []byte(` time="`), []byte(`" time="`), []byte("\ttime="), []byte(`","time":"`), []byte(`", "time": "`),
	[]byte(`,"Time":"`), []byte(`","Time":"`),
	[]byte(` at `), []byte(`, at `), []byte(` um `), []byte(` à `), []byte(` - `), []byte(`","`), []byte(`", "`), []byte(`";"`),
	[]byte(`::`), []byte(`. `), []byte(`; `),
}

// clockAfter reads the clock that follows a date of i bytes, and all that belongs to it. A date without a clock is no
// time of a line.
func (s *Stamp) clockAfter(b []byte, i int) bool {
	if i+3 > len(b) {
		return false
	}
	for _, j := range joints {
		if b[i] == j[0] && bytes.HasPrefix(b[i:], j) {
			if s.clock(b, i+len(j), false) {
				return true
			}
		}
	}
	switch sep := b[i]; {
	case sep == 'T' || sep == 't':
		return s.clock(b, i+1, true)
	case sep == ' ' || sep == '\t' || sep == 0xc2 && b[i+1] == 0xa0:
		return s.clockBehindBlanks(b, i)
	case sep == '_' || sep == '-' || sep == ':':
		return s.clock(b, i+1, s.style == compact || sep == '_') && (!s.coarse || s.sep == '/')
	case sep == ',' || sep == ';' || sep == '|' || sep == '/':
		n := 1 + spaces(b[i+1:], 2)
		return s.clock(b, i+n, false) && (!s.coarse || s.half || n > 1)
	}
	return false
}

// clockBehindBlanks reads the clock behind the blanks at b[i:], a tab, or a no-break space in UTF-8.
func (s *Stamp) clockBehindBlanks(b []byte, i int) bool {
	n := 1
	switch b[i] {
	case ' ':
		n = spaces(b[i:], 8)
	case 0xc2:
		n = 2
	}
	if i+n < len(b) && b[i+n] == 'T' {
		return false
	}
	return s.clock(b, i+n, s.style == compact || s.style == shortYMD)
}

// clock reads a clock at b[i:]; bare says that one without colons will do.
func (s *Stamp) clock(b []byte, i int, bare bool) bool {
	n := digits(b[min(i, len(b)):])
	switch {
	case (n == 1 || n == 2) && i+n < len(b) && b[i+n] == ':':
		return s.colonClock(b, i)
	case bare && (n == 6 || n == 4 && s.style != ymd):
		return s.bareClock(b, i, n)
	case (n == 1 || n == 2) && i+n < len(b) && b[i+n] == '.' && s.dotsClock(b, i):
		return s.dottedClock(b, i)
	case n == 2 && (b[i-1] == '_' || b[i-1] == 'T') && i+8 <= len(b) && b[i+2] == '-' && b[i+5] == '-':
		return s.dashedClock(b, i)
	}
	return false
}

// dotsClock says that behind a date as this one a clock with dots is usual.
func (s *Stamp) dotsClock(b []byte, i int) bool {
	switch s.style {
	case ymd:
		return s.sep == '.' || i > 0 && b[i-1] == '-'
	case numeric:
		return s.sep == '.'
	case dayMonYear:
		return s.sep == '-'
	}
	return false
}

func (s *Stamp) setClock(h, m, sec int) bool {
	s.hour, s.min, s.sec = h, m, sec
	return h <= 23 && m <= 59 && sec <= 60 || h == 24 && m == 0 && sec == 0
}

// colonClock reads "6:12:00.123 AM +01:00" and its shorter forms.
func (s *Stamp) colonClock(b []byte, i int) bool {
	n := digits(b[i:])
	h, _ := number(b[i:], n)
	s.clockPos = s.Start + i
	i += n + 1
	if digits(b[i:]) != 2 {
		return false
	}
	if n != 2 {
		s.clockPos = 0
	}
	m, _ := number(b[i:], 2)
	i += 2
	sec, ok := 0, false
	if s.coarse = true; i+2 < len(b) && b[i] == ':' && isDigit(b[i+1]) {
		if sec, ok = number(b[i+1:], 2); !ok {
			return false
		}
		s.coarse = false
		if i += 3; i+1 < len(b) {
			i += s.partOfSecond(b, i)
		}
	} else if i < len(b) && (b[i] == ':' && i+1 < len(b) && isDigit(b[i+1]) || b[i] == '.' && i+1 < len(b) && isDigit(b[i+1])) {
		return false
	}
	if !s.setClock(h, m, sec) {
		return false
	}
	if used := s.halfAt(b[i:]); used > 0 {
		i += used
	} else if s.half {
		return false
	}
	s.End = s.Start + i + s.zoneAt(b[i:])
	return true
}

// partOfSecond reads a fraction behind a dot or comma, or the milliseconds that some Java loggers put behind a colon.
func (s *Stamp) partOfSecond(b []byte, i int) int {
	switch sep := b[i]; {
	case (sep == '.' || sep == ',') && isDigit(b[i+1]):
		if n := digits(b[i+1:]); sep == ',' && n != 3 {
			next := byte(0)
			if i+1+n < len(b) {
				next = b[i+1+n]
			}
			if n < 3 && next != 'Z' && next != '+' || n > 9 || next == ',' {
				return 0 // the next column of a table
			}
		}
		return 1 + s.fractionAt(b[i+1:])
	case sep == ':' && digits(b[i+1:]) == 3:
		return 1 + s.fractionAt(b[i+1:])
	}
	return 0
}

// fractionAt reads the digits of a fraction; beyond nanoseconds they are stepped over.
func (s *Stamp) fractionAt(b []byte) int {
	s.nano, s.fraction = 0, true
	unit := 100_000_000
	n := 0
	for ; n < len(b) && isDigit(b[n]); n++ {
		s.nano += int(b[n]-'0') * unit
		unit /= 10
	}
	return n
}

// bareClock reads "061200.123" or "0612".
func (s *Stamp) bareClock(b []byte, i, n int) bool {
	h, _ := number(b[i:], 2)
	m, _ := number(b[i+2:], 2)
	sec := 0
	s.coarse = n == 4
	if i += 4; n == 6 {
		sec, _ = number(b[i:], 2)
		if i += 2; i+1 < len(b) && (b[i] == '.' || b[i] == ',') && isDigit(b[i+1]) {
			i += s.partOfSecond(b, i)
		}
	}
	if !s.setClock(h, m, sec) {
		return false
	}
	s.End = s.Start + i + s.zoneAt(b[i:])
	return true
}

// dottedClock reads "06.12.00.123456+060": hours, minutes and seconds with dots, and an offset in minutes.
func (s *Stamp) dottedClock(b []byte, i int) bool {
	n := digits(b[i:])
	h, _ := number(b[i:], n)
	i += n + 1
	if digits(b[i:]) != 2 || i+5 > len(b) || b[i+2] != '.' || digits(b[i+3:]) != 2 {
		return false
	}
	m, _ := number(b[i:], 2)
	sec, _ := number(b[i+3:], 2)
	if i += 5; i+1 < len(b) && (b[i] == '.' || b[i] == ',') && isDigit(b[i+1]) {
		i += 1 + s.fractionAt(b[i+1:])
	}
	if !s.setClock(h, m, sec) {
		return false
	}
	if used := s.halfAt(b[i:]); used > 0 {
		i += used
	} else if s.half {
		return false
	}
	if i+4 <= len(b) && (b[i] == '+' || b[i] == '-') && digits(b[i+1:]) == 3 {
		v, _ := number(b[i+1:], 3)
		s.zone, s.offset = zoneOffset, v*60
		if b[i] == '-' {
			s.offset = -s.offset
		}
		i += 4
	}
	s.End = s.Start + i
	if s.zone == zoneNone {
		s.End += s.zoneAt(b[i:])
	}
	return true
}

// dashedClock reads "06-12-00", as it stands behind an underscore or T.
func (s *Stamp) dashedClock(b []byte, i int) bool {
	h, ok1 := number(b[i:], 2)
	m, ok2 := number(b[i+3:], 2)
	sec, ok3 := number(b[i+6:], 2)
	if !ok1 || !ok2 || !ok3 || !s.setClock(h, m, sec) {
		return false
	}
	i += 8
	s.End = s.Start + i + s.zoneAt(b[i:])
	return true
}

// halfAt reads AM or PM. Used is 0 when there is none; s.half stays set when there is one that fits no clock.
func (s *Stamp) halfAt(b []byte) int {
	i := 0
	switch {
	case len(b) > 2 && b[0] == ' ':
		i = 1
	case len(b) > 3 && b[0] == 0xc2 && b[1] == 0xa0:
		i = 2
	case len(b) > 4 && b[0] == 0xe2 && b[1] == 0x80 && b[2] == 0xaf: // narrow no-break space
		i = 3
	}
	if i+2 > len(b) {
		return 0
	}
	c := b[i] | 0x20
	if c != 'a' && c != 'p' {
		return 0
	}
	n := 0
	switch {
	case b[i+1]|0x20 == 'm':
		n = 2
	case len(b) >= i+4 && b[i+1] == '.' && b[i+2]|0x20 == 'm' && b[i+3] == '.':
		n = 4
	default:
		return 0
	}
	if i+n < len(b) && (isLetter(b[i+n]) || isDigit(b[i+n])) {
		return 0
	}
	s.half = true
	if s.hour < 1 || s.hour > 12 {
		return 0
	}
	s.hour %= 12
	if c == 'p' {
		s.hour += 12
	}
	return i + n
}

// clockFirst reads a clock alone, or with the date behind it: "06:12:00.123", "06:12:00 14.03.2026".
func (s *Stamp) clockFirst(b []byte) bool {
	if !s.colonClock(b, 0) {
		return false
	}
	i := s.End - s.Start
	if s.dateBehind(b, i) {
		return true
	}
	s.style, s.month = noDate, 0
	s.End = s.Start + i
	if s.coarse || i < 7 {
		return s.half || s.coarse && s.Start > 0 && digits(b) == 2
	}
	// What goes on with a colon is a hardware address or a time code, what goes on with an arrow a subtitle.
	rest := b[i:]
	if len(rest) > 2 && rest[0] == ':' && isHex(rest[1]) && isHex(rest[2]) {
		return false
	}
	return (digits(b) == 2 || s.half) && !bytes.HasPrefix(rest, []byte("::")) && !bytes.HasPrefix(bytes.TrimLeft(rest, " "), []byte("-->"))
}

func isHex(b byte) bool { return isDigit(b) || b|0x20 >= 'a' && b|0x20 <= 'f' }

// dateBehind reads the date behind a clock.
func (s *Stamp) dateBehind(b []byte, i int) bool {
	rest := b[i:]
	for _, j := range []string{" on ", ", ", " - ", "  ", " ", "\t", "|", ";", ","} {
		if !bytes.HasPrefix(rest, []byte(j)) {
			continue
		}
		at := i + len(j)
		if word, _, ok := bytes.Cut(b[at:], []byte(" ")); ok && isDay(word) {
			at += len(word) + 1
		}
		d := Stamp{}
		used := d.bareDate(b[min(at, len(b)):])
		if used == 0 {
			continue
		}
		s.takeDate(&d)
		s.End = s.Start + at + used
		if s.zone == zoneNone {
			s.End += s.zoneAt(b[at+used:])
		}
		return true
	}
	return false
}

// bareDate reads a date that has its year, without a clock, and gives how many bytes it took.
func (s *Stamp) bareDate(b []byte) int {
	// A clock is put behind it, so that one grammar serves both.
	end := 0
	for end < len(b) && end < 32 && (isDigit(b[end]) || wordByte(b[end]) || b[end] == '-' || b[end] == '/' || b[end] == '.' ||
		b[end] == ' ' || b[end] == ',') {
		end++
	}
	for n := 1; n <= end; n++ {
		if n < end && (isDigit(b[n]) || wordByte(b[n])) || n < 8 {
			continue
		}
		text := append(append(make([]byte, 0, 48), b[:n]...), " 00:00:00"...)
		c := Stamp{}
		ok := false
		if isDigit(text[0]) {
			ok = c.fromDigits(text, 0)
		} else {
			ok = c.fromMonth(text)
		}
		if ok && c.End == len(text) && c.style.hasYear() && c.moment.IsZero() && (c.style != numeric || c.wide > 0 || c.sep == '/') {
			c.hour, c.min, c.sec = s.hour, s.min, s.sec
			*s = c
			s.Start, s.End = 0, 0
			return n
		}
	}
	return 0
}
