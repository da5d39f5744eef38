package stamp

import (
	"sort"
	"strings"
	"time"
)

// maxDates bounds how many numeric dates are kept as evidence.
const maxDates = 20000

// numericDates are the numeric dates of a file with one separator, in their order.
type numericDates struct {
	n     [][3]int
	lines []int // with each of n, one after the other
	wide  int
	half  bool
	last  [3]int
}

func (d *numericDates) add(s *Stamp) {
	d.half = d.half || s.half
	d.wide = max(d.wide, s.wide)
	switch {
	case len(d.n) > 0 && s.n == d.last:
		d.lines[len(d.n)-1]++
	case len(d.n) < maxDates: // a new day, in whatever order
		d.n, d.lines = append(d.n, s.n), append(d.lines, 1)
		d.last = s.n
	}
}

// reading is how a file's dates look in one order.
type reading struct {
	order      Order
	valid, bad int
	back       int // steps back in time
	far        int // of the steps, in days: a true order goes on day by day
	last, most int // days since 1970
}

func (d *numericDates) read(o Order) reading {
	r := reading{order: o}
	prev := 0
	for i, n := range d.n {
		s := Stamp{n: n, wide: d.wide}
		y, m, day, ok := s.ordered(o)
		if !ok || !validDay(y, m, day) {
			r.bad += d.lines[i]
			continue
		}
		at := civilDays(y, m, day)
		if r.valid > 0 {
			if at < prev {
				r.back++
			}
			r.far += max(at-prev, prev-at)
		}
		prev, r.last = at, at
		r.most = max(r.most, at)
		r.valid += d.lines[i]
	}
	return r
}

// orderSlot gives the place of a separator in the table of guesses.
func orderSlot(sep byte) int {
	switch sep {
	case '/':
		return 0
	case '-':
		return 1
	case '.':
		return 2
	}
	return -1
}

// orderOf gives the order of a numeric date, and whether it is certain.
func (p *Profile) orderOf(s *Stamp) (Order, bool) {
	g := orderSlot(s.sep)
	if g < 0 {
		return AnyOrder, false
	}
	o := p.orders[g]
	if y, m, d, ok := s.ordered(o.order); ok && o.order != AnyOrder && validDay(y, m, d) {
		return o.order, o.sure
	}
	if all := s.orders(); len(all) > 0 {
		return all[0], len(all) == 1
	}
	return AnyOrder, false
}

func (l *Learner) judgeOrders() {
	for g := range l.dates {
		d := &l.dates[g]
		if len(d.n) == 0 {
			continue
		}
		o, sure, why := l.p.judge(d, "/-."[g])
		l.p.orders[g] = orderGuess{o, sure}
		if why != "" {
			l.p.Orders = o.String() + ", " + why
		}
	}
}

// judge settles the order of day, month and year. The evidence, in this order: values that fit one order only, other
// files of the set, the order of the lines, the file's date, custom. The last is no evidence and counts as unsure.
func (p *Profile) judge(d *numericDates, sep byte) (o Order, sure bool, why string) {
	var fit []reading
	for _, o := range []Order{DayFirst, MonthFirst, YearFirst} {
		if r := d.read(o); r.valid > 0 && r.bad*50 <= r.valid {
			fit = append(fit, r)
		}
	}
	switch {
	case len(fit) == 0: // dates of several orders in one file: each line by itself
		return AnyOrder, false, ""
	case len(fit) == 1:
		return fit[0].order, true, "from values over 12"
	}
	for _, r := range fit {
		if r.order == p.Facts.Order && p.Facts.Order != AnyOrder {
			return r.order, true, "from other files of the set"
		}
	}
	sort.SliceStable(fit, func(i, j int) bool {
		if fit[i].back != fit[j].back {
			return fit[i].back < fit[j].back
		}
		return fit[i].far < fit[j].far
	})
	if a, b := fit[0], fit[1]; a.back < b.back || b.far > 3*a.far+5 {
		return a.order, true, "from the order of the lines"
	}
	if !p.Facts.AsOf.IsZero() {
		if o, ok := p.byFileDate(fit); ok {
			return o, true, "from the file's date"
		}
	}
	o = p.customary(fit, d, sep)
	return o, sep == '.', "assumed"
}

// byFileDate drops the orders that put lines after the file's date, then takes the one that ends near it.
func (p *Profile) byFileDate(fit []reading) (Order, bool) {
	y, m, day := p.Facts.AsOf.In(p.Facts.Zone).Date()
	as := civilDays(y, int(m), day)
	var past []reading
	for _, r := range fit {
		if r.most <= as+1 {
			past = append(past, r)
		}
	}
	if len(past) == 0 {
		past = fit
	}
	if len(past) == 1 {
		return past[0].order, true
	}
	away := func(r reading) int { return max(as-r.last, r.last-as) }
	sort.SliceStable(past, func(i, j int) bool { return away(past[i]) < away(past[j]) })
	if away(past[0]) <= 2 && away(past[1]) > 20 || away(past[1]) > 20*365/10 && away(past[0])*4 < away(past[1]) {
		return past[0].order, true
	}
	return AnyOrder, false
}

// customary gives the order that is in use where the file comes from.
func (p *Profile) customary(fit []reading, d *numericDates, sep byte) Order {
	want := DayFirst
	name := p.Facts.Zone.String()
	switch {
	case sep == '.':
	case strings.HasPrefix(name, "America/"), strings.HasPrefix(name, "US/"), d.half && !strings.Contains(name, "/"):
		want = MonthFirst
	case sep == '/' && (name == "UTC" || name == "" || name == "Local"):
		want = MonthFirst
	}
	for _, r := range fit {
		if r.order == want {
			return want
		}
	}
	return fit[0].order
}

// yearRuns are the stretches between turns of the year, in dates that name none.
type yearRuns struct {
	n    int
	leap []int // runs that hold 29 February, counted from 0
	at   int
}

func (y *yearRuns) add(month, day int) {
	at := month*31 + day
	switch {
	case y.n == 0:
		y.n = 1
	case y.at-at > rollOver:
		y.n++
	case straggles(month, day, y.at):
		return
	}
	y.at = at
	if month == 2 && day == 29 && (len(y.leap) == 0 || y.leap[len(y.leap)-1] != y.n-1) && len(y.leap) < 100 {
		y.leap = append(y.leap, y.n-1)
	}
}

// straggles says whether a day is one of the last of a year, though the new one has just begun.
func straggles(month, day, before int) bool {
	return month == 12 && day > 24 && before <= 31+7
}

// firstYear gives the year of the first run, when a rule for single lines would not do: with more than two runs, or with
// a leap day, which ties all runs.
func (y *yearRuns) firstYear(latest time.Time) int {
	if y.n == 0 || latest.IsZero() || y.n <= 2 && len(y.leap) == 0 {
		return 0
	}
	last := latest.Year()
	if y.at > int(latest.Month())*31+latest.Day() {
		last--
	}
	for try := 0; try < 9; try++ {
		first := last - try - (y.n - 1)
		ok := true
		for _, run := range y.leap {
			ok = ok && leap(first+run)
		}
		if ok {
			return first
		}
	}
	return 0
}
