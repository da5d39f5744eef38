package cli

import (
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/cli/term"
	"envask/internal/collect"
	"envask/internal/flow"
	"envask/internal/reach"
	"envask/internal/round"
)

// eventDoc is one step of a collection as a line of JSON on standard error, for whoever watches it with a program.
type eventDoc struct {
	Event   string        `json:"event"`
	At      time.Time     `json:"at"`
	System  string        `json:"system,omitempty"`
	Item    string        `json:"item,omitempty"`
	Files   int           `json:"files,omitempty"`
	Seconds float64       `json:"seconds,omitempty"`
	Text    string        `json:"text,omitempty"`
	Entry   *round.Entry  `json:"entry,omitempty"`
	Cell    *round.Cell   `json:"cell,omitempty"`
	Clock   *round.Clock  `json:"clock,omitempty"`
	Reached *reach.Served `json:"reached,omitempty"`
}

// jsonEvent writes one event. Bytes as they arrive are left out: they would be most of the lines.
func (s *session) jsonEvent(e any) {
	d := eventDoc{At: s.env.Now().UTC()}
	switch e := e.(type) {
	case collect.Event:
		if e.Kind == collect.Progress {
			return
		}
		d.Event, d.System, d.Item, d.Files, d.Entry, d.Cell, d.Clock, d.Reached, d.Text = string(e.Kind), e.System, e.Item, e.Files,
			e.Entry, e.Cell, e.Clock, e.Served, e.Reason
		d.Seconds = e.Took.Seconds()
	case flow.Planned:
		d.Event, d.Files = "planned", e.Cells
	case flow.Note:
		d.Event, d.Text = "note", e.Text
	case flow.SetChosen:
		d.Event, d.Item, d.Text = "set", e.Set.Name, e.Set.Text
	case flow.BeforeSystem:
		d.Event, d.System, d.Text = "before", e.System, e.Text
	default:
		return
	}
	if s.screen.Quiet {
		return
	}
	_ = json.NewEncoder(term.JSON(s.env.Err)).Encode(d) // an event that cannot be shown stops nothing
}
