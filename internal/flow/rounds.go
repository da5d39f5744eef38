package flow

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"envask/internal/archive"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
)

// An archive holds one round, or several together: the newest form of every file stands in systems/, and what an earlier
// round had otherwise stands in earlier/<round>/systems/. What did not change stands once. An archive can also leave out
// what a vendor has from another round already.

// chooseRound gives one finished round of a case; "" is the newest.
func chooseRound(c *casefile.Case, id string) (*collect.Round, error) {
	rounds, err := collect.Rounds(c)
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
			return nil, fault.New(fault.Usage, "pack round", id, "it is unfinished", "run envask collect to go on with it, or choose another with --round")
		}
		return r, nil
	}
	if len(rounds) == 0 {
		return nil, fault.New(fault.Usage, "pack", c.Name, "nothing was collected yet", "run envask collect first")
	}
	return nil, fault.New(fault.Usage, "--round", id, "there is no such round", "envask show lists them")
}

// chooseRounds gives the rounds to pack in their order, the newest last.
func chooseRounds(c *casefile.Case, ids []string) ([]*collect.Round, error) {
	if len(ids) == 0 {
		ids = []string{""}
	}
	var out []*collect.Round
	for _, id := range ids {
		r, err := chooseRound(c, strings.TrimSpace(id))
		if err != nil {
			return nil, err
		}
		if !r.Discarded.IsZero() {
			return nil, fault.New(fault.Usage, "pack round", r.ID, "its raw evidence was removed by tidy on "+r.Discarded.Format(time.DateOnly), "collect again; its archive in out/ is as it was, if it was packed")
		}
		if !slices.ContainsFunc(out, func(o *collect.Round) bool { return o.ID == r.ID }) {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b *collect.Round) int { return a.Number() - b.Number() })
	return out, nil
}

// loadRounds lists the evidence of the chosen rounds.
func (p *packing) loadRounds() (err error) {
	p.round = p.rounds[len(p.rounds)-1]
	if p.q.NewSince != "" {
		if p.since, err = chooseRound(p.c, p.q.NewSince); err != nil {
			return err
		}
		if p.since.Number() >= p.rounds[0].Number() {
			return fault.New(fault.Usage, "--new-since", p.since.ID, "it is not older than what is packed ("+roundIDs(p.rounds)+")", "name the round of which the vendor has the archive")
		}
	}
	had, err := p.before()
	if err != nil {
		return err
	}
	newest := map[string]*piece{}
	for i := len(p.rounds) - 1; i >= 0; i-- { // what is newest has the first claim on a name
		if err := p.loadRound(p.rounds[i], newest, had); err != nil {
			return fault.Wrap("read the round", p.rounds[i].ID, err)
		}
	}
	return nil
}

// before gives the SHA-256 of what the vendor has already, by system and name.
func (p *packing) before() (map[string]string, error) {
	had := map[string]string{}
	if p.since == nil {
		return had, nil
	}
	err := p.since.Entries(func(e collect.Entry) error {
		if e.Name != "" {
			had[e.System+"/"+e.Name] = e.SHA256
		}
		return nil
	})
	return had, fault.Wrap("read the round", p.since.ID, err)
}

func (p *packing) loadRound(r *collect.Round, newest map[string]*piece, had map[string]string) error {
	taken := map[string]*piece{}
	w := r.InZone().Grow(r.Context)
	p.within[r] = func(t time.Time) bool { return w.Overlaps(t, t) }
	return r.Entries(func(e collect.Entry) error {
		left := func(state collect.State, reason string) {
			p.left = append(p.left, archive.LeftOut{System: e.System, Item: e.Item, Source: e.Source, State: state, Reason: reason, Size: e.Size, Round: p.roundOf(r)})
		}
		at := e.System + "/" + e.Name
		later := newest[at]
		switch {
		case e.Name == "":
			left(e.State, e.Reason)
		case taken[at] != nil:
			left(e.State, "the same bytes as of item "+taken[at].entry.Item+": one file, see "+e.Name)
		case had[at] == e.SHA256 && e.SHA256 != "":
			left(collect.Skipped, "unchanged since round "+p.since.ID+", of which the vendor has the archive")
			p.same[[2]string{e.System, e.Item}]++
			p.behind = append(p.behind, &piece{entry: e, round: r, behind: true, asIs: p.asIs(e)})
		case later != nil && later.entry.SHA256 == e.SHA256:
			left(collect.Skipped, "the same bytes as of round "+later.round.ID)
		default:
			x := &piece{entry: e, round: r, earlier: later != nil, asIs: p.asIs(e)}
			x.out = p.without(x)
			taken[at] = x
			if later == nil {
				newest[at] = x
			}
			p.pieces = append(p.pieces, x)
			p.total += e.Bytes
		}
		return nil
	})
}

// asIs says whether a file stays as it is, by the engineer's word.
func (p *packing) asIs(e collect.Entry) bool {
	return p.policy.Stays(e.Source) || p.policy.Stays(e.System+"/"+e.Name)
}

// folder is where a piece's system stands in the archive.
func (x *piece) folder() string {
	folder := "systems/" + x.entry.System + "/"
	if x.earlier {
		return archive.Earlier + x.round.ID + "/" + folder
	}
	return folder
}

// roundOf names a round where the archive holds several.
func (p *packing) roundOf(r *collect.Round) string {
	if len(p.rounds) == 1 {
		return ""
	}
	return r.ID
}

func roundIDs(rounds []*collect.Round) string {
	var ids []string
	for _, r := range rounds {
		ids = append(ids, r.ID)
	}
	return strings.Join(ids, ",")
}

// inName is how the archive's name tells its rounds.
func (p *packing) inName() string {
	name := strings.ReplaceAll(roundIDs(p.rounds), ",", "-")
	if p.since != nil {
		name += "-since-" + p.since.ID
	}
	return name
}

// joinedCoverage gives the coverage of all rounds together: of every field the newest round in which it was taken, or else the
// newest that says why it was not.
func (p *packing) joinedCoverage() collect.Coverage {
	if len(p.rounds) == 1 && p.since == nil {
		return p.round.Coverage
	}
	rounds := p.rounds
	if p.since != nil {
		rounds = append([]*collect.Round{p.since}, rounds...)
	}
	var out collect.Coverage
	at := map[[2]string]int{}
	for _, r := range rounds {
		for _, cell := range r.Coverage {
			k := [2]string{cell.System, cell.Item}
			i, known := at[k]
			switch {
			case !known:
				at[k] = len(out)
				out = append(out, cell)
			case isThere(cell) || !isThere(out[i]) && !cell.NotChosen():
				out[i] = cell
			}
		}
	}
	p.count(out, at)
	return out
}

func isThere(c collect.Cell) bool { return c.State == collect.Taken || c.State == collect.Cut }

// count gives each field what of it is in this archive.
func (p *packing) count(table collect.Coverage, at map[[2]string]int) {
	for i := range table {
		table[i].Files, table[i].Bytes = 0, 0
	}
	for _, x := range p.pieces {
		if i, ok := at[[2]string{x.entry.System, x.entry.Item}]; ok {
			table[i].Files++
			table[i].Bytes += x.entry.Bytes
		}
	}
	for i := range table {
		c := &table[i]
		switch n := p.same[[2]string{c.System, c.Item}]; {
		case n > 0:
			c.Reason = how(c.Reason, fmt.Sprintf("%d unchanged since round %s", n, p.since.ID))
		case p.since != nil && isThere(*c) && c.Files == 0:
			c.Reason = how(c.Reason, "in the archive of round "+p.since.ID)
		}
	}
}

// clocks, reached and groups of all rounds together: the newest word on each counts.
func (p *packing) clocks() []collect.Clock {
	return newestOf(p.rounds, func(r *collect.Round) []collect.Clock { return r.Clocks }, func(c collect.Clock) string { return c.System })
}

func (p *packing) reached() []collect.Place {
	return newestOf(p.rounds, func(r *collect.Round) []collect.Place { return r.Reached }, func(c collect.Place) string { return c.System })
}

func (p *packing) groups() []collect.GroupResult {
	whole := map[string]collect.GroupResult{}
	for _, r := range p.rounds {
		for _, g := range r.Groups {
			if len(g.Lacking) == 0 {
				whole[g.Name] = g
			}
		}
	}
	list := newestOf(p.rounds, func(r *collect.Round) []collect.GroupResult { return r.Groups }, func(g collect.GroupResult) string { return g.Name })
	for i, g := range list {
		if w, ok := whole[g.Name]; ok {
			list[i] = w
		}
	}
	return list
}

// newestOf joins lists of several rounds, of which the newest entry of each name counts.
func newestOf[T any](rounds []*collect.Round, list func(*collect.Round) []T, name func(T) string) []T {
	var out []T
	at := map[string]int{}
	for _, r := range rounds {
		for _, x := range list(r) {
			if i, ok := at[name(x)]; ok {
				out[i] = x
				continue
			}
			at[name(x)] = len(out)
			out = append(out, x)
		}
	}
	return out
}
