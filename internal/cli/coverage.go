package cli

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"

	"envask/internal/cli/term"
	"envask/internal/collect"
	"envask/internal/flow"
)

// stateColors say at a glance what a state means; the word itself says the same.
var stateColors = map[collect.State]string{
	collect.Taken: term.Good, collect.Cut: term.Warn, collect.Empty: term.Warn, collect.Skipped: term.Faint,
	collect.Missing: term.Bad, collect.Denied: term.Bad, collect.Refused: term.Bad, collect.Failed: term.Bad, collect.TimedOut: term.Bad,
}

// paintState colours a state. What spoils a required item stands out from what is only missed.
func (s *session) paintState(c collect.Cell) string {
	color := stateColors[c.State]
	if c.Lacking() && !c.NotChosen() {
		color = term.Worst
	}
	return s.screen.Paint(color, string(c.State))
}

// paintEntry colours the state of one file. What is no evidence, such as a FIFO, is nothing to worry about.
func (s *session) paintEntry(e collect.Entry, word string) string {
	if e.Special {
		return s.screen.Paint(term.Faint, word)
	}
	return s.screen.Paint(stateColors[e.State], word)
}

// wholeTable is up to how many rows the coverage table is drawn whole unasked.
const wholeTable = 60

// drawCoverage draws the table systems × items, a row for each field. Of a very long table only the rows that need a
// look are drawn, and the rest is counted.
func (s *session) drawCoverage(cov collect.Coverage, all bool) {
	all = all || len(cov) <= wholeTable
	var rows [][]string
	hidden, notChosen := 0, 0
	last := "-"
	for _, c := range cov {
		if c.NotChosen() && !s.common.verbose {
			notChosen++
			continue
		}
		if !all && (c.State == collect.Taken || c.State == collect.Skipped) && !c.Lacking() {
			hidden++
			continue
		}
		name := c.System
		if name == "" {
			name = "(none)"
		}
		if name == last {
			name = ""
		} else {
			last = name
		}
		files, size := "", ""
		if c.Files > 0 {
			files, size = humanize.Comma(int64(c.Files)), bytesText(c.Bytes)
		}
		item := c.Item
		if c.Required {
			item += " *"
		}
		rows = append(rows, []string{name, item, s.paintState(c), files, size, term.Clean(c.Reason)})
	}
	if len(rows) > 0 {
		s.screen.Table([]term.Column{{Title: "system"}, {Title: "item"}, {Title: "state"}, {Title: "files", Right: true}, {Title: "size", Right: true},
			{Title: "reason", Wide: true, Least: 24}}, rows)
	}
	if hidden > 0 {
		s.screen.Print("and %d fields that are taken or skipped (--verbose shows them)", hidden)
	}
	if notChosen > 0 {
		s.screen.Print("and %d fields of systems or items that were not chosen", notChosen)
	}
	s.screen.Print("%s   * required", stateCounts(cov))
}

func stateCounts(cov collect.Coverage) string {
	count := cov.Count()
	var parts []string
	for i := len(collect.States) - 1; i >= 0; i-- {
		if n := count[collect.States[i]]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, collect.States[i]))
		}
	}
	return strings.Join(parts, ", ")
}

func (s *session) drawRoundEnd(got *flow.Collected) {
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
	if lack := got.Coverage.Lacking(); len(lack) == 0 {
		s.next("pack")
	}
}

// drawReached says by which way systems were reached where that is not the first one; with all, of every system.
func (s *session) drawReached(places []collect.Place, all bool) {
	for _, p := range places {
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

// drawGroups says what became of items that are demanded together.
func (s *session) drawGroups(groups []collect.GroupResult, all bool) {
	for _, g := range groups {
		for _, l := range g.Lacking {
			s.screen.Print("%s group %s (%s): %s", s.screen.Paint(term.Bad, "not whole:"), g.Name, strings.Join(g.Items, ", "), term.Clean(l))
		}
		if len(g.Whole) > 0 && (all || len(g.Lacking) > 0) {
			s.screen.Print("group %s (%s) is whole on %s", g.Name, strings.Join(g.Items, ", "), strings.Join(g.Whole, ", "))
		}
	}
}
