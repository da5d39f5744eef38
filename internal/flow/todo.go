package flow

import (
	"slices"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/bring"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/round"
	"envask/internal/site"
)

// ToDo is something that a person brings: what to do, and what came of it so far.
type ToDo struct {
	Item     string      `json:"item"`
	System   string      `json:"system"` // site.Case for the case as a whole
	Required bool        `json:"required"`
	Why      string      `json:"why,omitempty"`
	Steps    []string    `json:"steps"`
	Advice   string      `json:"advice,omitempty"` // how to make it smaller
	Expect   string      `json:"expect"`
	Open     bool        `json:"open"` // it is still to be brought
	State    round.State `json:"state"`
	Reason   string      `json:"reason,omitempty"`
	Add      []string    `json:"add"` // the arguments of envask that bring it
	// Recording says how a browser is recorded, where that is wanted.
	Recording []bring.Engine `json:"-"`
	Brought   []round.Entry  `json:"brought,omitempty"`
}

// ToDos lists what persons bring in a case, in the order of the ask: what is open first.
func (a *App) ToDos(c *casefile.Case) ([]ToDo, error) {
	k, s, err := CaseFiles(c)
	if err != nil {
		return nil, err
	}
	if len(k.Persons()) == 0 {
		return nil, nil
	}
	together, err := a.countingRounds(c)
	if err != nil {
		return nil, err
	}
	cells := map[cellKey]round.Cell{}
	for _, cell := range newestCells(together) {
		cells[cellKey{cell.System, cell.Item}] = cell
	}
	had := map[cellKey][]round.Entry{}
	for _, r := range together {
		list, err := r.Brought()
		if err != nil {
			return nil, fault.Wrap("read the round", r.ID, err)
		}
		for _, e := range list {
			key := cellKey{e.System, e.Item}
			had[key] = append(had[key], e)
		}
	}
	var out []ToDo
	for _, key := range (&bringing{ask: k, site: s}).choices() {
		cell, known := cells[key]
		if !known || cell.State == round.Skipped && cell.Code != round.CodeElsewhere {
			cell = round.ToBring(round.Cell{System: key[0], Item: key[1], Required: k.Item(key[1]).Required})
		}
		out = append(out, toDo(c, k.Item(key[1]), s.System(key[0]), cell, had[key]))
	}
	slices.SortStableFunc(out, func(a, b ToDo) int {
		switch {
		case a.Open == b.Open:
			return 0
		case a.Open:
			return -1
		}
		return 1
	})
	return out, nil
}

// countingRounds gives the rounds of a case that count together.
func (a *App) countingRounds(c *casefile.Case) ([]*round.Round, error) {
	v, err := a.ShowCase(c)
	if err != nil {
		return nil, err
	}
	rounds, err := round.List(c)
	return roundsTogether(v, rounds), fault.Wrap("read the rounds", c.Name, err)
}

// broughtBefore says of what persons brought in which round it is, of those that count together.
func (a *App) broughtBefore(c *casefile.Case, k *ask.Ask) (map[[2]string]string, error) {
	if len(k.Persons()) == 0 {
		return nil, nil
	}
	together, err := a.countingRounds(c)
	if err != nil {
		return nil, err
	}
	had := map[[2]string]string{}
	for _, r := range together {
		for _, cell := range r.Coverage {
			if it := k.Item(cell.Item); r.Finished() && it != nil && it.Brought() && provided(cell) {
				had[cellKey{cell.System, cell.Item}] = r.ID
			}
		}
	}
	return had, nil
}

// provided reports whether what a cell is of was brought, or its address was.
func provided(cell round.Cell) bool { return isThere(cell) || cell.Code == round.CodeElsewhere }

func toDo(c *casefile.Case, it *ask.Item, sys *site.System, cell round.Cell, had []round.Entry) ToDo {
	spec := it.Spec.(ask.Person)
	folder := ""
	if sys != nil {
		folder = collect.DropFolder(&spec, sys, c.Number)
	}
	t := ToDo{Item: it.ID, System: cell.System, Required: it.Required, Why: it.Why, Advice: it.Advice, Expect: spec.Expect.String(),
		Open: !provided(cell), State: cell.State, Reason: cell.Reason, Brought: had}
	if cell.Code == round.CodeToBring {
		t.Reason = ""
	}
	for _, s := range spec.Steps {
		t.Steps = append(t.Steps, ask.Tell(s, func(name string) string { return toldOf(c, cell.System, name) }))
	}
	if spec.Recording() {
		t.Recording = bring.Engines
	}
	t.Add = []string{"add", "FILE", "--item", it.ID}
	if spec.Arrives {
		t.Add = []string{"inbox", "--listen", "ADDRESS", "--item", it.ID}
		if folder != "" {
			t.Add = []string{"inbox", "--item", it.ID}
		}
	}
	if !it.OfCase {
		t.Add = append(t.Add, "--system", cell.System)
	}
	return t
}

// toldOf gives the text of a placeholder of what a person is told.
func toldOf(c *casefile.Case, system, name string) string {
	zone := c.Window.Zone
	if zone == nil {
		zone = time.UTC
	}
	at := func(t time.Time, ok bool) string {
		if !ok {
			return ""
		}
		return t.In(zone).Format("2006-01-02 15:04 MST")
	}
	if id, ok := strings.CutPrefix(name, "answer."); ok {
		return orElse(c.Brief[id], "("+id+": not answered yet)")
	}
	switch name {
	case "case":
		return c.Number
	case "from":
		return at(c.Window.First())
	case "to":
		return at(c.Window.Last())
	case "system":
		if system != site.Case {
			return system
		}
	}
	return ""
}

// Open gives what is still to be brought.
func Open(list []ToDo) []ToDo {
	return slices.DeleteFunc(slices.Clone(list), func(t ToDo) bool { return !t.Open })
}
