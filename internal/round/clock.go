package round

import (
	"envask/internal/logset"
	"envask/internal/window"
	"fmt"
	"time"
)

// Clock is what was found out about a system's time when it was first reached in a round.
type Clock struct {
	System       string        `json:"system"`
	Zone         string        `json:"zone"`                   // in which its logs are read, where their lines name none
	ZoneFrom     string        `json:"zone_from"`              // where that comes from
	Measured     bool          `json:"measured"`               // whether the offset could be measured
	Offset       time.Duration `json:"-"`                      // of its clock from ours, offset_seconds in JSON; positive when it is ahead
	Uncertainty  time.Duration `json:"-"`                      // uncertainty_seconds in JSON, of the offset, to both sides
	Synchronised string        `json:"synchronised,omitempty"` // "yes", "no", or "" when it does not tell
	How          string        `json:"how"`                    // how it was measured, or why it could not be
	At           time.Time     `json:"at"`

	Location *time.Location `json:"-"` // the zone itself
}

// Widen gives the union of a window as it is and as a clock shows it.
func (c *Clock) Widen(base window.Window) window.Window {
	if !c.Measured {
		return base.Grow(logset.ClockSlack)
	}
	spans := append([]window.Span(nil), base.Spans...)
	if c.Offset.Abs() > c.Uncertainty {
		for _, s := range base.Spans {
			spans = append(spans, window.Span{From: s.From.Add(c.Offset - c.Uncertainty), To: s.To.Add(c.Offset + c.Uncertainty)})
		}
	}
	w, err := window.New(spans, base.Zone)
	if err != nil {
		return base
	}
	return w
}

// String tells a clock in words.
func (c *Clock) String() string {
	switch {
	case !c.Measured:
		return "not measured: " + c.How + "; " + logset.ClockSlack.String() + " more are taken on both sides"
	case c.How == "it is our own":
		return c.How
	}
	d := c.Offset.Abs()
	way := "ahead of ours"
	if c.Offset < 0 {
		way = "behind ours"
	}
	if d <= c.Uncertainty {
		return fmt.Sprintf("as ours (± %s)", c.Uncertainty)
	}
	unit := 100 * time.Millisecond // more digits than were measured say nothing
	if 2*c.Uncertainty > unit {
		unit = time.Second
	}
	if d.Round(unit) == 0 {
		unit = time.Millisecond
	}
	return fmt.Sprintf("%s %s (± %s)", d.Round(unit), way, c.Uncertainty)
}
