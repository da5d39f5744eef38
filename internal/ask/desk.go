package ask

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"envask/internal/keyfile"
	"envask/internal/late"
	"envask/internal/window"
)

// Desk says when and how the vendor's support desk can be reached.
type Desk struct {
	Hours     []Hours        // none: always
	Zone      *time.Location // of the hours
	Languages []string
	Phone     string
}

// Hours are hours of some days of the week.
type Hours struct {
	Days     [7]bool // by time.Weekday
	From, To int     // minutes of the day; To is at most 24 hours
}

// Object is something that the desk wants by its name, with its text: a query, the name of a screen.
type Object struct{ ID, Text string }

// Find says where in the evidence the answer to a question can stand.
type Find struct {
	Item string
	Like *regexp.Regexp // its first group is the answer, or all of it
}

var hoursText = late.Pattern(`(?i)^(?:(mon|tue|wed|thu|fri|sat|sun)(?:-(mon|tue|wed|thu|fri|sat|sun))? ` +
	`)?([0-9]{1,2}):([0-9]{2})-([0-9]{1,2}):([0-9]{2})$`)

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// ParseHours reads hours such as "mon-fri 08:00-18:00"; without days they are of every day.
func ParseHours(text string) (h Hours, err error) {
	m := hoursText().FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return h, fmt.Errorf("expected hours such as mon-fri 08:00-18:00, found %q", text)
	}
	minutes := func(hour, minute string) int {
		a, _ := strconv.Atoi(hour) // two digits always are a number
		b, _ := strconv.Atoi(minute)
		return 60*a + b
	}
	h.From, h.To = minutes(m[3], m[4]), minutes(m[5], m[6])
	if h.From >= h.To || h.To > 24*60 {
		return h, fmt.Errorf("%q ends before it begins, or after midnight; give two spans", text)
	}
	first, last := dayOf(m[1]), dayOf(m[2])
	switch {
	case m[1] == "":
		h.Days = [7]bool{true, true, true, true, true, true, true}
	case m[2] == "":
		h.Days[first] = true
	default:
		for d := first; ; d = (d + 1) % 7 {
			if h.Days[d] = true; d == last {
				break
			}
		}
	}
	return h, nil
}

func dayOf(name string) int {
	for i, d := range weekdays {
		if strings.EqualFold(d, name) {
			return i
		}
	}
	return 0
}

// Open says whether the desk is open at a time, and until when, or when it opens next. A desk without hours is always open, until zero.
func (d *Desk) Open(at time.Time) (open bool, until time.Time) {
	if len(d.Hours) == 0 {
		return true, time.Time{}
	}
	zone := d.Zone
	if zone == nil {
		zone = time.UTC
	}
	at = at.In(zone)
	var next time.Time
	for day := range 8 {
		midnight := time.Date(at.Year(), at.Month(), at.Day()+day, 0, 0, 0, 0, zone)
		for _, h := range d.Hours {
			if !h.Days[midnight.Weekday()] {
				continue
			}
			from := time.Date(midnight.Year(), midnight.Month(), midnight.Day(), 0, h.From, 0, 0, zone)
			to := time.Date(midnight.Year(), midnight.Month(), midnight.Day(), 0, h.To, 0, 0, zone)
			switch {
			case !at.Before(from) && at.Before(to):
				return true, to
			case at.Before(from) && (next.IsZero() || from.Before(next)):
				next = from
			}
		}
	}
	return false, next
}

func (a *Ask) readDesk(m *keyfile.Map) {
	d := m.Map("desk")
	if d == nil {
		return
	}
	a.Desk = &Desk{Phone: d.String("phone")}
	for _, v := range d.Strings("hours") {
		h, err := ParseHours(v.Text)
		if err != nil {
			v.Problem("hours: %v", err)
			continue
		}
		a.Desk.Hours = append(a.Desk.Hours, h)
	}
	if v := d.Value("zone"); v.Set() {
		zone, err := window.ParseZone(v.Text)
		if err != nil {
			v.Problem("zone: %v", err)
		}
		a.Desk.Zone = zone
	} else if len(a.Desk.Hours) > 0 {
		d.Problem("zone: is missing; the hours are of the desk's time zone, such as Europe/Oslo")
	}
	for _, v := range d.Strings("languages") {
		a.Desk.Languages = append(a.Desk.Languages, v.Text)
	}
	d.Done()
}

func (a *Ask) readWriteUp(m *keyfile.Map) {
	for _, s := range m.Maps("severities") {
		a.Severities = append(a.Severities, Severity{Name: s.Need("name").Text, Means: s.String("means"), NotFor: s.String("not-for")})
		s.Done()
	}
	for _, s := range m.Maps("categories") {
		a.Categories = append(a.Categories, Severity{Name: s.Need("name").Text, Means: s.String("means"), NotFor: s.String("not-for")})
		s.Done()
	}
	seen := map[string]int{}
	for _, o := range m.Maps("objects") {
		id := o.Need("id")
		unique(seen, "object", id)
		a.Objects = append(a.Objects, Object{ID: checkWord("id", id), Text: o.Need("text").Text})
		o.Done()
	}
	a.readDesk(m)
}

// readFind reads where in the evidence the answer to a question can stand; whether there is such an item is checked by checkFinds.
func readFind(q *keyfile.Map) *Find {
	f := q.Map("find")
	if f == nil {
		return nil
	}
	find := &Find{Item: f.Need("item").Text, Like: pattern(f.Need("like"), "like")}
	f.Done()
	return find
}

// checkFinds makes sure that the items are there in which answers are looked for.
func (a *Ask) checkFinds(m *keyfile.Map) {
	for _, q := range m.Maps("questions") {
		if f := q.Map("find"); f != nil {
			if v := f.Value("item"); v.Set() && a.Item(v.Text) == nil {
				v.Problem("item: there is no item %q", v.Text)
			}
		}
	}
}
