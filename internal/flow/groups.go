package flow

import (
	"slices"

	"envask/internal/ask"
	"envask/internal/collect"
)

// caseGroups says which groups of the ask several rounds together have as a whole: by the table of what they have together, and by the
// files of the round that each cell of it is of.
func caseGroups(k *ask.Ask, rounds []*collect.Round, table collect.Coverage) ([]collect.GroupResult, error) {
	if len(k.Groups) == 0 {
		return nil, nil
	}
	table = slices.Clone(table)
	for i := range table {
		if table[i].NotChosen() { // no round has it
			table[i].Code = ""
		}
	}
	of := map[cellKey]*collect.Round{}
	there := map[cellKey]bool{}
	for _, r := range rounds {
		for _, cell := range r.Coverage {
			if key := (cellKey{cell.System, cell.Item}); of[key] == nil || isThere(cell) || !there[key] && !cell.NotChosen() {
				of[key], there[key] = r, isThere(cell)
			}
		}
	}
	return collect.CheckGroups(k, table, func(each func(collect.Entry) error) error {
		for _, r := range rounds {
			err := r.Entries(func(e collect.Entry) error {
				if of[cellKey{e.System, e.Item}] != r {
					return nil
				}
				return each(e)
			})
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// roundsTogether gives the rounds that count for what a case has: finished ones with the window of the newest, whose evidence is here or
// was sent.
func roundsTogether(v *CaseView, rounds []*collect.Round) (out []*collect.Round) {
	for _, r := range rounds {
		last := rounds[len(rounds)-1]
		if r.Finished() && !r.Baseline && sameSpans(r.Window, last.Window) && (r.Discarded.IsZero() || v.routesOf(r.ID) != "") {
			out = append(out, r)
		}
	}
	return out
}
