package question

import (
	"time"

	tea "charm.land/bubbletea/v2"
)

// typed holds what is typed while the form goes from one question to the next, which takes a moment: over a slow line several answers
// arrive at once, and what is meant for the next question must not end up in this one.
type typed struct {
	waiting []tea.Msg
	moving  string // the question that is being left; "" is none
	since   time.Time
	flight  bool // something that waited is on its way to the form
	ticking bool
}

type (
	again  struct{} // time to look whether the form has arrived
	passed struct{ tea.Msg }
)

// pause is how long it is waited before it is looked again.
const pause = 2 * time.Millisecond

// longest is how long leaving a question can take; where there is none to go to, it takes for ever.
const longest = 300 * time.Millisecond

// filter sees each message before the form does.
func (a *asking) filter(_ tea.Model, m tea.Msg) tea.Msg {
	switch m := m.(type) {
	case tea.InterruptMsg:
		return tea.QuitMsg{} // which draws once more, so that the form does not stay behind
	case passed:
		a.flight = false
		return m.Msg
	case again:
		a.ticking = false
		return a.next()
	case tea.KeyPressMsg:
		if m.String() == "ctrl+c" { // at once, whatever waits
			a.interrupted = true
			return m
		}
		return a.input(m)
	case tea.PasteMsg:
		return a.input(m)
	}
	return m
}

func (a *asking) input(m tea.Msg) tea.Msg {
	if len(a.waiting) > 0 || a.busy() {
		a.waiting = append(a.waiting, m)
		return a.tick()
	}
	return a.press(m)
}

// leave notes that the form goes to another question.
func (a *asking) leave() { a.moving, a.since = a.focused(), time.Now() }

// busy says whether nothing can be typed just now.
func (a *asking) busy() bool {
	if a.moving != "" && (a.focused() != a.moving || time.Since(a.since) > longest) {
		a.moving = ""
	}
	return a.moving != "" || a.flight
}

func (a *asking) focused() string { return a.form.GetFocusedField().GetKey() }

func (a *asking) tick() tea.Msg {
	if a.ticking {
		return nil
	}
	a.ticking = true
	return tea.BatchMsg{func() tea.Msg { time.Sleep(pause); return again{} }}
}

// next lets what waited longest go on.
func (a *asking) next() tea.Msg {
	switch {
	case len(a.waiting) == 0:
		return nil
	case a.busy():
		return a.tick()
	}
	m := a.press(a.waiting[0])
	a.waiting, a.flight, a.ticking = a.waiting[1:], true, true
	return tea.Sequence(func() tea.Msg { return passed{m} }, func() tea.Msg { return again{} })()
}
