package cli

import (
	"strings"

	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/flow"
)

// showToDo lists what persons bring: what is open with all that they need to know, the rest in a line each.
func (s *session) showToDo(a *flow.App, c *casefile.Case) error {
	list, err := a.ToDos(c)
	if err != nil {
		return err
	}
	if s.common.json {
		if list == nil {
			list = []flow.ToDo{}
		}
		return s.writeJSON(list)
	}
	if len(list) == 0 {
		s.screen.Print("The ask wants nothing from persons.")
		return nil
	}
	s.drawToDos(list)
	return nil
}

// mostToDo is how many things to bring are shown with all their steps after a collection.
const mostToDo = 5

// drawStillToBring shows after a collection what persons still have to bring.
func (s *session) drawStillToBring(open []flow.ToDo) {
	if len(open) == 0 {
		return
	}
	s.screen.Print("")
	s.screen.Print("%s", s.screen.Paint(term.Bold, "Still to be brought by a person"))
	for i := range open {
		if i == mostToDo {
			s.screen.Print("")
			s.screen.Print("and %d more", len(open)-i)
			break
		}
		s.drawToDo(&open[i], false)
	}
}

// drawToDos shows what is still to be brought, and what was.
func (s *session) drawToDos(list []flow.ToDo) {
	open := flow.Open(list)
	if len(open) > 0 {
		s.screen.Print("%s", s.screen.Paint(term.Bold, "Still to be brought"))
		recorded := false
		for i := range open {
			s.drawToDo(&open[i], !recorded)
			recorded = recorded || len(open[i].Recording) > 0
		}
	}
	for i := range list {
		if t := &list[i]; !t.Open {
			s.screen.Print("%s %s: %s", s.screen.Paint(stateColors[t.State], "brought"), itemOf(t.System, t.Item), s.namesOf(t))
		}
	}
}

func (s *session) namesOf(t *flow.ToDo) string {
	var names []string
	for i := range t.Brought {
		name := ownNameOf(&t.Brought[i])
		if t.Brought[i].Brought.Older {
			name += " (an older version)"
		}
		names = append(names, term.Clean(name))
	}
	return strings.Join(names, ", ")
}

func (s *session) drawToDo(t *flow.ToDo, engines bool) {
	star := ""
	if t.Required {
		star = "*"
	}
	s.screen.Print("")
	s.screen.Print("%s%s  expected: %s", s.screen.Paint(term.Bold, itemOf(t.System, t.Item)), star, t.Expect)
	if t.Why != "" {
		s.screen.Print("%s", s.screen.Indented(2, 2, "why: "+term.Clean(t.Why)))
	}
	for i, step := range t.Steps {
		lead := ""
		if len(t.Steps) > 1 {
			lead = number(i+1) + ". "
		}
		s.screen.Print("%s", s.screen.Indented(2, 2+len(lead), lead+term.Clean(step)))
	}
	if engines {
		for _, e := range t.Recording {
			s.screen.Print("  How to record it with %s:", e.Name)
			for i, step := range e.Steps {
				s.screen.Print("%s", s.screen.Indented(4, 7, number(i+1)+". "+step))
			}
		}
	}
	if t.Advice != "" {
		s.screen.Print("%s", s.screen.Indented(2, 2, "if it is large: "+term.Clean(t.Advice)))
	}
	if t.Reason != "" {
		s.screen.Print("%s", s.screen.Indented(2, 4, s.screen.Paint(stateColors[t.State], string(t.State))+": "+term.Clean(t.Reason)))
	}
	s.screen.Print("  %s", s.withCase("envask "+strings.Join(t.Add, " ")))
}
