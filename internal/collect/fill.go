package collect

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/reach"
)

// fill replaces the placeholders of a command line for this system and case. folder is what {folder} stands for.
func (w *work) fill(ctx context.Context, command, folder string) (string, error) {
	spec, _ := w.item.Spec.(ask.Run)
	return ask.Fill(command, func(name string) (string, error) {
		switch name {
		case "from", "to":
			return w.moment(name, spec)
		case "case":
			if w.req.Case == "" {
				return "", errors.New("{case}: the case has no number yet; envask open --was NAME NUMBER gives it one")
			}
			return w.req.Case, nil
		case "folder":
			return folder, nil
		case "member":
			return w.member, nil
		}
		if p, ok := strings.CutPrefix(name, "inbox."); ok {
			return w.inboxValue(p)
		}
		if name == "system" || strings.HasPrefix(name, "system.") || strings.HasPrefix(name, "value.") {
			return w.fact(ctx, name)
		}
		return w.req.answer(strings.TrimPrefix(name, "answer."))
	}, func(text string) (string, error) { return reach.Word(ctx, w.target, text) })
}

// moment gives the begin or end of the window, in the format and zone that the command wants, as the system's clock shows it.
func (w *work) moment(name string, spec ask.Run) (string, error) {
	win := w.window()
	if !win.Limited() {
		return "", fmt.Errorf("{%s}: the case has no window; give one with envask open", name)
	}
	zone := spec.Zone
	if zone == nil {
		zone, _ = w.zone()
	}
	t := win.Spans[0].From
	for _, s := range win.Spans {
		if name == "from" && s.From.Before(t) || name == "to" && s.To.After(t) {
			t = s.From
			if name == "to" {
				t = s.To
			}
		}
	}
	if name == "to" && t.Nanosecond() > 0 {
		t = t.Add(time.Second) // formats have no fractions: rather a second more than one too few
	}
	return ask.FormatTime(spec.TimeFormat, t.In(zone)), nil
}

// answer gives an answer of the brief that a command needs, once it is as the question wants it.
func (r *Request) answer(id string) (string, error) {
	text := r.Answers[id]
	q := r.Ask.Question(id)
	switch {
	case text == "":
		return "", fmt.Errorf("it needs the answer to the question %s; write it into brief: in case.yaml", id)
	case q != nil && q.Like != nil && !q.Like.MatchString(text):
		return "", fmt.Errorf("the answer to the question %s is not as the vendor wants it (%s)", id, q.Like)
	}
	return text, nil
}

// at gives a pattern as it is on the system: with the home of its account for ~, and what Windows calls %NAME%.
func (w *work) at(pattern string) string {
	if p, ok := w.target.(reach.Placer); ok {
		return p.Place(pattern)
	}
	return pattern
}
