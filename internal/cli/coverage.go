package cli

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"

	"envask/internal/cli/term"
	"envask/internal/flow"
	"envask/internal/round"
)

// stateColors say at a glance what a state means; the word itself says the same.
var stateColors = map[round.State]string{
	round.Taken: term.Good, round.Cut: term.Warn, round.Empty: term.Warn, round.Skipped: term.Faint,
	round.Missing: term.Bad, round.Denied: term.Bad, round.Refused: term.Bad, round.Failed: term.Bad, round.TimedOut: term.Bad,
}

// paintState colours a state. What spoils a required item stands out from what is only missed.
func (s *session) paintState(c round.Cell) string {
	color := stateColors[c.State]
	if c.Lacking() && !c.NotChosen() {
		color = term.Worst
	}
	return s.screen.Paint(color, string(c.State))
}

// paintEntry colours the state of one file. What is no evidence, such as a FIFO, is nothing to worry about.
func (s *session) paintEntry(e round.Entry, word string) string {
	if e.Special {
		return s.screen.Paint(term.Faint, word)
	}
	return s.screen.Paint(stateColors[e.State], word)
}

// wholeTable is up to how many rows the coverage table is drawn whole unasked.
const wholeTable = 60

// drawCoverage draws the table systems × items, a row for each cell; unless each is wanted, what several systems share is one row, and of a
// very long table only the rows that need a look are drawn and the rest is counted.
func (s *session) drawCoverage(cov round.Coverage, all bool) {
	all = all || len(cov) <= wholeTable
	var shown round.Coverage
	hidden, notChosen := 0, 0
	for _, c := range cov {
		switch {
		case c.NotChosen() && !s.common.verbose:
			notChosen++
		case !all && (c.State == round.Taken || c.State == round.Skipped) && !c.Lacking():
			hidden++
		default:
			shown = append(shown, c)
		}
	}
	list := s.folded(shown)
	var rows [][]string
	for i := range list {
		r := &list[i]
		files, size := "", ""
		if r.Files > 0 {
			files, size = humanize.Comma(int64(r.Files)), bytesText(r.Bytes)
		}
		rows = append(rows, []string{r.system(), r.item(), s.paintState(r.Cell), files, size, r.reason()})
	}
	if len(rows) > 0 {
		s.screen.Table([]term.Column{{Title: "system", Once: true}, {Title: "item"}, {Title: "state"}, {Title: "files", Right: true},
			{Title: "size", Right: true},
			{Title: "reason", Wide: true, Least: 24}}, rows)
	}
	if hidden > 0 {
		s.screen.Print("and %s cells that were taken or skipped (--verbose shows them)", number(hidden))
	}
	if notChosen > 0 {
		s.screen.Print("and %s cells that were not chosen, or that an earlier round has", number(notChosen))
	}
	s.screen.Print("%s   * required", stateCounts(cov))
}

func stateCounts(cov round.Coverage) string {
	count := cov.Count()
	var parts []string
	for i := len(round.States) - 1; i >= 0; i-- {
		if n := count[round.States[i]]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, round.States[i]))
		}
	}
	return strings.Join(parts, ", ")
}

// drawRoundEnd says what a round has, what persons still bring, and what comes next.
func (s *session) drawRoundEnd(got *flow.Collected, toBring []flow.ToDo) {
	files, bytes := got.Coverage.Totals()
	if got.Round.Open {
		s.screen.Print("round %s stays open: %s so far", got.Round.ID, sizeText(files, bytes))
		s.next("collect --system NAME --leave-open", "collect")
		return
	}
	took := "under a second"
	if d := got.Round.Ended.Sub(got.Round.Started); d > 0 {
		took = d.String()
	}
	s.screen.Print("round %s: %s in %s", got.Round.ID, sizeText(files, bytes), took)
	open := flow.Open(toBring)
	s.drawStillToBring(open)
	switch lack := got.Coverage.Lacking(); {
	case len(lack) == 0 && len(open) > 0:
		s.next("show --todo", "pack")
	case len(open) > 0:
		s.next("show --todo")
	case len(lack) == 0:
		s.next("pack")
	}
}

// drawReached says by which way systems were reached where that is not the first one; with all, of every system.
func (s *session) drawReached(places []round.Place, all bool) {
	for _, p := range places {
		if p.Remark != "" {
			s.screen.Print("%s %s: %s", s.screen.Paint(term.Warn, "heed:"), p.System, term.Clean(p.Remark))
		}
		switch {
		case p.After != "":
			s.screen.Print("%s was reached by %s (%s), since %s", p.System, p.Way, term.Clean(p.Means), term.Clean(p.After))
		case all:
			noise := ""
			if p.Noisy {
				noise = "; its shell prints when it starts, which is left out"
			}
			s.screen.Print("%s was reached by %s: %s%s", p.System, p.Way, term.Clean(p.Means), noise)
		}
	}
}

// orEmpty gives a list that JSON writes as one also where it is empty.
func orEmpty[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

// drawMembers says what systems told about their fellows: what is amiss, and with all the rest.
func (s *session) drawMembers(list []round.Members, all bool) {
	for _, m := range list {
		text, whole := m.Words()
		switch {
		case !whole:
			line := fmt.Sprintf("%s  %s of %s: %s", s.screen.Paint(term.Warn, "members"), m.ID, m.System, term.Clean(text))
			s.screen.Print("%s", s.screen.Indented(0, 9, line))
		case all:
			s.screen.Print("members  %s of %s: %s, all in the systems file", m.ID, m.System, text)
		}
	}
}

// drawGroups says what became of items that are demanded together.
func (s *session) drawGroups(groups []round.GroupResult, all bool) {
	for _, g := range groups {
		for _, l := range g.Lacking {
			s.screen.Print("%s group %s (%s): %s", s.screen.Paint(term.Bad, "not whole:"), g.Name,
				strings.Join(g.Items, ", "), term.Clean(l))
		}
		if len(g.Whole) > 0 && (all || len(g.Lacking) > 0) {
			s.screen.Print("group %s (%s) is whole on %s", g.Name, strings.Join(g.Items, ", "), strings.Join(g.Whole, ", "))
		}
	}
}
