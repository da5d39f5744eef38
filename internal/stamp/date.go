package stamp

import "bytes"

// daysIn gives the days of a month; February has 29, since the year may not be known.
var daysIn = [13]int{0, 31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31}

// Years outside of these are no log's.
const (
	firstYear = 1970
	lastYear  = 2199
)

func leap(y int) bool { return y%4 == 0 && (y%100 != 0 || y%400 == 0) }

// validDay says whether a day exists; year 0 stands for one that is not known.
func validDay(y, m, d int) bool {
	if m < 1 || m > 12 || d < 1 || d > daysIn[m] || y != 0 && (y < firstYear || y > lastYear) {
		return false
	}
	return m != 2 || d < 29 || y == 0 || leap(y)
}

// fullYear gives the year that two digits mean.
func fullYear(yy int) int {
	if yy >= 70 {
		return 1900 + yy
	}
	return 2000 + yy
}

func (s *Stamp) date(kind style, sep byte, y, m, d int) bool {
	s.style, s.sep, s.year, s.month, s.day = kind, sep, y, m, d
	return validDay(y, m, d)
}

// takeDate takes the date of another stamp, that stands apart from the clock.
func (s *Stamp) takeDate(d *Stamp) {
	s.style, s.sep, s.year, s.month, s.day, s.n, s.wide = d.style, d.sep, d.year, d.month, d.day, d.n, d.wide
}

// fromDigits reads a stamp that begins with a digit.
func (s *Stamp) fromDigits(line []byte, i int) bool {
	b := line[i:]
	switch n := digits(b); n {
	case 1, 2:
		return s.fromShort(line, i, n)
	case 4:
		return s.fromYear(b) || s.uptimeAt(line, i)
	case 5, 9:
		return s.uptimeAt(line, i)
	case 6:
		return s.fromSix(b) || s.uptimeAt(line, i)
	case 7:
		return s.fromOrdinal(b) || s.uptimeAt(line, i)
	case 8:
		return s.fromCompact(b) || s.uptimeAt(line, i)
	case 12, 14, 17, 20:
		return s.fromRun(b, n)
	case 3:
		return s.uptimeAt(line, i)
	case 10, 13, 16, 19:
		return s.epochAt(line, i, n)
	}
	return false
}

// fromYear reads "2026-03-14 06:12:00" and its likes: the year first, with four digits.
func (s *Stamp) fromYear(b []byte) bool {
	y, _ := number(b, 4)
	if y < firstYear || y > lastYear || len(b) < 10 {
		return false
	}
	sep := b[4]
	switch {
	case sep == '-' && b[5] == 'W':
		return s.isoWeekDate(b, y)
	case sep == '-' && digits(b[5:]) == 3:
		d, _ := number(b[5:], 3)
		return s.yearDay(y, d) && s.clockAfter(b, 8)
	case isLetter(sep) || (sep == ' ' || sep == '-' || sep == '/') && len(b) > 6 && monthStarts[b[5]]:
		return s.yearThenMonth(b, y)
	case sep == '-' || sep == '/' || sep == '.' || sep == ':' || sep == '_':
		return s.yearMonthDay(b, y, sep)
	}
	return false
}

// yearMonthDay reads the numbers of month and day behind a year, and the clock behind them.
func (s *Stamp) yearMonthDay(b []byte, y int, sep byte) bool {
	i := 5
	if sep == '.' && b[5] == ' ' {
		i++ // "2026. 03. 14. 6:12:00"
	}
	m, used := shortNumber(b[i:])
	if i += used; used == 0 || i >= len(b) || b[i] != sep {
		return false
	}
	if i++; sep == '.' && i < len(b) && b[i] == ' ' {
		i++
	}
	d, used := shortNumber(b[i:])
	if i += used; used == 0 || !s.date(ymd, sep, y, m, d) {
		return false
	}
	if sep == '.' && i+1 < len(b) && b[i] == '.' && b[i+1] == ' ' {
		i++
	}
	return s.clockAfter(b, i)
}

// shortNumber reads one or two digits that are not followed by a third.
func shortNumber(b []byte) (v, used int) {
	n := digits(b)
	if n != 1 && n != 2 {
		return 0, 0
	}
	v, _ = number(b, n)
	return v, n
}

// yearDay takes the day of a year.
func (s *Stamp) yearDay(y, day int) bool {
	if day < 1 || day > 366 || day == 366 && !leap(y) {
		return false
	}
	m := 1
	for ; m < 12; m++ {
		n := daysIn[m]
		if m == 2 && !leap(y) {
			n = 28
		}
		if day <= n {
			break
		}
		day -= n
	}
	return s.date(ordinal, '-', y, m, day)
}

// fromOrdinal reads "2026073T061200Z".
func (s *Stamp) fromOrdinal(b []byte) bool {
	y, _ := number(b, 4)
	d, _ := number(b[4:], 3)
	return len(b) > 8 && b[7] == 'T' && y >= firstYear && y <= lastYear && s.yearDay(y, d) && s.clockAfter(b, 7)
}

// isoWeekDate reads "2026-W11-6T06:12:00Z".
func (s *Stamp) isoWeekDate(b []byte, y int) bool {
	week, ok := number(b[6:], 2)
	if !ok || len(b) < 11 || b[8] != '-' || !isDigit(b[9]) || week < 1 || week > 53 || b[9] < '1' || b[9] > '7' {
		return false
	}
	// 4 January is always in week 1.
	first := civilDays(y, 1, 4)
	monday := first - weekday(first)
	yy, m, d := fromCivilDays(monday + (week-1)*7 + int(b[9]-'1'))
	return s.date(isoWeek, '-', yy, m, d) && s.clockAfter(b, 10)
}

// yearThenMonth reads "2026 Mar 14 06:12:00", "2026-Mar-14", "2026Mar14".
func (s *Stamp) yearThenMonth(b []byte, y int) bool {
	i := 4
	if !isLetter(b[4]) {
		i = 5
	}
	m, used := monthName(b[i:])
	if m == 0 {
		return false
	}
	i += used
	if i < len(b) && (b[i] == ' ' || b[i] == '-' || b[i] == '/') {
		i++
		i += spaces(b[i:], 1)
	}
	d, used := shortNumber(b[min(i, len(b)):])
	return used > 0 && s.date(yearMonDay, ' ', y, m, d) && s.clockAfter(b, i+used)
}

// fromCompact reads "20260314T061200Z" and "20260314 06:12:00".
func (s *Stamp) fromCompact(b []byte) bool {
	y, _ := number(b, 4)
	m, _ := number(b[4:], 2)
	d, _ := number(b[6:], 2)
	return s.date(compact, 0, y, m, d) && y > 0 && s.clockAfter(b, 8)
}

// fromRun reads a date and a clock in one run of digits: "20260314061200", also with parts of a second. Such a run is
// a part number as easily, so that its place must speak for it (see placeOf).
func (s *Stamp) fromRun(b []byte, n int) bool {
	y, _ := number(b, 4)
	m, _ := number(b[4:], 2)
	d, _ := number(b[6:], 2)
	h, _ := number(b[8:], 2)
	mi, _ := number(b[10:], 2)
	if !s.date(compact, 1, y, m, d) || y < 1990 || h > 23 || mi > 59 {
		return false
	}
	s.hour, s.min, s.coarse = h, mi, n == 12
	if n > 12 {
		if s.sec, _ = number(b[12:], 2); s.sec > 60 {
			return false
		}
	}
	i := min(n, 14)
	if n > 14 {
		i += s.fractionAt(b[i:])
	} else if n == 14 && len(b) > 15 && (b[14] == '.' || b[14] == ',') && isDigit(b[15]) {
		i += 1 + s.fractionAt(b[15:])
	}
	s.End = s.Start + i + s.zoneAt(b[i:])
	return true
}

// fromSix reads "260314  6:12:00" and "260314 061200".
func (s *Stamp) fromSix(b []byte) bool {
	yy, _ := number(b, 2)
	m, _ := number(b[2:], 2)
	d, _ := number(b[4:], 2)
	return len(b) > 13 && (b[6] == ' ' || b[6] == '-' || b[6] == 'T') && s.date(shortYMD, 0, fullYear(yy), m, d) && s.clockAfter(b, 6)
}

// fromShort reads what begins with one or two digits: a numeric date, a day before a month's name, or a clock.
func (s *Stamp) fromShort(line []byte, at, n int) bool {
	b := line[at:]
	if len(b) < n+3 {
		return false
	}
	first, _ := number(b, n)
	switch sep := b[n]; {
	case sep == ':':
		return (at < 2 || line[at-1] != ':' || !isHex(line[at-2])) && s.clockFirst(b)
	case sep == '/' || sep == '.' || sep == '-':
		if isDigit(b[n+1]) {
			return s.numericDate(b, first, n, sep) || s.uptimeAt(line, at)
		}
		return s.dayThenMonth(b, first, n)
	case sep == ' ' || isLetter(sep) || sep >= 0x80:
		return s.dayThenMonth(b, first, n)
	case sep == '.':
		return s.uptimeAt(line, at)
	}
	return false
}

// numericDate reads "14/03/2026 06:12:00", "3/14/26 6:12 AM", "03-14 06:12:00.123", "14.03. 06:12:00".
func (s *Stamp) numericDate(b []byte, first, n int, sep byte) bool {
	second, used := shortNumber(b[n+1:])
	i := n + 1 + used
	if used == 0 || i >= len(b) {
		return false
	}
	s.sep = sep
	if b[i] != sep {
		return n == 2 && used == 2 && sep != '.' && s.date(monthDay, sep, 0, first, second) && s.yearlessClock(b, i)
	}
	i++
	if sep == '.' && i < len(b) && b[i] == ' ' {
		return n == 2 && used == 2 && s.date(monthDay, sep, 0, second, first) && s.yearlessClock(b, i)
	}
	third := digits(b[min(i, len(b)):])
	if third != 2 && third != 4 {
		return false
	}
	s.n[0], s.n[1] = first, second
	s.n[2], _ = number(b[i:], third)
	s.style, s.year, s.month, s.day = numeric, 0, 0, 0
	if third == 4 {
		s.wide = 3
	}
	orders := s.orders()
	if len(orders) == 0 {
		return false
	}
	if len(orders) == 1 {
		s.settle(orders[0])
	}
	return s.clockAfter(b, i+third)
}

// yearlessClock reads the clock of a numeric date without a year: with seconds, since "03-14 06:12" could be anything.
func (s *Stamp) yearlessClock(b []byte, i int) bool {
	return i < len(b) && (b[i] == ' ' || b[i] == '-') && s.clockAfter(b, i) && !s.coarse
}

// orders gives the orders in which a numeric date is a day.
func (s *Stamp) orders() []Order {
	var out [3]Order
	k := 0
	for _, o := range []Order{DayFirst, MonthFirst, YearFirst} {
		y, m, d, ok := s.ordered(o)
		if ok && validDay(y, m, d) {
			out[k] = o
			k++
		}
	}
	return out[:k]
}

// ordered gives year, month and day of a numeric date in an order.
func (s *Stamp) ordered(o Order) (y, m, d int, ok bool) {
	a, b, c := s.n[0], s.n[1], s.n[2]
	switch o {
	case DayFirst:
		y, m, d = c, b, a
	case MonthFirst:
		y, m, d = c, a, b
	case YearFirst:
		if s.wide == 3 {
			return 0, 0, 0, false
		}
		y, m, d = a, b, c
	}
	if s.wide == 0 {
		y = fullYear(y)
	}
	return y, m, d, true
}

func (s *Stamp) settle(o Order) { s.year, s.month, s.day, _ = s.ordered(o) }

// dayThenMonth reads "14-Mar-2026 06:12:00", "14/Mar/2026:06:12:00 +0000", "14 Mar 06:12:00", "14. März 2026 06:12:00".
func (s *Stamp) dayThenMonth(b []byte, d, n int) bool {
	i := n
	if b[i] == '.' {
		i++
	}
	if i < len(b) && (b[i] == ' ' || b[i] == '-' || b[i] == '/') {
		i++
	}
	if bytes.HasPrefix(b[min(i, len(b)):], []byte("de ")) { // "14 de marzo de 2026"
		i += 3
	}
	m, used := monthName(b[min(i, len(b)):])
	if m == 0 {
		return false
	}
	i += used
	glue := byte(0)
	if i < len(b) && (b[i] == ' ' || b[i] == '-' || b[i] == '/' || b[i] == ',') {
		glue = b[i]
		i++
		i += spaces(b[i:], 1)
	}
	if bytes.HasPrefix(b[min(i, len(b)):], []byte("de ")) {
		i += 3
	}
	rest := b[min(i, len(b)):]
	switch y := digits(rest); {
	case y == 4:
		v, _ := number(rest, 4)
		if v >= firstYear && v <= lastYear {
			return s.date(dayMonYear, glue, v, m, d) && s.clockAfter(b, i+4)
		}
	case y == 2 && (len(rest) < 3 || rest[2] != ':'):
		v, _ := number(rest, 2)
		return s.date(dayMonYear, glue, fullYear(v), m, d) && s.clockAfter(b, i+2)
	}
	return glue == ' ' && s.date(dayMon, ' ', 0, m, d) && s.clockAfter(b, i-1) && s.yearAfter(b) && s.fine()
}

// fromMonth reads "Mar 14 06:12:00", "Mar 14, 2026 6:12:00 AM", "Mar 14 06:12:00 CET 2026", "Mar/14/2026".
func (s *Stamp) fromMonth(b []byte) bool {
	m, used := monthName(b)
	if m == 0 || used >= len(b) {
		return false
	}
	i := used
	sep := b[i]
	if sep != ' ' && sep != '-' && sep != '/' {
		return false
	}
	i++
	i += spaces(b[i:], 1)
	d, used := shortNumber(b[min(i, len(b)):])
	if used == 0 {
		return false
	}
	i += used
	j := i
	if j < len(b) && (b[j] == ',' || b[j] == sep) {
		j++
		j += spaces(b[j:], 1)
	}
	if j > i {
		if y, ok := number(b[j:], 4); ok && y >= firstYear && y <= lastYear && (len(b) == j+4 || !isDigit(b[j+4])) {
			return s.date(monDayYear, sep, y, m, d) && s.clockAfter(b, j+4)
		}
		if sep == '-' { // "Mar-14-26"
			if y, ok := number(b[j:], 2); ok && (len(b) == j+2 || b[j+2] == ' ') {
				return s.date(monDayYear, sep, fullYear(y), m, d) && s.clockAfter(b, j+2)
			}
		}
	}
	return s.date(monDay, ' ', 0, m, d) && s.clockAfter(b, i) && s.yearAfter(b) && s.fine()
}

// fine says whether a stamp without a year is written to the second: "Mar 14 06:12" stands in listings of files.
func (s *Stamp) fine() bool { return s.style.hasYear() || !s.coarse || s.half }

// yearAfter reads the year that stands behind the clock, as in "Sat Mar 14 06:12:00 CET 2026". Without one the stamp
// stays as it is.
func (s *Stamp) yearAfter(b []byte) bool {
	i := s.End - s.Start
	if i+5 > len(b) || b[i] != ' ' || s.coarse && s.zone == zoneNone {
		return true
	}
	y, ok := number(b[i+1:], 4)
	if !ok || y < 1990 || y > lastYear || !validDay(y, s.month, s.day) {
		return true
	}
	if end := i + 5; end < len(b) && (isDigit(b[end]) || isLetter(b[end]) || b[end] == ':' || b[end] == '.' ||
		b[end] == '-' || b[end] == '/') {
		return true
	}
	s.year = y
	if s.style == monDay {
		s.style = monDayYear
	} else {
		s.style = dayMonYear
	}
	s.End += 5
	if s.zone == zoneNone {
		s.End += s.zoneAt(b[i+5:])
	}
	return true
}

// glued reads "I0314 06:12:00.123456": a severity letter, then month and day.
func (s *Stamp) glued(line []byte, i int) bool {
	b := line[i:]
	if len(b) < 14 || b[5] != ' ' || bytes.IndexByte([]byte("IWEFD"), b[0]) < 0 || digits(b[1:]) != 4 {
		return false
	}
	m, _ := number(b[1:], 2)
	d, _ := number(b[3:], 2)
	return s.date(glued, 0, 0, m, d) && s.clockAfter(b, 5) && !s.coarse
}
