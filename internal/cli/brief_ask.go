package cli

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"strings"

	"envask/internal/brief"
	"envask/internal/casefile"
	"envask/internal/cli/question"
	"envask/internal/cli/term"
	"envask/internal/flow"
)

// askBrief asks for what is missing, one field at a time. Each answer is kept at once.
func (s *session) askBrief(ctx context.Context, a *flow.App, c *casefile.Case, plain bool) error {
	v, err := a.ShowBrief(c)
	if err != nil {
		return err
	}
	proposed, err := a.ProposeBrief(ctx, c)
	if err != nil {
		return err
	}
	var open []flow.BriefField
	for _, f := range v.Fields {
		if f.Answer == "" || f.Wrong(f.Answer) != "" {
			open = append(open, f)
		}
	}
	for _, p := range v.Unmarked {
		marked, err := s.confirm("Is the error marked in " + term.Clean(p.Name) + "?")
		if err == nil {
			err = a.Mark(c, p.Name, marked)
		}
		if err != nil {
			return err
		}
	}
	if len(open) == 0 {
		return nil
	}
	if v.Desk != "" {
		s.screen.Print("desk: %s", term.Clean(v.Desk))
	}
	var questions []*briefQuestion
	for i, f := range open {
		questions = append(questions, s.briefQuestion(f, fmt.Sprintf("%d/%d", i+1, len(open)), proposed))
	}
	w := &writeUp{s: s, a: a, c: c}
	said := fmt.Sprintf("%d %s to fill in. ", len(open), one(len(open), "field", "fields"))
	if plain || !s.draws() {
		s.screen.Print("%s", s.screen.Indented(0, 0, said+"Enter takes what stands in brackets, or leaves the field out; "+
			"q leaves, and keeps what you answered."))
		err = w.askPlainly(questions)
	} else {
		s.screen.Print("%s", s.screen.Indented(0, 0, said+"Enter takes what is offered, or leaves the field out; "+
			"Esc leaves, and keeps what you answered."))
		err = w.askDrawn(ctx, questions)
	}
	s.screen.Print("")
	if errors.Is(err, question.ErrLeft) {
		return nil
	}
	return err
}

// writeUp is one that is being filled in.
type writeUp struct {
	s *session
	a *flow.App
	c *casefile.Case
}

// keep puts an answer into the case.
func (w *writeUp) keep(q *briefQuestion, text string) error {
	change := q.change(text)
	if change == nil {
		return nil
	}
	return w.a.SetBrief(w.c, []flow.BriefChange{*change})
}

// skips says whether a field is not to be asked for: why it is that bad, where nobody said how bad.
func (w *writeUp) skips(field string) bool {
	return field == brief.SeverityWhy && w.c.Brief[brief.Severity] == ""
}

// draws says whether questions can be drawn on this terminal. Readers of screens need lines that stay: ACCESSIBLE, as several programs
// understand it, asks for them.
func (s *session) draws() bool {
	name := s.env.Getenv("TERM")
	return s.env.Getenv("ACCESSIBLE") == "" && name != "dumb" && (name != "" || runtime.GOOS == "windows")
}

// briefQuestion is a field of the write-up as it is asked for.
type briefQuestion struct {
	question.Question
	field flow.BriefField
	count string
	found []flow.Proposed // what the evidence says
}

func (s *session) briefQuestion(f flow.BriefField, count string, proposed []flow.Proposed) *briefQuestion {
	q := &briefQuestion{field: f, count: count}
	q.Text, q.Lines, q.Most = term.Clean(f.Text), f.Lines, flow.MaxAnswer
	if f.Help != "" {
		q.Below = append(q.Below, term.Clean(f.Help))
	}
	for _, choice := range f.Choices {
		means := choice.Means
		if choice.NotFor != "" {
			means += "; not for " + choice.NotFor
		}
		q.Choices = append(q.Choices, question.Choice{Answer: choice.Name, Shown: term.Clean(choice.Name),
			Means: term.Clean(strings.TrimPrefix(means, "; "))})
	}
	for _, p := range proposed {
		if p.Field == f.ID {
			q.found = append(q.found, p)
		}
	}
	switch {
	case len(q.found) == 1 && len(q.Choices) == 0:
		q.Offer = term.Clean(strings.ReplaceAll(q.found[0].Text, "\n", "; "))
	case len(q.Choices) == 0: // none of several is assumed
		for _, p := range q.found {
			q.Choices = append(q.Choices, question.Choice{Answer: p.Text, Shown: term.Clean(p.Text),
				Means: "from " + term.Clean(p.From)})
		}
		q.Other = len(q.found) > 0
	}
	return q
}

// change is what an answer changes; nil is nothing.
func (q *briefQuestion) change(text string) *flow.BriefChange {
	if text == "" && q.Offer != "" {
		text = q.found[0].Text
	}
	if text == "" {
		return nil
	}
	for _, p := range q.found {
		if p.Text == text {
			return &flow.BriefChange{ID: q.field.ID, Text: text, From: p.From}
		}
	}
	return &flow.BriefChange{ID: q.field.ID, Text: text}
}

// askDrawn asks in forms that are drawn on the terminal.
func (w *writeUp) askDrawn(ctx context.Context, questions []*briefQuestion) error {
	s := w.s
	defer s.pause()()
	var list []question.Question
	for _, q := range questions {
		shown := q.Question
		shown.Text = q.count + "  " + shown.Text
		if q.field.Required {
			shown.Text += " (the vendor needs it)"
		}
		if q.Offer != "" {
			shown.Below = append(shown.Below, "offered, from "+term.Clean(q.found[0].From)+":")
		}
		shown.Skip = func() bool { return w.skips(q.field.ID) }
		shown.Keep = func(text string) error {
			if why := q.field.Wrong(text); text != "" && why != "" {
				return errors.New(term.Clean(why))
			}
			return w.keep(q, text)
		}
		list = append(list, shown)
	}
	return question.Ask(ctx, question.Terminal{In: s.env.In, Out: s.env.Err, Color: s.screen.Color, Columns: s.screen.Width}, list)
}

// askPlainly asks in lines that stay.
func (w *writeUp) askPlainly(questions []*briefQuestion) error {
	for _, q := range questions {
		if w.skips(q.field.ID) {
			continue
		}
		text, err := w.s.askField(q)
		if err != nil {
			return err
		}
		if err := w.keep(q, text); err != nil {
			w.s.complain(w.s.env.Err, err) // the next one is asked for; this one is said again at the end
		}
	}
	return nil
}

// askField asks for one field, and gives ErrLeft where the person wants to stop.
func (s *session) askField(q *briefQuestion) (string, error) {
	s.screen.Print("")
	need := ""
	if q.field.Required {
		need = s.screen.Paint(term.Warn, " (the vendor needs it)")
	}
	s.screen.Print("%s %s%s", s.screen.Paint(term.Good, q.count), q.Text, need)
	for _, l := range q.Below {
		s.screen.Print("    %s", l)
	}
	for i, choice := range q.Choices {
		line := fmt.Sprintf("  %d  %s", i+1, choice.Shown)
		if choice.Means != "" {
			line += ": " + choice.Means
		}
		s.screen.Print("%s", s.screen.Indented(0, 7, line))
	}
	if q.Offer != "" {
		s.screen.Print("%s", s.screen.Indented(2, 3, fmt.Sprintf("[%s]  from %s", q.Offer, term.Clean(q.found[0].From))))
	}
	text, err := s.answerLines(q.Lines)
	if err == nil && text == "q" {
		err = question.ErrLeft
	}
	for i, choice := range q.Choices {
		if text == fmt.Sprint(i+1) {
			text = choice.Answer
		}
	}
	return text, err
}

// answerLines reads an answer: of several lines up to an empty one.
func (s *session) answerLines(several bool) (string, error) {
	defer s.pause()()
	var lines []string
	for {
		lead := ">"
		if len(lines) > 0 {
			lead = "…"
		}
		line, err := s.screen.Line(lead)
		if err != nil {
			return "", err
		}
		if line == "" && len(lines) > 0 {
			break
		}
		lines = append(lines, line)
		if !several || line == "" || line == "q" {
			break
		}
	}
	return strings.Join(lines, "\n"), nil
}
