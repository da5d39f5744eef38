package ask

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"envask/internal/keyfile"
	"envask/internal/late"
	"envask/internal/window"
)

// Times are the formats in which {from} and {to} are written in a command, by name.
var Times = []struct {
	Name   string
	Layout string // of package time; "" is seconds since 1970
	Sample string
}{
	{"rfc3339", time.RFC3339, "2026-03-14T06:12:00Z"},
	{"date-time", "2006-01-02 15:04:05", "2026-03-14 06:12:00"},
	{"compact", "20060102150405", "20260314061200"},
	{"date", "2006-01-02", "2026-03-14"},
	{"unix", "", "1773468720"},
}

func timeNames() []string {
	var names []string
	for _, t := range Times {
		names = append(names, t.Name)
	}
	return names
}

// FormatTime writes a moment in a named format.
func FormatTime(name string, t time.Time) string {
	for _, f := range Times {
		if f.Name == name && f.Layout != "" {
			return t.Format(f.Layout)
		}
	}
	return strconv.FormatInt(t.Unix(), 10)
}

// commandField is a placeholder of a command line. Other braces are the shell's own.
var commandField = late.Pattern(`\{(from|to|case|folder|system|member|` +
	`inbox\.(?:sftp|scp|ftp|tftp|http|host|user|password|name)|(?:answer|value|system)\.([A-Za-z0-9_-]+))\}`)

// Fill replaces the placeholders of a command line; value gives the text for one, and word makes one word of the shell of it.
func Fill(command string, value func(name string) (string, error), word func(text string) (string, error)) (string, error) {
	var failure error
	out := commandField().ReplaceAllStringFunc(command, func(p string) string {
		text, err := value(p[1 : len(p)-1])
		if err == nil && strings.ContainsAny(text, "\x00\n\r") {
			err = fmt.Errorf("%s holds a line end or a NUL, which no command takes", p)
		}
		quoted := ""
		if err == nil {
			quoted, err = word(text)
		}
		if err != nil && failure == nil {
			failure = err
		}
		return quoted
	})
	return out, failure
}

// Fields lists the placeholders of a command line.
func Fields(command string) []string {
	var out []string
	for _, m := range commandField().FindAllStringSubmatch(command, -1) {
		if !slices.Contains(out, m[1]) {
			out = append(out, m[1])
		}
	}
	return out
}

// checkFields reports placeholders that cannot work where they stand.
func checkFields(v keyfile.Value, folder bool) {
	for _, m := range checkPlaces(v.Text) {
		where := ""
		if m.line > 1 {
			where = fmt.Sprintf(" (line %d of the command)", m.line)
		}
		v.Problem("%s %s%s", m.field, m.why, where)
	}
	for _, f := range Fields(v.Text) {
		if f == "folder" && !folder {
			v.Problem("{folder} is for a command that makes files; give makes: too")
		}
	}
}

// timeKeys reads the keys that say how {from} and {to} are written.
func timeKeys(m *keyfile.Map, commands []keyfile.Value) (format string, zone *time.Location) {
	format = m.Choice("time-format", timeNames()...)
	if v := m.Value("zone"); v.Set() {
		z, err := window.ParseZone(v.Text)
		if err != nil {
			v.Problem("zone: %v", err)
		}
		zone = z
	}
	return format, zone
}

// checkAnswers reports placeholders of answers to questions that the ask does not have.
func (a *Ask) checkAnswers(m *keyfile.Map) {
	for i, im := range m.Maps("items") {
		if i < len(a.Items) {
			a.checkTold(im, &a.Items[i])
		}
		for _, v := range append(im.Strings("run"), aroundLines(im)...) {
			for _, f := range Fields(v.Text) {
				id, ok := strings.CutPrefix(f, "answer.")
				if ok && a.Question(id) == nil {
					v.Problem("{%s}: the ask has no question %q", f, id)
				}
			}
		}
	}
}

// Question gives the question with an id, or nil.
func (a *Ask) Question(id string) *Question {
	for i := range a.Questions {
		if a.Questions[i].ID == id {
			return &a.Questions[i]
		}
	}
	return nil
}
