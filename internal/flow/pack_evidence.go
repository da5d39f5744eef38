package flow

import (
	"cmp"
	"context"
	"strings"
	"time"

	"envask/internal/archive"
	"envask/internal/fault"
	"envask/internal/redact"
	"envask/internal/round"
	"envask/internal/spill"
)

// evidence is what the chosen rounds have for an archive.
type evidence struct {
	*job
	sel    *selection
	rules  *ruleset
	pieces *spill.List[piece]           // by system and name, what earlier rounds had otherwise last
	behind *spill.List[piece]           // what the vendor has already: it does not go along, but what it teaches counts
	left   *spill.List[archive.LeftOut] // with the words of the round
	cells  map[cellKey]*cellSize        // of the pieces
	bytes  int64                        // of the pieces
	links  []round.Entry                // to what lies elsewhere
	said   *redact.Learned              // what names and reasons taught

	behindBytes int64
	system      string // of which all of them are; several has no name
}

// cellSize is how much there is of an item on a system.
type cellSize struct {
	files int
	bytes int64
}

// several stands where an archive names the system that it is of, and there are more than one.
const several = "several"

// candidate is a file of evidence of a round.
type candidate struct {
	Entry round.Entry
	Round int
}

// byPlace sorts by where a file stands; of the same place the newest round comes first.
func byPlace(a, b *candidate) int {
	return cmp.Or(strings.Compare(a.Entry.System, b.Entry.System), strings.Compare(a.Entry.Name, b.Entry.Name),
		cmp.Compare(b.Round, a.Round), strings.Compare(a.Entry.Item, b.Entry.Item), strings.Compare(a.Entry.Source, b.Entry.Source))
}

// load lists the evidence of the chosen rounds. Of each place the newest form goes as it is; what an earlier round had otherwise goes
// beside it, and what is the same goes once.
func (v *evidence) load(ctx context.Context) error {
	v.pieces, v.behind = spill.NewList[piece](v.tmp), spill.NewList[piece](v.tmp)
	v.left, v.cells, v.said = spill.NewList[archive.LeftOut](v.tmp), map[cellKey]*cellSize{}, redact.NewLearned()
	all := spill.NewSorter(ctx, v.tmp, byPlace)
	defer all.Close()
	for _, r := range v.sel.rounds {
		w := r.InZone().Grow(r.Context)
		v.rules.within[r.ID] = func(t time.Time) bool { return w.Overlaps(t, t) }
		err := r.Entries(func(e round.Entry) error {
			switch {
			case !v.sel.wants(r, &e): // a newer round has this item on this system
				return nil
			case e.Brought != nil && e.Brought.Link != "":
				v.links = append(v.links, e)
				return nil
			case e.Brought != nil && e.Brought.Older:
				return v.leave(r, &e, round.Skipped, "an older version: another one counts, and goes")
			case e.Name == "":
				return v.leave(r, &e, e.State, e.Reason)
			}
			return all.Add(candidate{e, r.Number()})
		})
		if err != nil {
			return fault.Wrap("read the round", r.ID, err)
		}
	}
	earlier := spill.NewList[piece](v.tmp)
	defer earlier.Close()
	same := samePlace{v: v, earlier: earlier}
	if err := all.Each(same.next); err != nil {
		return err
	}
	if err := same.end(); err != nil {
		return err
	}
	return earlier.Each(v.pieces.Add)
}

// leave notes what is not in the archive, in the words of the round.
func (v *evidence) leave(r *round.Round, e *round.Entry, state round.State, reason string) error {
	if err := v.learnNames(e.Source, reason); err != nil {
		return err
	}
	return v.left.Add(&archive.LeftOut{System: e.System, Item: e.Item, Source: e.Source, State: state, Reason: reason,
		Size: e.Size, Round: v.sel.roundOf(r.ID)})
}

// samePlace goes through the files of one place after the other.
type samePlace struct {
	v       *evidence
	earlier *spill.List[piece]
	pieces  []*piece // of the place, the newest first
}

func (s *samePlace) next(c *candidate) error {
	e := &c.Entry
	if len(s.pieces) > 0 && (s.pieces[0].Entry.System != e.System || s.pieces[0].Entry.Name != e.Name) {
		if err := s.end(); err != nil {
			return err
		}
	}
	v, r := s.v, s.v.sel.byNumber(c.Round)
	var newest, last *piece
	if len(s.pieces) > 0 {
		newest, last = s.pieces[0], s.pieces[len(s.pieces)-1]
	}
	switch {
	case last != nil && last.Round == r.ID:
		last.Also = append(last.Also, heldOf(r.ID, e))
		return v.leave(r, e, e.State, "the same bytes as of item "+last.Entry.Item+": one file, see "+e.Name)
	case v.sel.goneHere(r, e):
		v.sel.same[cellKey{e.System, e.Item}]++
		return v.leave(r, e, round.Skipped, "it was sent before, and tidy removed it here since")
	case v.sel.vendorHas(e):
		v.sel.same[cellKey{e.System, e.Item}]++
		v.behindBytes += e.Bytes
		if err := v.behind.Add(v.piece(r, e)); err != nil {
			return err
		}
		return v.leave(r, e, round.Skipped, "unchanged since round "+v.sel.since.ID+", of which the vendor has the archive")
	case newest != nil && newest.Entry.SHA256 == e.SHA256:
		newest.Also = append(newest.Also, heldOf(r.ID, e))
		return v.leave(r, e, round.Skipped, "the same bytes as of round "+newest.Round)
	}
	x := v.piece(r, e)
	x.Earlier, x.Out = newest != nil, v.without(x)
	s.pieces = append(s.pieces, x)
	return nil
}

// end hands on what one place has.
func (s *samePlace) end() error {
	for _, x := range s.pieces {
		s.v.count(x)
		if err := s.v.learnNames(x.Entry.Source, x.Entry.Name, x.Entry.Reason); err != nil {
			return err
		}
		list := s.v.pieces
		if x.Earlier {
			list = s.earlier
		}
		if err := list.Add(x); err != nil {
			return err
		}
	}
	s.pieces = s.pieces[:0]
	return nil
}

func (v *evidence) piece(r *round.Round, e *round.Entry) *piece {
	return &piece{Entry: *e, Round: r.ID, Dir: r.RawDir(), AsIs: v.rules.asIs(e.System, e.Source, e.Name)}
}

// count takes a piece into account before anything is known of what is in it.
func (v *evidence) count(x *piece) {
	v.rules.learned.AddCommon(redact.PathWords(x.Entry.Source)...)
	size := v.cells[x.cell()]
	if size == nil {
		size = &cellSize{}
		v.cells[x.cell()] = size
	}
	size.files++
	size.bytes += x.Entry.Bytes
	v.bytes += x.Entry.Bytes
	switch v.system {
	case "":
		v.system = x.Entry.System
	case x.Entry.System:
	default:
		v.system = several
	}
}
