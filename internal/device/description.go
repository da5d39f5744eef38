package device

import (
	"regexp"
	"strings"
	"time"

	"envask/internal/keyfile"
	"envask/internal/late"
)

// Description is what a type of device looks like.
type Description struct {
	Name     string
	Prompt   *regexp.Regexp // nil: it is learnt
	PagesOff []string       // commands that switch its pager off
	Pages    []Reply        // how its own pager is answered, besides the usual ones
	// Enter are steps that lead to where commands are typed: a privileged mode first, then deeper shells.
	Enter       []Step
	RefusedWhen []*regexp.Regexp // lines with which it refuses a command, besides the usual ones
	Vitals      []Vital
	Try         string        // a command that does no harm; "" for none
	LineEnd     string        // what ends a line that is typed
	Silence     time.Duration // how long it may be silent in the middle of an answer; 0: DefaultSilence
}

// DefaultSilence is how long a device may be silent in the middle of an answer.
const DefaultSilence = 30 * time.Second

// Vital is one fact that a command of the device tells.
type Vital struct {
	Field string // Clock, Zone, or any other word: version, model, uptime, …
	Type  string
	Like  *regexp.Regexp // its first group is the value
}

// Fields of vitals that have a meaning beyond their text.
const (
	Clock = "clock" // the device's time
	Zone  = "zone"  // the name of its zone
)

// lineEnds are what ends a typed line, by name.
var lineEnds = map[string]string{"": "\r", "cr": "\r", "lf": "\n", "crlf": "\r\n"}

var word = late.Pattern(`^[A-Za-z0-9][A-Za-z0-9_-]{0,63}$`)

// passwordAsked is how a privileged mode asks for its password, unless the description says otherwise.
var passwordAsked = late.Pattern(`(?i)pass(word|code|phrase)[^\n]*:\s*$`)

// Read reads the descriptions at the key "devices". Only the engineer's own file may say where passwords are: elsewhere secret:NAME names
// one of the systems file.
func Read(m *keyfile.Map, own bool) map[string]*Description {
	list := m.Map("devices")
	if list == nil {
		return nil
	}
	out := map[string]*Description{}
	for _, name := range list.Keys() {
		dm := list.Map(name)
		if dm == nil {
			continue
		}
		if !word().MatchString(name) {
			dm.Problem("devices: expected a word of letters, digits, - and _, found %q", name)
		}
		out[name] = readOne(name, dm, own)
		dm.Done()
	}
	list.Done()
	return out
}

func readOne(name string, m *keyfile.Map, own bool) *Description {
	d := &Description{Name: name, Prompt: m.Value("prompt").Expression("prompt"), Try: m.String("try"),
		LineEnd: lineEnds[m.Choice("line-end", "cr", "lf", "crlf")], Silence: m.Duration("silence", 0)}
	for _, v := range m.Strings("pages-off") {
		d.PagesOff = append(d.PagesOff, line("pages-off", v))
	}
	for _, pm := range m.Maps("pages") {
		d.Pages = append(d.Pages, readReply(pm, own))
	}
	if pm := m.Map("privileged"); pm != nil {
		d.Enter = append(d.Enter, readPrivileged(pm, own))
	}
	for _, sm := range m.Maps("enter") {
		d.Enter = append(d.Enter, readStep(sm, own, true))
	}
	for _, v := range m.Strings("refused-when") {
		if e := v.Expression("refused-when"); e != nil {
			d.RefusedWhen = append(d.RefusedWhen, e)
		}
	}
	if vm := m.Map("vitals"); vm != nil {
		for _, field := range vm.Keys() {
			if fm := vm.Map(field); fm != nil {
				d.Vitals = append(d.Vitals, readVital(field, fm))
				fm.Done()
			}
		}
		vm.Done()
	}
	return d
}

func readVital(field string, m *keyfile.Map) Vital {
	v := Vital{Field: field, Type: line("type", m.Need("type")), Like: m.Value("like").Expression("like")}
	if !word().MatchString(field) {
		m.Problem("vitals: expected a word of letters, digits, - and _, found %q", field)
	}
	if v.Like == nil || v.Like.NumSubexp() != 1 {
		m.Problem("vitals: %s: like: needs one pair of parentheses around the value", field)
	}
	return v
}

// readPrivileged reads a mode with more rights: what is typed for it, the password that it asks for, and its prompt.
func readPrivileged(m *keyfile.Map, own bool) Step {
	s := readStep(m, own, true)
	if v := m.Value("password"); v.Set() {
		s.Answers = append(s.Answers, Reply{When: passwordAsked(), Secret: secret("password", v, own)})
	}
	m.Done()
	return s
}

// line checks that a value is one line, such as is typed.
func line(key string, v keyfile.Value) string {
	if v.Set() && (strings.TrimSpace(v.Text) == "" || strings.ContainsFunc(v.Text, func(r rune) bool { return r < ' ' || r == 0x7f })) {
		v.Problem("%s: expected one line to type, found %q", key, v.Text)
	}
	return v.Text
}

// Sheet says what a description of an ask does on every device that it describes.
func (d *Description) Sheet() []string {
	head := "device " + d.Name + ": "
	var lines []string
	for _, s := range d.Enter {
		lines = append(lines, head+"when a session begins, "+s.String())
	}
	for _, c := range d.PagesOff {
		lines = append(lines, head+"when a session begins, type "+c)
	}
	for _, v := range d.Vitals {
		lines = append(lines, head+"type "+v.Type+" for its "+v.Field)
	}
	if d.Try != "" {
		lines = append(lines, head+"type "+d.Try+" when it is probed")
	}
	return lines
}

// Refused reports whether a line of an answer refuses the command, by the patterns of the description.
func (d *Description) Refused(line string) bool {
	for _, p := range d.RefusedWhen {
		if p.MatchString(line) {
			return true
		}
	}
	return false
}

// EachSecret calls each for the place of every secret of the description, and puts what it returns there.
func (d *Description) EachSecret(each func(place string) string) {
	change := func(list []Reply) {
		for i := range list {
			if list[i].Secret != "" {
				list[i].Secret = each(list[i].Secret)
			}
		}
	}
	for i := range d.Enter {
		change(d.Enter[i].Answers)
	}
	change(d.Pages)
}

// Secrets lists where the passwords of a description are.
func (d *Description) Secrets() (out []string) {
	d.EachSecret(func(place string) string { out = append(out, place); return place })
	return out
}
