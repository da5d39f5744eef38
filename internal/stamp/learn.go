package stamp

import (
	"bytes"
	"path"
	"strings"
	"time"
)

// Profile is what was learned of a file: what its lines leave open, and which of the dates in it are the lines' own.
type Profile struct {
	Facts   Facts
	Lines   int    // looked at
	Dated   int    // of them
	Forms   []Form // the forms found, commonest first
	Offsets int    // how many of the dated lines name their zone or offset, or count from a fixed moment
	Orders  string // where the order of numeric dates comes from, in words; "" when there are none

	orders      [3]orderGuess // for '/', '-' and '.'
	latest      time.Time     // the latest local time that a line without a year may have
	latestClock int           // of latest, in seconds
	yearless    bool
	firstYear   int       // of the first line, in a file that spans several years and writes none
	turns       int       // of days, in a file that writes none
	headerDay   int       // days since 1970, from a line with a date alone; 0 when there is none
	nameDay     int       // the same, from the file's name
	lastClock   int       // the last line's clock, in seconds
	clocks      int       // lines with a clock alone
	resets      int       // of stamps that count from the start
	boot        time.Time // from a line that tells it
	flush       bool      // dated lines begin at the margin: an indented date is a mentioned one
	strict      bool      // the file dates its lines at their beginning: a date further in is a mentioned one
	weak        style     // of dates behind prose that are in order all the same
	weakOK      bool
	columns     *columns
	blocks      bool // the time of a record is not in its first line
}

// Form is one way in which lines of a file are dated.
type Form struct {
	Label string // such as "YYYY-MM-DD hh:mm:ss,fff"
	Lines int
}

type orderGuess struct {
	order Order
	sure  bool
}

// Learn looks at pieces of a file, in their order; whole says that they are all of it. A piece begins and ends at a line
// end, or with the file.
func Learn(f Facts, whole bool, pieces ...[]byte) *Profile {
	l := newLearner(f)
	for _, p := range pieces {
		l.gap()
		for len(p) > 0 {
			line, rest, _ := bytes.Cut(p, []byte("\n"))
			l.Line(line)
			p = rest
		}
	}
	return l.Profile(whole)
}

// Learner gathers evidence line by line, for files of any size.
type Learner struct {
	p      *Profile
	byKind map[formKey]*formCount
	dates  [3]numericDates
	years  yearRuns

	flush, indented int
	start, inside   int
	weak            map[style]*weakRun
	prevUp          time.Duration
	lead            int  // lines since the record began, as far as a blank line or a mark shows it; -1 when none did
	led, bare       int  // dated lines with and without lines of their record before them
	torn            bool // the next line does not follow the one before
	headDone        bool
}

type formKey struct {
	style style
	sep   byte
	more  uint8 // half, coarse, fraction, zone
	place place
}

type formCount struct {
	Form
	first int
}

type weakRun struct {
	n, back int
	last    int64
}

func newLearner(f Facts) *Learner {
	setup()
	p := &Profile{Facts: f}
	if f.Zone == nil {
		p.Facts.Zone = time.UTC
	}
	if !f.AsOf.IsZero() {
		local := f.AsOf.In(p.Facts.Zone)
		p.latest = local.Add(24 * time.Hour)
		p.latestClock = secondsOf(p.latest)
	}
	p.nameDay = dayInName(f.Name)
	return &Learner{p: p, byKind: map[formKey]*formCount{}, weak: map[style]*weakRun{}, lead: -1}
}

// NewLearner begins to learn a file.
func NewLearner(f Facts) *Learner { return newLearner(f) }

func secondsOf(t time.Time) int { return t.Hour()*3600 + t.Minute()*60 + t.Second() }

// gap says that the next line does not follow the last one.
func (l *Learner) gap() { l.torn = true }

// beforeDate takes into account what a line says apart from its date: where a record starts, and what a head tells.
func (l *Learner) beforeDate(line []byte) {
	p := l.p
	switch starts, blank := RecordStart(line); {
	case blank:
		l.lead = 0
	case starts:
		l.lead = 1
	case l.lead >= 0:
		l.lead++
	}
	if !l.headDone && p.columns == nil && p.Lines <= 20 {
		p.columns = headerColumns(line)
	}
	if len(line) > 0 && line[0] == '#' && !p.Facts.ZoneGiven && w3cHead(line) {
		p.Facts.Zone, p.Facts.ZoneFrom = time.UTC, "the file's format (W3C extended logs are in UTC)"
	}
}

// Line takes one line into account.
func (l *Learner) Line(line []byte) {
	p := l.p
	p.Lines++
	l.beforeDate(line)
	s, ok := p.scanLine(line)
	if !ok {
		l.undated(line)
		l.torn = false
		return
	}
	if s.place == unsure {
		l.unsure(&s)
		return
	}
	l.headDone = true
	p.Dated++
	l.count(line, &s)
	if s.Absolute() || s.zone != zoneNone {
		p.Offsets++
	}
	if l.lead > 1 && s.place == keyed {
		l.led++
	} else {
		l.bare++
	}
	l.lead = -1
	if s.place == atStart {
		l.start++
		if len(line) > 0 && (line[0] == ' ' || line[0] == '\t') {
			l.indented++
		} else {
			l.flush++
		}
	} else if s.place == inside && !s.boxed {
		l.inside++
	}
	switch {
	case s.style == numeric:
		if g := orderSlot(s.sep); g >= 0 {
			l.dates[g].add(&s)
		}
	case s.style == noDate:
		l.clockLine(&s)
	case s.style == uptime:
		if s.up+time.Second < l.prevUp && !l.torn {
			p.resets++
		}
		l.prevUp = s.up
		if b := bootLine(line, &s); !b.IsZero() {
			p.boot = b
		}
	case !s.style.hasYear():
		p.yearless = true
		l.years.add(s.month, s.day)
	}
	l.torn = false
}

func (l *Learner) unsure(s *Stamp) {
	w := l.weak[s.style]
	if w == nil {
		w = &weakRun{}
		l.weak[s.style] = w
	}
	at := s.moment.Unix()
	if s.moment.IsZero() {
		if s.month == 0 {
			s.settle(DayFirst)
		}
		at = int64(civilDays(s.year, max(s.month, 1), s.day))*86400 + int64(s.hour*3600+s.min*60+s.sec)
	}
	if w.n > 0 && at < w.last {
		w.back++
	}
	w.last = at
	w.n++
}

func (l *Learner) clockLine(s *Stamp) {
	p := l.p
	at := s.hour*3600 + s.min*60 + s.sec
	if p.clocks > 0 && p.lastClock-at > dayBack {
		p.turns++
	}
	p.lastClock = at
	p.clocks++
}

func (l *Learner) undated(line []byte) {
	if l.p.clocks == 0 && l.p.headerDay == 0 && l.p.Dated == 0 {
		if d, ok := dateAlone(line); ok {
			l.p.headerDay = d
		}
	}
}

func (l *Learner) count(line []byte, s *Stamp) {
	k := formKey{style: s.style, sep: s.sep, place: s.place, more: uint8(s.zone) << 4}
	for i, b := range []bool{s.half, s.coarse, s.fraction} {
		if b {
			k.more |= 1 << i
		}
	}
	c := l.byKind[k]
	if c == nil {
		if len(l.byKind) > 200 {
			return
		}
		c = &formCount{Form: Form{Label: label(trimLine(line), s)}, first: l.p.Lines}
		l.byKind[k] = c
	}
	c.Lines++
}

// recordMarks are the beginnings of lines with which a record of several lines begins, in exports of event logs and in
// Java's XML.
var recordMarks = [][]byte{[]byte("<record>"), []byte("<Event "), []byte("<Event>"), []byte("<event "), []byte("<event>"), []byte("<entry"),
	[]byte("Event["), []byte("__CURSOR=")}

// RecordStart says whether a record of several lines begins with a line, or behind it because it is blank.
func RecordStart(line []byte) (starts, blank bool) {
	line = bytes.TrimSpace(trimLine(line))
	if len(line) == 0 {
		return false, true
	}
	for _, m := range recordMarks {
		if bytes.HasPrefix(line, m) {
			return true, false
		}
	}
	return false, false
}

// w3cHead says whether a line is the head of a log in the W3C Extended Log File Format (W3C working draft WD-logfile),
// whose times are in UTC.
func w3cHead(line []byte) bool {
	return bytes.HasPrefix(line, []byte("#Fields:")) && bytes.Contains(line, []byte(" time"))
}

// columns are the columns of a table that hold the time, as its first line names them.
type columns struct {
	sep        byte
	time, date int // counted from 0; -1 for none
}

// headerColumns reads the first line of a table that is separated by commas, semicolons or tabs.
func headerColumns(line []byte) *columns {
	line = trimLine(line)
	if len(line) > 2000 || len(line) < 8 {
		return nil
	}
	sep := byte(',')
	for _, c := range []byte{'\t', ';'} {
		if bytes.Count(line, []byte{c}) > bytes.Count(line, []byte{sep}) {
			sep = c
		}
	}
	if bytes.Count(line, []byte{sep}) < 1 || digits(line) > 0 {
		return nil
	}
	c := &columns{sep: sep, time: -1, date: -1}
	best := 1000
	for i, name := range bytes.Split(line, []byte{sep}) {
		name = bytes.Trim(name, " \"'#")
		if len(name) > 40 || digits(name) == len(name) && len(name) > 0 {
			return nil
		}
		rank := keyRank(name)
		switch {
		case rank == 0:
		case bytes.EqualFold(name, []byte("date")):
			c.date = i
		case rank < best:
			c.time, best = i, rank
		}
	}
	if c.time < 0 && c.date < 0 {
		return nil
	}
	return c
}

// field gives where a column stands in a line.
func (c *columns) field(line []byte, n int) (from, to int, ok bool) {
	i, quoted := 0, false
	for from = 0; i <= len(line); i++ {
		switch {
		case i < len(line) && line[i] == '"':
			quoted = !quoted
		case i == len(line) || line[i] == c.sep && !quoted:
			if n == 0 {
				for from < i && (line[from] == '"' || line[from] == ' ') {
					from++
				}
				to = i
				for to > from && (line[to-1] == '"' || line[to-1] == ' ') {
					to--
				}
				return from, to, true
			}
			n--
			from = i + 1
		}
	}
	return 0, 0, false
}

// scan reads the time of a line of a table.
func (c *columns) scan(line []byte) (Stamp, bool) {
	line = trimLine(line)
	if len(line) > KeyedLimit {
		line = line[:KeyedLimit]
	}
	if c.time >= 0 {
		from, to, ok := c.field(line, c.time)
		if !ok {
			return Stamp{}, false
		}
		if s, ok := valueStamp(line, from, to); ok {
			s.place = keyed
			if s.style == noDate && c.date >= 0 {
				if a, b, ok := c.field(line, c.date); ok {
					d := Stamp{}
					if d.bareDate(line[a:b]) == b-a && b > a {
						s.takeDate(&d)
					}
				}
			}
			return s, true
		}
	}
	if c.date >= 0 {
		if from, to, ok := c.field(line, c.date); ok {
			if s, ok := valueStamp(line, from, to); ok {
				s.place = keyed
				return s, true
			}
		}
	}
	return Stamp{}, false
}

// scanLine finds a line's stamp, by the table's columns where there are such.
func (p *Profile) scanLine(line []byte) (Stamp, bool) {
	if p.columns != nil {
		if s, ok := p.columns.scan(line); ok {
			return s, true
		}
	}
	return scan(line)
}

// own says whether a stamp is the line's own, by all that is known of the file.
func (p *Profile) own(s *Stamp, line []byte) bool {
	switch s.place {
	case keyed:
		return true
	case unsure:
		return p.weakOK && s.style == p.weak
	case inside:
		return !p.strict || s.boxed
	case atStart:
		return !p.flush || line[0] != ' ' && line[0] != '\t'
	}
	return false
}

// Profile draws the conclusions. whole says that all lines of the file were seen.
func (l *Learner) Profile(whole bool) *Profile {
	p := l.p
	p.flush = l.flush >= 5 && l.indented*5 < l.flush
	p.strict = l.start >= 8 && l.inside*8 <= l.start
	if p.Dated == 0 {
		for st, w := range l.weak {
			if w.n >= 3 && w.n*10 >= p.Lines && w.back*10 <= w.n && (!p.weakOK || w.n > p.Dated) {
				p.weak, p.weakOK, p.Dated = st, true, w.n
			}
		}
	}
	p.blocks = l.led >= 1 && l.led*5 >= l.bare*4
	l.judgeOrders()
	if whole {
		p.firstYear = l.years.firstYear(p.latest)
	}
	p.Forms = l.sortedForms()
	return p
}

// firstDay gives the day of the first line of a file that writes none: from the file's name, from a line with the date
// alone, or counted back from the file's date.
func (p *Profile) firstDay() (day int, ok, sure bool) {
	switch {
	case p.headerDay > 0:
		return p.headerDay, true, true
	case p.nameDay > 0:
		return p.nameDay, true, true
	case p.Facts.AsOf.IsZero():
		return 0, false, false
	}
	as := p.Facts.AsOf.In(p.Facts.Zone)
	if utc := p.Facts.AsOf.UTC(); p.Facts.AsOfDay && secondsOf(utc) == 0 { // a bare day, wherever it was written
		as = utc
	}
	y, m, d := as.Date()
	last := civilDays(y, int(m), d)
	clock := secondsOf(as)
	if !p.Facts.AsOfDay && p.lastClock > clock+600 {
		last--
	}
	return last - p.turns, true, false
}

// dayInName finds the day that a file's name, or the folders that it is in, name; 0 when there is none.
func dayInName(name string) int {
	if name == "" {
		return 0
	}
	name = strings.ReplaceAll(name, `\`, "/")
	base := []byte(path.Base(name))
	for i := range base {
		if !isDigit(base[i]) || i > 0 && isDigit(base[i-1]) {
			continue
		}
		if d, ok := dayAt(base[i:]); ok {
			return d
		}
	}
	// .../2026/03/14/x.log
	parts := strings.Split(name, "/")
	if n := len(parts); n > 3 {
		if d, ok := dayAt([]byte(strings.Join(parts[n-4:n-1], "-"))); ok {
			return d
		}
	}
	if n := len(parts); n > 1 {
		if d, ok := dayAt([]byte(parts[n-2])); ok {
			return d
		}
	}
	return 0
}

// dayAt reads a day at the start of b: "20260314", "2026-03-14", "2026_03_14", "2026.03.14".
func dayAt(b []byte) (int, bool) {
	n := digits(b)
	if n != 4 && n != 8 && n != 10 && n != 12 && n != 14 {
		return 0, false
	}
	y, _ := number(b, 4)
	m, d := 0, 0
	if n >= 8 {
		m, _ = number(b[4:], 2)
		d, _ = number(b[6:], 2)
	} else {
		if len(b) < 10 || b[4] != b[7] || b[4] != '-' && b[4] != '_' && b[4] != '.' {
			return 0, false
		}
		var ok1, ok2 bool
		m, ok1 = number(b[5:], 2)
		d, ok2 = number(b[8:], 2)
		if !ok1 || !ok2 {
			return 0, false
		}
	}
	if y < 1990 || y > 2100 || !validDay(y, m, d) {
		return 0, false
	}
	return civilDays(y, m, d), true
}

// dateAlone finds a date without a clock in a short line, such as "Log of 14 March 2026".
func dateAlone(line []byte) (int, bool) {
	line = trimLine(line)
	if len(line) > 160 {
		return 0, false
	}
	for i := range line {
		if !begins[line[i]] || i > 0 && !mayPrecede(line, i) {
			continue
		}
		d := Stamp{}
		if n := d.bareDate(line[i:]); n > 0 && (d.month > 0 || d.style == numeric) && mayFollow(line, i+n) {
			if d.month == 0 {
				d.settle(d.orders()[0])
			}
			return civilDays(d.year, d.month, d.day), true
		}
	}
	return 0, false
}

var clockSet = []byte("setting system clock to ")

// bootLine gives the moment of boot from the line in which the kernel sets its clock.
func bootLine(line []byte, s *Stamp) time.Time {
	i := bytes.Index(line, clockSet)
	if i < 0 {
		return time.Time{}
	}
	at, ok := candidate(line, i+len(clockSet))
	if !ok || at.style != ymd {
		return time.Time{}
	}
	r := newResolver(&Profile{Facts: Facts{Zone: time.UTC}})
	t, ok := r.moment(&at)
	if !ok {
		return time.Time{}
	}
	return t.Add(-s.up)
}
