package cli

import (
	"time"

	"envask/internal/cli/term"
	"envask/internal/round"
)

// doubtful says whether a clock needs a look.
func doubtful(c round.Clock) bool {
	return !c.Measured || c.Offset.Abs() > c.Uncertainty+time.Second || c.Synchronised == "no"
}

func (s *session) clockCells(c round.Clock) (clock, sync, zone string) {
	clock, sync = term.Clean(c.String()), c.Synchronised
	if doubtful(c) {
		clock = s.screen.Paint(term.Warn, clock)
	}
	if sync == "" {
		sync = "not known"
	}
	return clock, sync, term.Clean(c.Zone + " (" + c.ZoneFrom + ")")
}

// drawClocks draws what was found out about the systems' time. Unless all is wanted, only what needs a look.
func (s *session) drawClocks(clocks []round.Clock, all bool) {
	var rows [][]string
	for _, c := range clocks {
		if !doubtful(c) && !all {
			continue
		}
		clock, sync, zone := s.clockCells(c)
		rows = append(rows, []string{c.System, clock, sync, zone})
	}
	if len(rows) > 0 {
		s.screen.Print("")
		s.screen.Table([]term.Column{{Title: "system"}, {Title: "clock", Wide: true, Least: 24}, {Title: "synchronised"},
			{Title: "zone of its logs", Wide: true, Least: 20}}, rows)
	}
}
