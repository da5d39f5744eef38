package cli

import (
	"time"

	"envask/internal/cli/term"
	"envask/internal/collect"
)

// drawClocks draws what was found out about the systems' time. Unless all is wanted, only what needs a look.
func (s *session) drawClocks(clocks []collect.Clock, all bool) {
	var rows [][]string
	for _, c := range clocks {
		off := !c.Measured || c.Offset.Abs() > c.Uncertainty+time.Second || c.Synchronised == "no"
		if !off && !all {
			continue
		}
		text := term.Clean(c.String())
		if off {
			text = s.screen.Paint(term.Warn, text)
		}
		sync := c.Synchronised
		if sync == "" {
			sync = "not known"
		}
		rows = append(rows, []string{c.System, text, sync, term.Clean(c.Zone + " (" + c.ZoneFrom + ")")})
	}
	if len(rows) > 0 {
		s.screen.Table([]term.Column{{Title: "system"}, {Title: "clock", Wide: true, Least: 24}, {Title: "synchronised"}, {Title: "zone of its logs", Wide: true, Least: 20}}, rows)
	}
}
