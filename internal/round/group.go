package round

import (
	"envask/internal/ask"
	"fmt"
	"slices"
	"strings"
)

// CheckGroups says for every group of the ask on which systems it is not there as a whole: an item, or a file of one, or a file that
// the group demands. each gives the entries of the round; it is asked only where there are groups.
func CheckGroups(a *ask.Ask, plan Coverage, each func(func(Entry) error) error) ([]GroupResult, error) {
	if len(a.Groups) == 0 {
		return nil, nil
	}
	groups := make([]*grouping, len(a.Groups))
	for i, g := range a.Groups {
		groups[i] = newGrouping(g, plan)
	}
	err := each(func(e Entry) error {
		for _, g := range groups {
			g.saw(&e)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	var out []GroupResult
	for _, g := range groups {
		out = append(out, g.result())
	}
	return out, nil
}

// grouping holds what comes of the items of a group against it, system by system.
type grouping struct {
	ask.Group
	order   []string
	systems map[string]*groupOn
}

// groupOn is a group on one system.
type groupOn struct {
	files   *ask.Demanded
	cells   map[string]bool     // by item: whether it was taken
	lacks   map[string][]string // by item: files of it
	items   []string
	without bool // an item is not there
}

func newGrouping(g ask.Group, plan Coverage) *grouping {
	out := &grouping{Group: g, systems: map[string]*groupOn{}}
	for _, cell := range plan {
		if !slices.Contains(g.Items, cell.Item) || cell.System == "" || cell.NotChosen() {
			continue
		}
		on := out.systems[cell.System]
		if on == nil {
			on = &groupOn{files: g.Each.Begin(), cells: map[string]bool{}, lacks: map[string][]string{}}
			out.systems[cell.System] = on
			out.order = append(out.order, cell.System)
		}
		there := cell.State == Taken || cell.State == Cut
		on.cells[cell.Item] = there
		on.items = append(on.items, cell.Item)
		on.without = on.without || !there
	}
	return out
}

func (g *grouping) saw(e *Entry) {
	on := g.systems[e.System]
	if on == nil {
		return
	}
	there, wanted := on.cells[e.Item]
	if !wanted {
		return
	}
	if isTakenFile(e) {
		on.files.Saw(e.Source)
	}
	if there && e.Name == "" && !e.Special && e.State != Empty && e.State != Skipped && e.State != Refused {
		on.lacks[e.Item] = append(on.lacks[e.Item], fmt.Sprintf("%s (%s: %s)", e.Item, e.Source, e.State))
	}
}

func (g *grouping) result() GroupResult {
	r := GroupResult{Name: g.Name, Why: g.Why, Items: g.Items}
	for _, system := range g.order {
		on := g.systems[system]
		var lacks []string
		for _, item := range on.items {
			if !on.cells[item] {
				lacks = append(lacks, item)
			}
			lacks = append(lacks, on.lacks[item]...)
		}
		if why := on.files.Unmet(); why != "" && len(lacks) == 0 {
			lacks = append(lacks, "files ("+why+")")
		}
		if len(lacks) > 0 {
			r.Lacking = append(r.Lacking, system+" lacks "+strings.Join(lacks, ", "))
			if !on.without {
				r.Short = append(r.Short, system)
			}
		} else {
			r.Whole = append(r.Whole, system)
		}
	}
	return r
}

// GroupResult is what became of items that are demanded together.
type GroupResult struct {
	Name    string   `json:"name"`
	Why     string   `json:"why,omitempty"`
	Items   []string `json:"items"`
	Whole   []string `json:"whole"`             // systems that have all of them
	Lacking []string `json:"lacking,omitempty"` // what the others lack, in words
	Short   []string `json:"-"`                 // systems that have all its items, and lack files
}
