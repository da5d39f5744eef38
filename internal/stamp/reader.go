package stamp

import (
	"sort"
	"strings"
	"time"
)

// Reader gives the time of every line of a file, in its order.
type Reader struct {
	r    *resolver
	like pattern
}

// pattern is the stamp of a line before. Most lines differ from the one before only in the digits of the clock, and then
// nothing needs to be recognised anew.
type pattern struct {
	text  []byte // the line up to the byte behind its stamp
	stamp Stamp
	set   bool
}

// patternMost bounds how much of a line is compared, in bytes.
const patternMost = 64

// keep takes a line as the pattern of those that follow, if what is behind its stamp cannot change the judgement.
func (p *pattern) keep(line []byte, s *Stamp) {
	p.set = s.place == atStart && s.clockPos > s.Start && !s.half && !s.coarse && s.End < patternMost && s.moment.IsZero() &&
		s.style != noDate && s.n == [3]int{}
	if !p.set {
		return
	}
	p.text = append(p.text[:0], line[:min(s.End+1, len(line))]...)
	p.stamp = *s
}

// fits reads a line that differs from the pattern only in its clock.
func (p *pattern) fits(line []byte) bool {
	s, at := &p.stamp, p.stamp.clockPos
	if len(line) < len(p.text) || len(p.text) <= s.End || string(line[:at]) != string(p.text[:at]) {
		return false
	}
	c := line[at : at+8 : at+8]
	if c[2] != ':' || c[5] != ':' || !isDigit(c[0]) || !isDigit(c[1]) || !isDigit(c[3]) || !isDigit(c[4]) ||
		!isDigit(c[6]) || !isDigit(c[7]) {
		return false
	}
	i, unit, nano := at+8, 100_000_000, 0
	if s.fraction {
		if line[i] != p.text[i] {
			return false
		}
		for i++; isDigit(p.text[i]); i++ {
			if !isDigit(line[i]) {
				return false
			}
			nano += int(line[i]-'0') * unit
			unit /= 10
		}
	}
	if string(line[i:len(p.text)]) != string(p.text[i:]) {
		return false
	}
	h, m, sec := int(c[0]-'0')*10+int(c[1]-'0'), int(c[3]-'0')*10+int(c[4]-'0'), int(c[6]-'0')*10+int(c[7]-'0')
	if h > 23 || m > 59 || sec > 60 {
		return false
	}
	s.hour, s.min, s.sec, s.nano = h, m, sec, nano
	return true
}

// Reader begins at the start of the file.
func (p *Profile) Reader() *Reader { return &Reader{r: newResolver(p)} }

// Time gives a line's own time, in UTC; ok is false when it has none.
func (r *Reader) Time(line []byte) (t time.Time, ok bool) {
	s, ok := r.Stamp(line)
	if !ok {
		return time.Time{}, false
	}
	return r.Moment(&s)
}

// Stamp finds a line's own stamp.
func (r *Reader) Stamp(line []byte) (Stamp, bool) {
	p := r.r.p
	if r.like.set && r.like.fits(line) {
		return r.like.stamp, true
	}
	s, ok := p.scanLine(line)
	if !ok || !p.own(&s, line) {
		if p.clocks > 0 && !ok {
			if d, ok := dateAlone(line); ok { // a line with a date alone begins a new day
				r.r.day, r.r.hasDay, r.r.hasClock, r.r.hasPrev = d, true, false, false
			}
		}
		return Stamp{}, false
	}
	if s.style == uptime {
		if b := bootLine(line, &s); !b.IsZero() {
			r.r.boot = b
		}
	}
	if p.columns == nil && len(line) > 0 && line[0] != '{' && line[0] != 0 && line[0] != 0xef {
		r.like.keep(line, &s)
	}
	return s, true
}

// Moment gives the moment of a stamp that Stamp found.
func (r *Reader) Moment(s *Stamp) (time.Time, bool) {
	t, ok := r.r.moment(s)
	if !ok || t.Year() < firstYear || t.Year() > lastYear+1 {
		return time.Time{}, false
	}
	r.r.used |= r.r.doubt
	return t, true
}

// Doubt says what the last time rests on.
func (r *Reader) Doubt() Doubt { return r.r.doubt }

// Doubts says what any of the times rested on.
func (r *Reader) Doubts() Doubt { return r.r.used }

// Anywhere says whether lines can be read in any order: each tells its time by itself.
func (p *Profile) Anywhere() bool {
	return p.Dated > 0 && p.clocks == 0 && p.resets == 0 && p.firstYear == 0 && !p.blocks
}

// At gives a reader for lines in any order; it means the first where an hour occurs twice.
func (p *Profile) At() *Reader {
	r := newResolver(p)
	r.stateless = true
	return &Reader{r: r}
}

// Order gives the order of numeric dates that was found with certainty, for the other files of a set.
func (p *Profile) Order() Order {
	for _, g := range p.orders {
		if g.sure && g.order != AnyOrder {
			return g.order
		}
	}
	return AnyOrder
}

// Timeless says whether the file's stamps count from the start of the system, and nothing tells when that was.
func (p *Profile) Timeless() bool {
	return len(p.Forms) > 0 && p.Forms[0].Label == uptimeLabel && p.boot.IsZero() && p.Facts.Boot.IsZero()
}

const uptimeLabel = "[seconds since the start]"

func (l *Learner) sortedForms() []Form {
	var all []*formCount
	for _, c := range l.byKind {
		all = append(all, c)
	}
	sort.Slice(all, func(i, j int) bool {
		if all[i].Lines != all[j].Lines {
			return all[i].Lines > all[j].Lines
		}
		return all[i].first < all[j].first
	})
	var out []Form
	for _, c := range all {
		c.Label = l.p.ordered(c.Label)
		same := false
		for i := range out {
			if out[i].Label == c.Label {
				out[i].Lines += c.Lines
				same = true
			}
		}
		if !same {
			out = append(out, c.Form)
		}
	}
	return out
}

// ordered names the parts of a numeric date in the order that was found.
func (p *Profile) ordered(label string) string {
	i := strings.IndexByte(label, 'N')
	if i < 0 {
		return label
	}
	j := i
	for j < len(label) && label[j] == 'N' {
		j++
	}
	g := orderSlot(label[min(j, len(label)-1)])
	if g < 0 {
		return label
	}
	letters := map[Order]string{DayFirst: "DM", MonthFirst: "MD", YearFirst: "YMD"}[p.orders[g].order]
	if letters == "" {
		return label
	}
	out := []byte(label)
	part := 0
	for k := range out {
		switch {
		case out[k] == 'N' || out[k] == 'Y' && len(letters) == 3:
			if k > 0 && label[k-1] != label[k] && k != i {
				part++
			}
			if part < len(letters) {
				out[k] = letters[part]
			}
		}
	}
	return string(out)
}

// label describes how a stamp is written: "YYYY-MM-DD hh:mm:ss,fff".
func label(line []byte, s *Stamp) string {
	switch s.style {
	case epoch:
		return map[int]string{10: "seconds since 1970", 13: "milliseconds since 1970", 16: "microseconds since 1970",
			19: "nanoseconds since 1970"}[s.wide]
	case tai:
		return "TAI64N"
	case uptime:
		return uptimeLabel
	}
	order := map[style]string{ymd: "YMD", compact: "YMD", ordinal: "YJ", isoWeek: "YWD", monthDay: "MD", dayMonYear: "DY", monDayYear: "DY",
		yearMonDay: "YD", monDay: "D", dayMon: "D",
		shortYMD: "YMD", glued: "MD"}[s.style]
	if s.style == numeric {
		switch {
		case s.month == 0:
			order = "NNY"
		case s.year == s.n[2] || s.year == fullYear(s.n[2]%100) && s.wide == 3:
			order = "DMY"
			if s.month == s.n[0] && s.day == s.n[1] {
				order = "MDY"
			}
		default:
			order = "YMD"
			if s.day == s.n[0] {
				order = "DMY"
			} else if s.month == s.n[0] {
				order = "MDY"
			}
		}
	}
	clockFields := "hms"
	if s.coarse {
		clockFields = "hm"
	}
	fields := order + clockFields
	if s.style == monDayYear && s.sep == ' ' && order == "DY" {
		fields = "D" + clockFields // the year may stand behind the clock; it is found below
		if y := s.yearFirst(line); y {
			fields = "DY" + clockFields
		}
	}
	return mask(line[s.Start:s.End], fields, s)
}

// yearFirst says whether four digits of a year stand before the first colon.
func (s *Stamp) yearFirst(line []byte) bool {
	for i := s.Start; i < s.End && line[i] != ':'; i++ {
		if isDigit(line[i]) {
			n := digits(line[i:s.End])
			if n == 4 {
				return true
			}
			i += n - 1
		}
	}
	return false
}

// mask writes the letters of fields over a stamp's digits.
func mask(text []byte, fields string, s *Stamp) string {
	widths := map[byte]int{'Y': 4, 'M': 2, 'D': 2, 'h': 2, 'm': 2, 's': 2, 'J': 3, 'W': 2}
	var out []byte
	for i := 0; i < len(text); {
		if wordByte(text[i]) {
			if m, used := monthName(text[i:]); m > 0 {
				out = append(out, "Mon"...)
				i += used
				continue
			}
			out = append(out, text[i])
			i++
			continue
		}
		n := digits(text[i:])
		if n == 0 {
			out = append(out, text[i])
			i++
			continue
		}
		for n > 0 {
			c, w := byte('f'), n
			if len(fields) > 0 {
				c, fields = fields[0], fields[1:]
				if limit := widths[c]; limit > 0 && n > limit && (s.style != shortYMD || c != 'Y') {
					w = limit
				}
				if s.style == shortYMD && c == 'Y' {
					w = min(n, 2)
				}
			} else if prev := len(out) - 1; prev >= 0 && (out[prev] == '+' || out[prev] == '-') ||
				prev > 3 && out[prev] == ':' && (out[prev-3] == '+' || out[prev-3] == '-') {
				out = append(out, text[i:i+n]...)
				i, n = i+n, 0
				continue
			} else if n == 4 && (s.style == monDayYear || s.style == dayMonYear) && !s.fractionHere(out) {
				c = 'Y'
			}
			for range w {
				out = append(out, c)
			}
			i += w
			n -= w
		}
	}
	return string(out)
}

// fractionHere says whether what comes next is a fraction of a second.
func (s *Stamp) fractionHere(out []byte) bool {
	n := len(out)
	return s.fraction && n > 2 && (out[n-1] == '.' || out[n-1] == ',' || out[n-1] == ':') && out[n-2] == 's'
}

// Offset gives the offset that a stamp writes, in seconds east of UTC.
func (s *Stamp) Offset() (seconds int, ok bool) {
	return s.offset, s.zone == zoneOffset && s.style != epoch
}

// SinceStart gives how long after the start of the system a stamp is, when it counts from there.
func (s *Stamp) SinceStart() (time.Duration, bool) { return s.up, s.style == uptime }

// Unsettled says whether a sample leaves something open that the whole file may tell: which day a clock alone means, which
// year, how often the system was started, or whether day or month stands first.
func (p *Profile) Unsettled() bool {
	if p.clocks > 0 || p.resets > 0 || p.yearless || p.Dated == 0 {
		return true
	}
	for _, g := range p.orders {
		if g.order != AnyOrder && !g.sure {
			return true
		}
	}
	return p.Timeless()
}

// Blocks says whether records span several lines with the time in a later one, as in the journal's export format: then what
// stands before the time, back to the beginning of the record, belongs to it.
func (p *Profile) Blocks() bool { return p.blocks }

// Table says whether the file's first line names its columns.
func (p *Profile) Table() bool { return p.columns != nil }
