package flow

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"envask/internal/archive"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/submit"
	"envask/internal/window"
)

// An archive holds one round, or several together: the newest form of every file stands in systems/, and what an earlier
// round had otherwise stands in earlier/<round>/systems/. What did not change stands once. An archive can also leave out
// what a vendor has from another round already.

// chooseRound gives one finished round of a case; "" is the newest.
func chooseRound(c *casefile.Case, id, flag string) (*collect.Round, error) {
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
func chooseRounds(c *casefile.Case, ids []string) ([]*collect.Round, error) {
	var out []*collect.Round
	for _, id := range ids {
		r, err := chooseRound(c, strings.TrimSpace(id), "--round")
		if err != nil {
			return nil, err
		}
		if !r.Discarded.IsZero() {
			return nil, fault.New(fault.Usage, "pack round", r.ID, "its raw evidence was removed by tidy on "+
				r.Discarded.Format(time.DateOnly), "collect again; its archive in out/ is as it was, if it was packed")
		}
		if !slices.ContainsFunc(out, func(o *collect.Round) bool { return o.ID == r.ID }) {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b *collect.Round) int { return a.Number() - b.Number() })
	return out, nil
}

// unsentRounds gives the rounds that are packed when nobody chooses: all since the last archive that was sent, and the newest in any
// case. Each item on each system is of the newest round that has it; of gives that round.
func (p *packing) unsentRounds(v *CaseView) (out []*collect.Round, of map[cellKey]*collect.Round, err error) {
	newest, err := chooseRounds(p.c, []string{""})
	if err != nil {
		return nil, nil, err
	}
	all, err := collect.Rounds(p.c)
	if err != nil {
		return nil, nil, err
	}
	last := 0
	for _, x := range v.sent() {
		last = max(last, slices.Max(roundNumbers(x.rounds())))
	}
	of = map[cellKey]*collect.Round{}
	there := map[cellKey]bool{}
	for _, r := range all {
		mayGo := r.Number() > last && r.Finished() && r.Discarded.IsZero() && !r.Baseline
		if !mayGo && r.ID != newest[0].ID {
			continue
		}
		for _, cell := range r.Coverage {
			k := cellKey{cell.System, cell.Item}
			if of[k] == nil || isThere(cell) || !there[k] && !cell.NotChosen() {
				of[k], there[k] = r, isThere(cell)
			}
		}
	}
	for _, r := range all {
		gives := r.ID == newest[0].ID
		for _, x := range of {
			gives = gives || x == r
		}
		if gives {
			out = append(out, r)
		}
	}
	return out, of, nil
}

// cellKey names a cell of the coverage: system and item.
type cellKey = [2]string

// chooseOfCase decides which rounds are packed.
func (p *packing) chooseOfCase() (err error) {
	if p.view, err = p.app.ShowCase(p.c); err != nil {
		return err
	}
	if len(p.q.Rounds) > 0 {
		p.rounds, err = chooseRounds(p.c, p.q.Rounds)
		return err
	}
	if p.rounds, p.of, err = p.unsentRounds(p.view); err == nil && len(p.rounds) == 1 && p.view.routesOf(p.rounds[0].ID) != "" {
		p.app.note("every round was sent already; this archive has round %s again", p.rounds[0].ID)
	}
	if err == nil && len(p.rounds) > 1 {
		p.app.note("rounds %s are packed together, each item from the newest round that has it; --round chooses",
			strings.Join(strings.Split(roundIDs(p.rounds), ","), " and "))
	}
	return err
}

// loadRounds lists the evidence of the chosen rounds.
func (p *packing) loadRounds() (err error) {
	p.round = p.rounds[len(p.rounds)-1]
	if p.q.NewSince != "" {
		if err := p.chooseSince(); err != nil {
			return err
		}
	}
	had, err := p.before()
	if err != nil {
		return err
	}
	if err := p.loadSent(); err != nil {
		return fault.Wrap("read what was sent", p.c.Name, err)
	}
	if p.arrivedThere, err = arrivedEvidence(p.c, p.view, func(*submit.Receipt) bool { return true }); err != nil {
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

// chooseSince takes the round of which the vendor is said to have the archive. Whether he has it, the ledger decides.
func (p *packing) chooseSince() (err error) {
	if p.since, err = chooseRound(p.c, p.q.NewSince, "--new-since"); err != nil {
		return err
	}
	if p.since.Number() >= p.rounds[0].Number() {
		return fault.New(fault.Usage, "--new-since", p.since.ID, "it is not older than what is packed ("+roundIDs(p.rounds)+")",
			"name the round of which the vendor has the archive")
	}
	var sent []string
	for _, x := range p.view.sent() {
		if slices.Contains(x.rounds(), p.since.ID) {
			return nil
		}
		sent = append(sent, x.rounds()...)
	}
	hint := "no round of this case was sent; pack without --new-since"
	if len(sent) > 0 {
		hint = "sent were: " + strings.Join(sent, ", ")
	}
	return fault.New(fault.Usage, "--new-since", p.since.ID, "no archive of this round was sent, so the vendor does not have it", hint)
}

// before gives what the vendor has already, file by file, by the archives that were sent.
func (p *packing) before() (map[place]had, error) {
	if p.since == nil {
		return nil, nil
	}
	files, unknown, err := vendorHas(p.c, p.view, p.since.Number())
	if len(unknown) > 0 {
		p.app.note("which files %s holds is not known (packed by an older version): they go along again", strings.Join(unknown, ", "))
	}
	return files, fault.Wrap("read what was sent", p.c.Name, err)
}

// loadSent finds the rounds of which the vendor has archives, and what these hold: what he has already the case does not lack.
func (p *packing) loadSent() error {
	all, err := collect.Rounds(p.c)
	if err != nil {
		return err
	}
	p.sent, p.heldOf = nil, map[string]map[cellKey]int{}
	for _, x := range p.view.sent() {
		_, err := eachHeld(p.c, x.SHA256, func(h held) {
			if p.heldOf[h.Round] == nil {
				p.heldOf[h.Round] = map[cellKey]int{}
			}
			p.heldOf[h.Round][cellKey{h.System, h.Item}]++
		})
		if err != nil {
			return err
		}
	}
	for _, r := range all {
		packed := slices.ContainsFunc(p.rounds, func(o *collect.Round) bool { return o.ID == r.ID })
		same := p.since != nil && r.ID == p.since.ID || !r.Baseline && sameSpans(r.Window, p.round.Window)
		if p.heldOf[r.ID] != nil && !packed && same && r.Number() < p.round.Number() {
			p.sent = append(p.sent, r)
		}
	}
	return nil
}

func sameSpans(a, b []window.Span) bool {
	return slices.EqualFunc(a, b, func(a, b window.Span) bool { return a.From.Equal(b.From) && a.To.Equal(b.To) })
}

// goneHere reports whether tidy removed evidence that the vendor has.
func (p *packing) goneHere(r *collect.Round, e *collect.Entry) bool {
	if r.Thinned.IsZero() || !p.arrivedThere[placeOf(e.System, e.Name, e.SHA256)] {
		return false
	}
	_, err := os.Lstat(filepath.Join(r.RawDir(), e.System, filepath.FromSlash(e.Name)))
	return errors.Is(err, fs.ErrNotExist)
}

func (p *packing) loadRound(r *collect.Round, newest map[string]*piece, before map[place]had) error {
	taken := map[string]*piece{}
	w := r.InZone().Grow(r.Context)
	p.within[r] = func(t time.Time) bool { return w.Overlaps(t, t) }
	return r.Entries(func(e collect.Entry) error {
		if p.of != nil && p.of[cellKey{e.System, e.Item}] != r {
			return nil // a newer round has this item on this system
		}
		left := func(state collect.State, reason string) {
			p.left = append(p.left, archive.LeftOut{System: e.System, Item: e.Item, Source: e.Source, State: state, Reason: reason,
				Size: e.Size, Round: p.roundOf(r)})
		}
		at := e.System + "/" + e.Name
		later := newest[at]
		switch {
		case e.Name == "":
			left(e.State, e.Reason)
		case taken[at] != nil:
			left(e.State, "the same bytes as of item "+taken[at].entry.Item+": one file, see "+e.Name)
			p.also = append(p.also, alsoHeld{(&piece{entry: e, round: r}).held(), taken[at]})
		case p.goneHere(r, &e):
			left(collect.Skipped, "it was sent before, and tidy removed it here since")
			p.same[cellKey{e.System, e.Item}]++
		case e.SHA256 != "" && before[placeOf(e.System, e.Name, "")].sum == e.SHA256:
			left(collect.Skipped, "unchanged since round "+p.since.ID+", of which the vendor has the archive")
			p.same[cellKey{e.System, e.Item}]++
			p.behind = append(p.behind, &piece{entry: e, round: r, behind: true, asIs: p.asIs(e)})
		case later != nil && later.entry.SHA256 == e.SHA256:
			left(collect.Skipped, "the same bytes as of round "+later.round.ID)
			p.also = append(p.also, alsoHeld{(&piece{entry: e, round: r}).held(), later})
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
	if len(p.rounds) == 1 && len(p.sent) == 0 {
		return p.round.Coverage
	}
	var out collect.Coverage
	at := map[cellKey]int{}
	for i, r := range slices.Concat(p.sent, p.rounds) {
		for _, cell := range r.Coverage {
			if i < len(p.sent) {
				cell = p.asSent(r, cell)
			}
			out = newer(out, at, cell)
		}
	}
	p.count(out, at)
	return out
}

// asSent gives a cell of the round that the vendor has as it is in the archives that were sent.
func (p *packing) asSent(r *collect.Round, cell collect.Cell) collect.Cell {
	n := p.heldOf[r.ID][cellKey{cell.System, cell.Item}]
	if !isThere(cell) {
		return cell
	}
	if n >= cell.Files {
		cell.Code, cell.Reason = codeSent, "in the archive of round "+r.ID+", which was sent"
		return cell
	}
	cell.State, cell.Code = collect.Refused, codeNotSent
	cell.Reason = how(cell.Reason, fmt.Sprintf("%d of %d files stayed out of the archive of round %s", cell.Files-n, cell.Files, r.ID))
	return cell
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
		case n > 0 && p.since == nil:
			c.Reason = how(c.Reason, fmt.Sprintf("%d sent before", n))
		case n > 0:
			c.Reason = how(c.Reason, fmt.Sprintf("%d unchanged since round %s", n, p.since.ID))
		}
	}
}

// clocks and reached of all rounds together: the newest word on each counts.
func (p *packing) clocks() []collect.Clock {
	return newestOf(p.rounds, func(r *collect.Round) []collect.Clock { return r.Clocks }, func(c collect.Clock) string { return c.System })
}

func (p *packing) reached() []collect.Place {
	return newestOf(p.rounds, func(r *collect.Round) []collect.Place { return r.Reached }, func(c collect.Place) string { return c.System })
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
