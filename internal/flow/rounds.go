package flow

import (
	"slices"
	"strings"
	"time"

	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/round"
)

// An archive holds one round, or several together: the newest form of every file stands in systems/, and what an earlier
// round had otherwise stands in earlier/<round>/systems/. What did not change stands once. An archive can also leave out
// what a vendor has from another round already.

// chooseRound gives one finished round of a case; "" is the newest.
func chooseRound(c *casefile.Case, id, flag string) (*round.Round, error) {
	rounds, err := round.List(c)
	if err != nil {
		return nil, fault.Wrap("read the rounds", c.Name, err)
	}
	if id == "" && len(rounds) > 0 {
		id = rounds[len(rounds)-1].ID
	}
	for _, r := range rounds {
		if r.ID != id {
			continue
		}
		if !r.Finished() {
			return nil, fault.New(fault.Usage, "pack round", id, "it is unfinished",
				"run envask collect to resume it, or choose another with --round")
		}
		return r, nil
	}
	if len(rounds) == 0 {
		return nil, fault.New(fault.Usage, "pack", c.Name, "nothing was collected yet", "run envask collect first")
	}
	return nil, fault.New(fault.Usage, flag, id, "there is no such round", "envask show lists them")
}

// chooseRounds gives the rounds to pack in their order, the newest last.
func chooseRounds(c *casefile.Case, ids []string) ([]*round.Round, error) {
	var out []*round.Round
	for _, id := range ids {
		r, err := chooseRound(c, strings.TrimSpace(id), "--round")
		if err != nil {
			return nil, err
		}
		if !r.Discarded.IsZero() {
			return nil, fault.New(fault.Usage, "pack round", r.ID, "its raw evidence was removed by tidy on "+
				r.Discarded.Format(time.DateOnly), "collect again; its archive in out/ is as it was, if it was packed")
		}
		if !slices.ContainsFunc(out, func(o *round.Round) bool { return o.ID == r.ID }) {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b *round.Round) int { return a.Number() - b.Number() })
	return out, nil
}
