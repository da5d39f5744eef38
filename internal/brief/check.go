package brief

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"envask/internal/ask"
	"envask/internal/late"
)

// Remark is one thing to add or to correct.
type Remark struct {
	Field string `json:"field"`
	Text  string `json:"text"`
}

// Facts are what the checks hold the write-up against.
type Facts struct {
	From, To time.Time      // the window; zero where it has no end
	Zone     *time.Location // of the site
	Files    []string       // names of the files that go with the case
	Secret   func(text string) bool
}

// Check gives a short list of what to add or to correct, in the order of the fields. It never judges: what is there is said, and why the
// desk
// would ask again.
func (b Brief) Check(f Facts) (out []Remark) {
	for _, field := range b.Fields() {
		answer := b.Value(field.ID)
		if why := field.Wrong(answer); why != "" {
			out = append(out, Remark{field.ID, why})
			continue
		}
		for _, check := range checks {
			if check.field != field.ID && check.field != "" {
				continue
			}
			if why := check.look(b, f, field, answer); why != "" {
				out = append(out, Remark{field.ID, why})
			}
		}
	}
	return out
}

// checks is the table of what is looked for; a check without a field is made of every answer.
var checks = []struct {
	field string
	look  func(b Brief, f Facts, field Field, answer string) string
}{
	{Title, saysNothing},
	{Title, unsaid("what fails, where, and for whom is not said")},
	{"happens", unsaid("what happens is not said")},
	{"expected", unsaid("what should happen instead is not said")},
	{"since", unsaid("since when is not said")},
	{Severity, unsaid("how bad it is, in the vendor's words, is not said")},
	{"steps", stepsWithoutResult},
	{Severity, doesNotFit},
	{SeverityWhy, func(b Brief, _ Facts, _ Field, answer string) string {
		if answer == "" && b.Value(Severity) != "" {
			return "why it is " + b.Value(Severity) + " is not said"
		}
		return ""
	}},
	{"since", outsideOfWindow},
	{"best-times", outsideOfHours},
	{"", notThere},
	{"", func(_ Brief, f Facts, _ Field, answer string) string {
		if answer != "" && f.Secret != nil && f.Secret(answer) {
			return "a secret is in it: better left out"
		}
		return ""
	}},
}

// unsaid reports an answer that every desk asks for and that is not there.
func unsaid(why string) func(Brief, Facts, Field, string) string {
	return func(_ Brief, _ Facts, _ Field, answer string) string {
		if answer == "" {
			return why
		}
		return ""
	}
}

// emptyWords say nothing of a fault by themselves.
var emptyWords = strings.Fields(`
	a an the is are was it its this that does do not no on in at of to for and or with from our we please help urgent asap
	problem problems issue issues error errors fault faults failure fails failing failed broken bug down work works working
	worked doesn't won't can't isn't system systems software product device anymore longer question request case ticket support
	hello hi`)

// leastWords is how many words a title needs that say something.
const leastWords = 2

// saysNothing reports a title that would fit any case: without its product's and vendor's name nothing is left of it.
func saysNothing(b Brief, _ Facts, _ Field, title string) string {
	names := wordsOf(b.Vendor)
	if b.Ask != nil {
		names = append(names, wordsOf(b.Ask.Name)...)
	}
	n := 0
	for _, w := range wordsOf(title) {
		if !slices.Contains(emptyWords, w) && !slices.Contains(names, w) {
			n++
		}
	}
	if title != "" && n < leastWords {
		return "it would fit any case; say what fails, where, and for whom"
	}
	return ""
}

func wordsOf(text string) []string {
	return strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '\'' })
}

var hasResult = late.Pattern(`->|=>|→|⇒|: \S|; \S`)

func stepsWithoutResult(_ Brief, _ Facts, _ Field, answer string) string {
	var bare []string
	n := 0
	for _, line := range strings.Split(answer, "\n") {
		if strings.TrimSpace(line) == "" {
			continue
		}
		if n++; !hasResult().MatchString(line) {
			bare = append(bare, fmt.Sprint(n))
		}
	}
	switch {
	case n == 0:
		return ""
	case len(bare) == n:
		return "no step says what comes of it; write: STEP -> RESULT"
	case len(bare) > 0:
		return "no result of step " + strings.Join(bare, ", ") + "; write: STEP -> RESULT"
	}
	return ""
}

var (
	mildWords  = late.Pattern(`(?i)\b(slow(ly)?|sometimes|cosmetic|typo|question|one user|a single user|workaround|now and then|rarely)\b`)
	harshWords = late.Pattern(`(?i)\b(nobody can|no one can|all (users|passengers|customers|sites|gates)|everything|entire|whole ` +
		`(site|terminal)|halted|` +
		`completely down|production stop(ped)?|data loss)\b`)
)

// doesNotFit reports the worst severity for what sounds mild, and the least one for what sounds bad. The vendor's list begins with the
// worst.
func doesNotFit(b Brief, _ Facts, field Field, answer string) string {
	if answer == "" || len(field.Choices) < 2 {
		return ""
	}
	text := strings.Join([]string{b.Title, b.Value("happens"), b.Value("affected"), b.Value("how-often"), b.Value(SeverityWhy)}, "\n")
	at := slices.IndexFunc(field.Choices, func(c ask.Severity) bool { return strings.EqualFold(c.Name, answer) })
	switch {
	case at == 0:
		if m := mildWords().FindString(text); m != "" && !harshWords().MatchString(text) {
			return fmt.Sprintf("%s is the worst there is, and the text says %q", answer, m)
		}
	case at == len(field.Choices)-1:
		if m := harshWords().FindString(text); m != "" {
			return fmt.Sprintf("%s is the least there is, and the text says %q", answer, m)
		}
	}
	return ""
}

var (
	dateTimes = late.Pattern(`\d{4}-\d{2}-\d{2}(?:[ T]\d{2}:\d{2}(?::\d{2})?(?:Z|[+-]\d{2}:\d{2})?)?`)
	formats   = []string{"2006-01-02T15:04:05Z07:00", "2006-01-02T15:04Z07:00", "2006-01-02 15:04:05", "2006-01-02 15:04",
		"2006-01-02T15:04", "2006-01-02"}
)

// resolution is how long a time may last that is written in a format: a day, a minute or a second.
func resolution(format string) time.Duration {
	switch {
	case !strings.Contains(format, "15"):
		return 24 * time.Hour
	case !strings.Contains(format, ":05"):
		return time.Minute
	}
	return time.Second
}

// outsideOfWindow reports a beginning that lies outside of the window: the evidence would be of another time.
func outsideOfWindow(_ Brief, f Facts, _ Field, answer string) string {
	zone := f.Zone
	if zone == nil {
		zone = time.UTC
	}
	for _, text := range dateTimes().FindAllString(answer, -1) {
		for _, format := range formats {
			at, err := time.ParseInLocation(format, text, zone)
			if err != nil {
				continue
			}
			switch {
			case !f.To.IsZero() && at.After(f.To):
				return fmt.Sprintf("%s is after the end of the window; is the window right?", text)
			case !f.From.IsZero() && at.Add(resolution(format)).Before(f.From):
				return fmt.Sprintf("%s is before the window begins: how it began is not in the evidence; is the window right?", text)
			}
			break
		}
	}
	return ""
}

var clockSpan = late.Pattern(`\b([0-9]{1,2}:[0-9]{2}) ?(?:-|to|–) ?([0-9]{1,2}:[0-9]{2})\b`)

// outsideOfHours reports times at which nobody is at the desk.
func outsideOfHours(b Brief, f Facts, _ Field, answer string) string {
	if b.Ask == nil || b.Ask.Desk == nil || len(b.Ask.Desk.Hours) == 0 || f.Zone == nil {
		return ""
	}
	m := clockSpan().FindStringSubmatch(answer)
	if m == nil {
		return ""
	}
	h, err := ask.ParseHours(m[1] + "-" + m[2])
	if err != nil {
		return ""
	}
	for day := range 7 {
		midnight := time.Date(2026, 3, 9+day, 0, 0, 0, 0, f.Zone) // any week
		for minute := h.From; minute < h.To; minute += 15 {
			if open, _ := b.Ask.Desk.Open(midnight.Add(time.Duration(minute) * time.Minute)); open {
				return ""
			}
		}
	}
	return "the desk is closed then (" + HoursText(b.Ask.Desk, f.Zone) + ")"
}

// HoursText writes the hours of a desk, in its own zone and in that of the site where that is another one.
func HoursText(d *ask.Desk, here *time.Location) string {
	var out []string
	for _, h := range d.Hours {
		out = append(out, daysText(h.Days)+" "+minuteText(h.From)+"-"+minuteText(h.To))
	}
	text := strings.Join(out, ", ")
	if d.Zone != nil && here != nil && d.Zone.String() != here.String() {
		text += " in " + d.Zone.String()
	}
	return text
}

func minuteText(m int) string { return fmt.Sprintf("%02d:%02d", m/60, m%60) }

func daysText(days [7]bool) string {
	names := [7]string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}
	if days == [7]bool{true, true, true, true, true, true, true} {
		return "every day"
	}
	var out []string
	for i := range 7 { // a week begins on Monday
		d := (i + 1) % 7
		if days[d] {
			out = append(out, names[d])
		}
	}
	if n := len(out); n > 2 && days[1] && slices.Equal(out, []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}[:n]) {
		return "mon-" + out[n-1]
	}
	return strings.Join(out, " ")
}

var namedFile = late.Pattern(`(?i)(?:^|[\s"'(])([\w][\w .-]{0,80}?\.(?:png|jpe?g|gif|pdf|har|zip|txt|log|docx?|xlsx?|csv|pcapng?|mp4))\b`)

// notThere reports a file that is named and that the case does not have.
func notThere(_ Brief, f Facts, field Field, answer string) string {
	if field.ID != "attachments" {
		return ""
	}
	var lacks []string
	for _, m := range namedFile().FindAllStringSubmatch(answer, -1) {
		words := strings.Fields(m[1])
		there := false
		for i := range words { // its name may have blanks, and words may stand before it
			name := strings.Join(words[i:], " ")
			there = there || slices.ContainsFunc(f.Files, func(have string) bool {
				return strings.EqualFold(have[strings.LastIndexAny(have, `/\`)+1:], name)
			})
		}
		if !there {
			lacks = append(lacks, words[len(words)-1])
		}
	}
	if len(lacks) > 0 {
		return strings.Join(lacks, ", ") + " is named and is not in the case; bring it: envask add FILE"
	}
	return ""
}
