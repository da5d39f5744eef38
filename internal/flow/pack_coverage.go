package flow

import (
	"fmt"
	"slices"

	"envask/internal/round"
)

// coverage gives the coverage of all rounds together: of every field the newest round in which it was taken, or else the newest that
// says why it was not.
func (v *evidence) coverage() round.Coverage {
	s := v.sel
	if len(s.rounds) == 1 && len(s.sent) == 0 {
		return s.round.Coverage
	}
	var out round.Coverage
	at := map[cellKey]int{}
	for i, r := range slices.Concat(s.sent, s.rounds) {
		for _, cell := range r.Coverage {
			if i < len(s.sent) {
				cell = s.asSent(r, cell)
			}
			out = newer(out, at, cell)
		}
	}
	v.fillIn(out)
	return out
}

// asSent gives a cell of the round that the vendor has as it is in the archives that were sent.
func (s *selection) asSent(r *round.Round, cell round.Cell) round.Cell {
	n := s.inSent[r.ID][cellKey{cell.System, cell.Item}]
	if !isThere(cell) {
		return cell
	}
	if n >= cell.Files {
		cell.Code, cell.Reason = codeSent, "in the archive of round "+r.ID+", which was sent"
		return cell
	}
	cell.State, cell.Code = round.Refused, codeNotSent
	cell.Reason = how(cell.Reason, fmt.Sprintf("%d of %d files stayed out of the archive of round %s", cell.Files-n, cell.Files, r.ID))
	return cell
}

func isThere(c round.Cell) bool { return c.State == round.Taken || c.State == round.Cut }

// fillIn gives each field what of it is in this archive.
func (v *evidence) fillIn(table round.Coverage) {
	for i := range table {
		c := &table[i]
		k := cellKey{c.System, c.Item}
		c.Files, c.Bytes = 0, 0
		if size := v.cells[k]; size != nil {
			c.Files, c.Bytes = size.files, size.bytes
		}
		switch n := v.sel.same[k]; {
		case n > 0 && v.sel.since == nil:
			c.Reason = how(c.Reason, fmt.Sprintf("%d sent before", n))
		case n > 0:
			c.Reason = how(c.Reason, fmt.Sprintf("%d unchanged since round %s", n, v.sel.since.ID))
		}
	}
}

// clocks and reached of all rounds together: the newest word on each counts.
func (s *selection) clocks() []round.Clock {
	return newestOf(s.rounds, func(r *round.Round) []round.Clock { return r.Clocks }, func(c round.Clock) string { return c.System })
}

func (s *selection) reached() []round.Place {
	return newestOf(s.rounds, func(r *round.Round) []round.Place { return r.Reached }, func(c round.Place) string { return c.System })
}

// members gives what systems said about their fellows.
func (s *selection) members() []round.Members {
	return newestOf(s.rounds, func(r *round.Round) []round.Members { return r.Members },
		func(m round.Members) string { return m.System + " " + m.ID })
}

// newestOf joins lists of several rounds, of which the newest entry of each name counts.
func newestOf[T any](rounds []*round.Round, list func(*round.Round) []T, name func(T) string) []T {
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
