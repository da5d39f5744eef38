package stamp

import "time"

// Facts are what is known of a file from outside.
type Facts struct {
	Zone      *time.Location // of times that name no zone; nil means UTC
	ZoneFrom  string         // where the zone comes from, in words
	ZoneGiven bool           // the zone was given for exactly this file: it counts before what the format says
	AsOf      time.Time      // the file's date: its last line is not much later. Zero means unknown
	AsOfDay   bool           // AsOf means its whole day, in Zone; else the moment when the file was last written
	Name      string         // the file's name with its folders: it may hold a date
	Boot      time.Time      // when the system was started, for stamps that count from there; zero means unknown
	Order     Order          // of numeric dates, where other files of the set have settled it
}

// Doubt says what of a time rests on an assumption.
type Doubt uint8

// The doubts.
const (
	DoubtOrder Doubt = 1 << iota // day or month first
	DoubtYear                    // the year is taken from the file's date
	DoubtDay                     // the day is taken from the file's date
	DoubtZone                    // the abbreviation of the zone means several
	DoubtTwice                   // a clock was set back: the hour occurs twice
	DoubtNever                   // a clock was set forward: the hour does not exist
)

// doubtTexts are the doubts in words, in the order of their bits.
var doubtTexts = []string{
	"day or month first is not certain", "the year is not written; it is taken from the file's date",
	"the day is not written; it is taken from the file's date",
	"the zone's abbreviation means several zones",
	"the hour occurs twice (the clocks go back); the first is meant where the order of lines does not tell",
	"the hour does not exist (the clocks go forward)",
}

// Texts gives the doubts in words.
func (d Doubt) Texts() []string {
	var out []string
	for i, t := range doubtTexts {
		if d&(1<<i) != 0 {
			out = append(out, t)
		}
	}
	return out
}

// wallClock turns local times into moments. Between two changes of the zone's offset that is one subtraction.
type wallClock struct {
	zone     *time.Location
	from, to int64 // local seconds between which offset holds for certain
	offset   int64
}

// margin is how far from a change of offset a local time must be to be certain, in seconds.
const margin = 26 * 3600

// at gives the moment of a local time (in seconds as if it were UTC), and a second one where the hour occurs twice.
func (w *wallClock) at(wall int64) (first, second int64, doubt Doubt) {
	if wall > w.from && wall < w.to {
		return wall - w.offset, wall - w.offset, 0
	}
	if w.zone == nil {
		w.zone = time.UTC
	}
	before, after := w.offsetAt(wall-margin), w.offsetAt(wall+margin)
	if before == after {
		w.remember(wall, before)
		return wall - before, wall - before, 0
	}
	a, b := wall-before, wall-after
	okA, okB := w.offsetAt(a) == before, w.offsetAt(b) == after
	switch {
	case okA && okB:
		return min(a, b), max(a, b), DoubtTwice
	case okB:
		return b, b, 0
	case okA:
		return a, a, 0
	}
	return a, a, DoubtNever
}

func (w *wallClock) offsetAt(unix int64) int64 {
	_, off := time.Unix(unix, 0).In(w.zone).Zone()
	return int64(off)
}

// remember keeps the range in which the offset does not change.
func (w *wallClock) remember(wall, offset int64) {
	start, end := time.Unix(wall-offset, 0).In(w.zone).ZoneBounds()
	w.offset = offset
	w.from, w.to = -1<<62, 1<<62
	if !start.IsZero() {
		w.from = start.Unix() + offset + margin
	}
	if !end.IsZero() {
		w.to = end.Unix() + offset - margin
	}
}

// resolver turns stamps into moments with what was learned of a file.
type resolver struct {
	p     *Profile
	home  wallClock
	named map[string]*wallClock // of zones that lines name

	prev    int64 // the moment before, in seconds
	hasPrev bool
	second  bool  // in an hour that occurs twice, its second time has begun
	doubt   Doubt // of the last stamp
	used    Doubt // of all stamps

	year       int // of the last stamp without one, when the file spans several years
	yearDay    int
	day        int // of the last line, in days since 1970
	hasDay     bool
	clock      int // of the last line without a day, in seconds
	hasClock   bool
	dayAssumed bool // the first clock's day rests on the file's date
	boot       time.Time
	lastUp     time.Duration
	resets     int
	stateless  bool // lines come in no order
}

func newResolver(p *Profile) *resolver {
	return &resolver{p: p, home: wallClock{zone: p.Facts.Zone}, boot: p.boot}
}

// moment gives a stamp's moment; ok is false when the file does not tell enough for one.
func (r *resolver) moment(s *Stamp) (t time.Time, ok bool) {
	r.doubt = 0
	switch s.style {
	case epoch, tai:
		return s.moment, true
	case uptime:
		return r.sinceBoot(s)
	case noDate:
		return r.clockOnly(s)
	case numeric:
		if s.month == 0 {
			o, sure := r.p.orderOf(s)
			if o == AnyOrder {
				return time.Time{}, false
			}
			s.settle(o)
			if !validDay(s.year, s.month, s.day) {
				return time.Time{}, false
			}
			if !sure {
				r.doubt |= DoubtOrder
			}
		}
	}
	y := s.year
	if y == 0 {
		if y = r.yearOf(s); y == 0 {
			return time.Time{}, false
		}
	}
	return r.fromDay(s, civilDays(y, s.month, s.day)), true
}

// fromDay gives the moment of a stamp's clock on a day.
func (r *resolver) fromDay(s *Stamp, day int) time.Time {
	wall := int64(day)*86400 + int64(s.hour*3600+s.min*60+s.sec)
	r.day, r.hasDay = day, true
	first := int64(0)
	switch s.zone {
	case zoneOffset:
		first = wall - int64(s.offset)
	case zoneAbbr:
		y, _, _ := fromCivilDays(day)
		off, certain := zoneOf(s.abbr, r.p.Facts.Zone, y)
		if !certain {
			r.doubt |= DoubtZone
		}
		first = wall - int64(off)
	default:
		c := &r.home
		if s.zone == zoneName {
			c = r.zoneNamed(s.abbr)
		}
		var second int64
		var d Doubt
		first, second, d = c.at(wall)
		r.doubt |= d
		// In an hour that occurs twice the order of the lines tells which is meant.
		if d == DoubtTwice && r.hasPrev && !r.stateless {
			r.doubt &^= DoubtTwice
			if r.second || first < r.prev-disorderInHour {
				first, r.second = second, true
			}
		} else if d != DoubtTwice {
			r.second = false
		}
	}
	r.prev, r.hasPrev = first, true
	return time.Unix(first, int64(s.nano)).UTC()
}

// disorderInHour is how far lines may go back in an hour that occurs twice before that means its second time, in seconds.
const disorderInHour = 120

func (r *resolver) zoneNamed(name string) *wallClock {
	c := r.named[name]
	if c == nil {
		c = &wallClock{zone: location(name)}
		if r.named == nil {
			r.named = map[string]*wallClock{}
		}
		r.named[name] = c
	}
	return c
}

// yearOf gives the year of a stamp that names none: the latest that does not put it more than a day after the file's
// date; in a file that was seen to span several years, what its order says.
func (r *resolver) yearOf(s *Stamp) int {
	if r.p.Facts.AsOf.IsZero() {
		return 0
	}
	r.doubt |= DoubtYear
	at := s.month*31 + s.day
	if r.p.firstYear > 0 && !r.stateless {
		switch {
		case r.year == 0:
			r.year = r.p.firstYear
		case r.yearDay-at > rollOver:
			r.year++
		case straggles(s.month, s.day, r.yearDay): // it is of the old year
			return r.year - 1
		}
		r.yearDay = at
		return r.year
	}
	y, m, d := r.p.latest.Date()
	if s.month > int(m) || s.month == int(m) && (s.day > d || s.day == d && s.hour*3600+s.min*60+s.sec > r.p.latestClock) {
		y--
	}
	for k := 0; s.month == 2 && s.day == 29 && !leap(y); k++ {
		if y--; k > 8 {
			return 0
		}
	}
	return y
}

// rollOver is how far the day of the year must jump to mean a turn of the year, in days of months of 31.
const rollOver = 180

// dayBack is how far a clock without a date may go back without meaning the next day, in seconds: a clock that was set
// back an hour is no midnight.
const dayBack = 2 * 3600

// clockOnly gives the moment of a clock without a date: on the day of the line before, or the next when it went back.
func (r *resolver) clockOnly(s *Stamp) (time.Time, bool) {
	at := s.hour*3600 + s.min*60 + s.sec
	switch {
	case r.hasClock:
		if r.clock-at > dayBack {
			r.day++
		}
	case r.hasDay && r.hasPrev: // a dated line came before
		if before := int((r.prev + r.home.offsetOr(r.prev)) % 86400); before-at > dayBack {
			r.day++
		}
	case r.hasDay: // a line with the date alone came before
	default:
		day, ok, sure := r.p.firstDay()
		if !ok {
			return time.Time{}, false
		}
		if r.day = day; !sure {
			r.dayAssumed = true
		}
	}
	r.clock, r.hasClock = at, true
	if r.dayAssumed {
		r.doubt |= DoubtDay
	}
	return r.fromDay(s, r.day), true
}

func (w *wallClock) offsetOr(unix int64) int64 {
	if w.zone == nil {
		return 0
	}
	return w.offsetAt(unix)
}

// sinceBoot gives the moment of a stamp that counts from the start of the system.
func (r *resolver) sinceBoot(s *Stamp) (time.Time, bool) {
	if s.up+time.Second < r.lastUp && !r.stateless {
		r.resets++
		r.boot = time.Time{}
	}
	r.lastUp = s.up
	if r.boot.IsZero() && r.resets == r.p.resets {
		r.boot = r.p.Facts.Boot
	}
	if r.boot.IsZero() {
		return time.Time{}, false
	}
	return r.boot.Add(s.up), true
}
