package brief

import (
	"regexp"
	"slices"

	"envask/internal/ask"
)

// Field is one thing that the write-up says.
type Field struct {
	ID       string
	Text     string // the question in words
	Help     string
	Lines    bool // it has several lines
	Required bool
	Like     *regexp.Regexp // nil takes anything
	Most     int            // characters; 0 is no limit
	Choices  []ask.Severity // nil takes any text
	Find     *ask.Find
	Asked    bool // the vendor asks for it by a question or an object of the ask
}

// Title is the field that every case has: one sentence.
const Title = "title"

// Severity and Category are the fields whose answers are the vendor's own words.
const (
	Severity    = "severity"
	SeverityWhy = "severity-why"
	Category    = "category"
)

// ObjectPrefix begins the fields of named objects.
const ObjectPrefix = "object."

// fields is the table of what every write-up has, in the order in which it is asked and written.
var fields = []Field{
	{ID: Title, Text: "In one sentence: what fails, where, and for whom?", Most: 160,
		Help: "such as: gate 2 at Tallow Pier rejects every pass since 06:12"},
	{ID: "happens", Text: "What happens?", Lines: true, Help: "what one sees, with the exact words of the error"},
	{ID: "expected", Text: "What should happen instead?", Lines: true},
	{ID: "since", Text: "Since when?", Help: "day and time, with the zone"},
	{ID: "how-often", Text: "How often?", Help: "always, every tenth time, once an hour"},
	{ID: "last-worked", Text: "When did it work the last time?"},
	{ID: "changed", Text: "What was changed before it began?", Lines: true},
	{ID: "steps", Text: "How can it be made to happen?", Lines: true,
		Help: "a line for each step, with its result: open lane 2 -> the screen turns red"},
	{ID: "affected", Text: "Who and what is affected, and how many of them?", Lines: true},
	{ID: Severity, Text: "How bad is it, in the vendor's words?"},
	{ID: SeverityWhy, Text: "Why is it that bad?"},
	{ID: Category, Text: "Which kind of case is it, in the vendor's words?"},
	{ID: "environment", Text: "Which versions and systems are involved?", Lines: true},
	{ID: "tried", Text: "What was tried already, and what came of it?", Lines: true},
	{ID: "contact", Text: "Whom can the vendor ask?"},
	{ID: "phone", Text: "At which number?"},
	{ID: "languages", Text: "In which languages?"},
	{ID: "best-times", Text: "When is the best time to call?", Help: "such as: 08:00-16:00"},
	{ID: "attachments", Text: "Which files go with it, beside the evidence?", Lines: true},
	{ID: "excerpt", Text: "Which lines of the logs say most?", Lines: true},
}

// Known gives the identifiers of the fields that every write-up has.
func Known() []string {
	ids := make([]string, 0, len(fields))
	for _, f := range fields {
		ids = append(ids, f.ID)
	}
	return ids
}

// Of gives the fields of the write-up for an ask, in their order: those that every write-up has, worded by a question of the ask where it
// has
// one of that name; then the ask's other questions, and its objects.
func Of(k *ask.Ask) []Field {
	var out []Field
	for _, f := range fields {
		switch {
		case f.ID == Severity:
			f.Choices = k.Severities
		case f.ID == Category:
			f.Choices = k.Categories
		}
		chosen := f.ID == Severity || f.ID == SeverityWhy || f.ID == Category
		if chosen && (f.ID == Category && len(k.Categories) == 0 || f.ID != Category && len(k.Severities) == 0) {
			continue
		}
		if i := question(k, f.ID); i >= 0 {
			f = f.worded(k.Questions[i])
		}
		out = append(out, f)
	}
	for _, q := range k.Questions {
		if !slices.Contains(Known(), q.ID) {
			out = append(out, Field{ID: q.ID}.worded(q))
		}
	}
	for _, o := range k.Objects {
		out = append(out, Field{ID: ObjectPrefix + o.ID, Text: o.Text, Lines: true, Asked: true})
	}
	return out
}

func question(k *ask.Ask, id string) int {
	return slices.IndexFunc(k.Questions, func(q ask.Question) bool { return q.ID == id })
}

// worded takes the vendor's words for a field.
func (f Field) worded(q ask.Question) Field {
	f.Text, f.Like, f.Find, f.Asked = q.Text, q.Like, q.Find, true
	f.Required = f.Required || q.Required
	if q.Most > 0 {
		f.Most = q.Most
	}
	return f
}
