package flow

import (
	"slices"

	"envask/internal/ask"
	"envask/internal/round"
)

// caseGroups says which groups of the ask several rounds together have as a whole: by the table of what they have together, and by the
// files of the round that each cell of it is of.
func caseGroups(k *ask.Ask, rounds []*round.Round, table round.Coverage) ([]round.GroupResult, error) {
	if len(k.Groups) == 0 {
		return nil, nil
	}
	table = slices.Clone(table)
	for i := range table {
		if table[i].NotChosen() { // no round has it
			table[i].Code = ""
		}
	}
	of := map[cellKey]*round.Round{}
	there := map[cellKey]bool{}
	for _, r := range rounds {
		for _, cell := range r.Coverage {
			if key := (cellKey{cell.System, cell.Item}); of[key] == nil || provided(cell) || !there[key] && !cell.NotChosen() {
				of[key], there[key] = r, provided(cell)
			}
		}
	}
	return round.CheckGroups(k, table, func(each func(round.Entry) error) error {
		for _, r := range rounds {
			err := r.Entries(func(e round.Entry) error {
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
func roundsTogether(v *CaseView, rounds []*round.Round) (out []*round.Round) {
	for _, r := range rounds {
		last := rounds[len(rounds)-1]
		if r.Finished() && !r.Baseline && sameSpans(r.Window, last.Window) && (r.Discarded.IsZero() || v.routesOf(r.ID) != "") {
			out = append(out, r)
		}
	}
	return out
}
