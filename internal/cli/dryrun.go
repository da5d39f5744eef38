package cli

import (
	"fmt"
	"sort"
	"strings"
	"time"

	"envask/internal/cli/term"
	"envask/internal/flow"
	"envask/internal/round"
)

// drawDryRun draws what a collection would take, and what its window costs.
func (s *session) drawDryRun(got *flow.Collected) {
	var rows [][]string
	total, files := int64(0), 0
	left := map[[2]string]int{}
	for _, e := range got.Entries {
		if e.State == round.Empty {
			left[[2]string{e.System, e.Item}]++
			if !s.common.verbose {
				continue
			}
		}
		size := ""
		if strings.HasPrefix(e.Name, "files/") {
			n := e.Size
			if e.Price != nil {
				n = e.Price.Bytes
			}
			size = bytesText(n)
			switch {
			case e.Price != nil && e.Price.Packed:
				size += " unpacked"
			case n != e.Size:
				size += " of " + bytesText(e.Size)
			}
			if e.Price != nil && !e.Price.Exact {
				size = "about " + size
			}
			total += n
			files++
		}
		rows = append(rows, []string{e.System, e.Item, s.paintEntry(e, wouldBe(e)), size, term.Clean(e.Source), term.Clean(e.Reason)})
	}
	s.screen.Table([]term.Column{{Title: "system"}, {Title: "item"}, {Title: "would be"}, {Title: "size", Right: true},
		{Title: "path or command", Wide: true, Least: 30},
		{Title: "why", Wide: true, Least: 24}}, rows)
	gap := "\n" // before the first of the remarks
	for _, c := range got.Coverage {
		if c.State != round.Taken && c.State != round.Empty && !c.NotChosen() {
			where := c.System
			if where == "" {
				where = "(none)"
			}
			s.screen.Print("%s%s %s: %s: %s", gap, where, c.Item, s.screen.Paint(stateColors[c.State], string(c.State)),
				term.Clean(c.Reason))
			gap = ""
		}
	}
	var keys [][2]string
	for k := range left {
		keys = append(keys, k)
	}
	sort.Slice(keys, func(i, j int) bool { return keys[i][0]+keys[i][1] < keys[j][0]+keys[j][1] })
	for _, k := range keys {
		s.screen.Print("%s%s %s: %d outside the window would be left (--verbose lists them)", gap, k[0], k[1], left[k])
		gap = ""
	}
	s.drawClocks(got.Clocks, s.common.verbose)
	s.screen.Print("")
	s.drawPrice(got.Price, total)
	s.screen.Print("would take %s%s; the output of commands comes besides", sizeText(files, total), aboutTime(got.Price.Took))
}

func aboutTime(d time.Duration) string {
	switch {
	case d <= 0:
		return ""
	case d < time.Second:
		return ", in under a second"
	}
	return ", in about " + d.Round(time.Second).String()
}

// drawPrice tells what the window costs by item: the dearest first, what an hour more adds, and what will be lost soonest.
func (s *session) drawPrice(p flow.Price, total int64) {
	var rows [][]string
	for _, x := range p.Items {
		share, took, more := "", strings.TrimPrefix(aboutTime(x.Took), ", in "), ""
		if total > 0 {
			share = fmt.Sprintf("%d %%", 100*x.Bytes/total)
		}
		if x.HourMore > 0 {
			more = bytesText(x.HourMore)
		}
		rows = append(rows, []string{x.Item, bytesText(x.Bytes), share, took, more})
	}
	if len(rows) > 0 {
		s.screen.Table([]term.Column{{Title: "item"}, {Title: "takes", Right: true}, {Title: "of all", Right: true},
			{Title: "time", Right: true}, {Title: "an hour earlier adds", Right: true}}, rows)
	}
	if l := p.Loses; l != nil {
		s.screen.Print("soonest lost: %s on %s loses its oldest lines (from %s) about %s, when it rotates next",
			term.Clean(l.Set), l.System,
			s.when(l.Oldest), s.when(l.At))
	}
}

func wouldBe(e round.Entry) string {
	if e.Command == nil && strings.HasPrefix(e.Name, "commands/") {
		return "run"
	}
	return string(e.State)
}
