package flow

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"envask/internal/fault"
	"envask/internal/round"
	"envask/internal/submit"
	"envask/internal/window"
)

// selection is which rounds an archive is of, and what the vendor has of the case already.
type selection struct {
	*job
	rounds []*round.Round
	round  *round.Round // the newest of them
	since  *round.Round // of which the vendor has the archive; nil is none
	view   *CaseView
	of     map[cellKey]*round.Round   // of which round each item is; nil where the engineer chose the rounds
	sent   []*round.Round             // of which the vendor has archives, and which are not packed again
	inSent map[string]map[cellKey]int // how many files of each item of a round the sent archives hold
	there  map[place]bool             // all that they hold
	had    map[place]had              // the newest form of each file that they hold, up to since
	same   map[cellKey]int            // files that are there already, and stay out of this archive
}

// unsentRounds gives the rounds that are packed when nobody chooses: all since the last archive that was sent, and the newest in any
// case. Each item on each system is of the newest round that has it; of gives that round.
func (s *selection) unsentRounds(v *CaseView) (out []*round.Round, of map[cellKey]*round.Round, err error) {
	newest, err := chooseRounds(s.c, []string{""})
	if err != nil {
		return nil, nil, err
	}
	all, err := round.List(s.c)
	if err != nil {
		return nil, nil, err
	}
	last := 0
	for _, x := range v.sent() {
		last = max(last, slices.Max(roundNumbers(x.rounds())))
	}
	of = map[cellKey]*round.Round{}
	there := map[cellKey]bool{}
	for _, r := range all {
		mayGo := r.Number() > last && r.Finished() && r.Discarded.IsZero() && !r.Baseline
		if !mayGo && r.ID != newest[0].ID {
			continue
		}
		for _, cell := range r.Coverage {
			k := cellKey{cell.System, cell.Item}
			if of[k] == nil || provided(cell) || !there[k] && !cell.NotChosen() {
				of[k], there[k] = r, provided(cell)
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

// choose decides which rounds are packed, and finds out what the vendor has already.
func (s *selection) choose() (err error) {
	s.same = map[cellKey]int{}
	if s.view, err = s.app.ShowCase(s.c); err != nil {
		return err
	}
	if len(s.q.Rounds) > 0 {
		s.rounds, err = chooseRounds(s.c, s.q.Rounds)
	} else {
		err = s.chooseUnsent()
	}
	if err != nil {
		return err
	}
	s.round = s.rounds[len(s.rounds)-1]
	if s.q.NewSince != "" {
		if err := s.chooseSince(); err != nil {
			return err
		}
	}
	return fault.Wrap("read what was sent", s.c.Name, errors.Join(s.loadHad(), s.loadSent(), s.loadThere()))
}

func (s *selection) chooseUnsent() (err error) {
	if s.rounds, s.of, err = s.unsentRounds(s.view); err != nil {
		return err
	}
	if len(s.rounds) == 1 && s.view.routesOf(s.rounds[0].ID) != "" {
		s.app.note("every round was sent already; this archive has round %s again", s.rounds[0].ID)
	}
	if len(s.rounds) > 1 {
		s.app.note("rounds %s are packed together, each item from the newest round that has it; --round chooses",
			strings.Join(strings.Split(roundIDs(s.rounds), ","), " and "))
	}
	return nil
}

// wants reports whether what a round has goes: where nobody chose the rounds, each item is of the newest one that has it.
func (s *selection) wants(r *round.Round, e *round.Entry) bool {
	return s.of == nil || s.of[cellKey{e.System, e.Item}] == r
}

// byNumber gives a round of the selection.
func (s *selection) byNumber(n int) *round.Round {
	return s.rounds[slices.IndexFunc(s.rounds, func(r *round.Round) bool { return r.Number() == n })]
}

// chooseSince takes the round of which the vendor is said to have the archive. Whether he has it, the ledger decides.
func (s *selection) chooseSince() (err error) {
	if s.since, err = chooseRound(s.c, s.q.NewSince, "--new-since"); err != nil {
		return err
	}
	if s.since.Number() >= s.rounds[0].Number() {
		return fault.New(fault.Usage, "--new-since", s.since.ID, "it is not older than what is packed ("+roundIDs(s.rounds)+")",
			"name the round of which the vendor has the archive")
	}
	var sent []string
	for _, x := range s.view.sent() {
		if slices.Contains(x.rounds(), s.since.ID) {
			return nil
		}
		sent = append(sent, x.rounds()...)
	}
	hint := "no round of this case was sent; pack without --new-since"
	if len(sent) > 0 {
		hint = "sent were: " + strings.Join(sent, ", ")
	}
	return fault.New(fault.Usage, "--new-since", s.since.ID, "no archive of this round was sent, so the vendor does not have it", hint)
}

// loadHad finds out what the vendor has up to the round that was named, file by file, by the archives that were sent.
func (s *selection) loadHad() error {
	if s.since == nil {
		return nil
	}
	files, unknown, err := vendorHas(s.c, s.view, s.since.Number())
	if len(unknown) > 0 {
		s.app.note("which files %s holds is not known (packed by an older version): they go along again", strings.Join(unknown, ", "))
	}
	s.had = files
	return err
}

// vendorHas reports whether the vendor has the same bytes of a file.
func (s *selection) vendorHas(e *round.Entry) bool {
	was, ok := s.had[placeOf(e.System, e.Name, "")]
	return ok && e.SHA256 != "" && was.sum == placeOf("", "", e.SHA256)
}

// loadThere finds out what the vendor has at all; it is asked only of rounds of which tidy removed something.
func (s *selection) loadThere() (err error) {
	if slices.ContainsFunc(s.rounds, func(r *round.Round) bool { return !r.Thinned.IsZero() }) {
		s.there, err = arrivedEvidence(s.c, s.view, func(*submit.Receipt) bool { return true })
	}
	return err
}

// loadSent finds the rounds of which the vendor has archives, and what these hold: what he has already the case does not lack.
func (s *selection) loadSent() error {
	all, err := round.List(s.c)
	if err != nil {
		return err
	}
	s.sent, s.inSent = nil, map[string]map[cellKey]int{}
	for _, x := range s.view.sent() {
		_, err := eachHeld(s.c, x.SHA256, func(h held) {
			if s.inSent[h.Round] == nil {
				s.inSent[h.Round] = map[cellKey]int{}
			}
			s.inSent[h.Round][cellKey{h.System, h.Item}]++
		})
		if err != nil {
			return err
		}
	}
	for _, r := range all {
		packed := slices.ContainsFunc(s.rounds, func(o *round.Round) bool { return o.ID == r.ID })
		same := s.since != nil && r.ID == s.since.ID || !r.Baseline && sameSpans(r.Window, s.round.Window)
		if s.inSent[r.ID] != nil && !packed && same && r.Number() < s.round.Number() {
			s.sent = append(s.sent, r)
		}
	}
	return nil
}

func sameSpans(a, b []window.Span) bool {
	return slices.EqualFunc(a, b, func(a, b window.Span) bool { return a.From.Equal(b.From) && a.To.Equal(b.To) })
}

// goneHere reports whether tidy removed evidence that the vendor has.
func (s *selection) goneHere(r *round.Round, e *round.Entry) bool {
	if r.Thinned.IsZero() || !s.there[placeOf(e.System, e.Name, e.SHA256)] {
		return false
	}
	_, err := os.Lstat(filepath.Join(r.RawDir(), e.System, filepath.FromSlash(e.Name)))
	return errors.Is(err, fs.ErrNotExist)
}

// roundOf names a round where the archive holds several.
func (s *selection) roundOf(id string) string {
	if len(s.rounds) == 1 {
		return ""
	}
	return id
}

func roundIDs(rounds []*round.Round) string {
	var ids []string
	for _, r := range rounds {
		ids = append(ids, r.ID)
	}
	return strings.Join(ids, ",")
}

// inName is how the archive's name tells its rounds.
func (s *selection) inName() string {
	name := strings.ReplaceAll(roundIDs(s.rounds), ",", "-")
	if s.since != nil {
		name += "-since-" + s.since.ID
	}
	return name
}
