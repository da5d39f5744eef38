package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/collect"
	"envask/internal/flow"
	"envask/internal/round"
)

func newProbe(s *session) *cobra.Command {
	x := choice{jobs: 16}
	c := &cobra.Command{
		Use:   "probe",
		Short: "Can every system be reached and read? What do their clocks show?",
		Long: `Log in to every system of the case and read its clock, its zone and whether it is synchronised. If the ask is approved, probe
also checks that each item's files are readable and its commands exist. Nothing is taken, and no command of the ask runs. The exit
code is 3 if a system cannot be reached or a required item would be missing.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			q, err := x.request()
			if err != nil {
				return err
			}
			a, k, err := s.appAndCase()
			if err != nil {
				return err
			}
			got, err := a.Probe(cmd.Context(), k, q)
			if got == nil {
				return err
			}
			if s.common.json {
				if e := s.writeJSON(probedJSON(got)); e != nil {
					return e
				}
				return err
			}
			s.drawProbed(got)
			return err
		},
	}
	f := c.Flags()
	f.StringSliceVar(&x.systems, "system", nil, "only these systems")
	f.StringSliceVar(&x.roles, "role", nil, "only systems that play one of these roles")
	f.StringSliceVar(&x.items, "item", nil, "only these items of the ask")
	f.StringVar(&x.depth, "depth", "standard", "how much is looked at: light, standard or deep")
	f.IntVar(&x.jobs, "jobs", 16, "systems at a time")
	f.StringSliceVar(&x.sets, "set", nil, "only the items of these sets of the ask")
	f.BoolVar(&s.each, "each", false, "a row for each system, also where many share a reason")
	addAccept(c, &x.accept)
	return c
}

type probedDoc struct {
	Systems  []collect.Probed `json:"systems"`
	Items    bool             `json:"items_looked_at"` // false when the ask is not approved
	Coverage round.Coverage   `json:"coverage"`        // what a collection would come to
	Held     []round.Entry    `json:"held"`            // what devices hold already
	Members  []round.Members  `json:"members"`         // what systems said about their fellows
	Price    flow.Price       `json:"price"`
	Free     int64            `json:"free_here"` // bytes; -1 when it is not known
}

func probedJSON(p *flow.Probed) probedDoc {
	return probedDoc{p.Systems, p.Items, p.Coverage, orEmpty(p.Held), orEmpty(p.Members), p.Price, p.Free}
}

// wayPushes is the way of systems that nobody can reach.
const wayPushes = "pushes"

func (s *session) drawProbed(p *flow.Probed) {
	ok, bad := map[string]int{}, map[string]int{}
	for _, c := range p.Coverage {
		switch c.State {
		case round.Taken, round.Cut, round.Empty:
			ok[c.System]++
		case round.Skipped:
		default:
			bad[c.System]++
		}
	}
	var rows [][]string
	var gone round.Coverage
	for _, x := range p.Systems {
		if !x.Reached {
			gone = append(gone, round.Cell{System: x.System, State: x.State, Code: x.Code, Reason: x.Reason})
			continue
		}
		items := "not looked at"
		if p.Items {
			if items = s.screen.Paint(term.Good, number(ok[x.System])+" fine"); ok[x.System]+bad[x.System] == 0 {
				items = "nothing wanted"
			}
			if n := bad[x.System]; n > 0 {
				items += ", " + s.screen.Paint(term.Bad, number(n)+" not")
			}
		}
		clock, sync, zone := s.clockCells(*x.Clock)
		state := s.screen.Paint(term.Good, "reached")
		if x.Way == wayPushes { // nothing was tried
			state, clock = "only sends", "it sends to the inbox: envask inbox"
		}
		rows = append(rows, []string{x.System, state, items, clock, sync, zone})
	}
	for _, r := range s.folded(gone) {
		rows = append(rows, []string{r.system(), s.screen.Paint(stateColors[r.State], string(r.State)), "", r.reason(), "", ""})
	}
	s.screen.Table([]term.Column{{Title: "system"}, {Title: "state"}, {Title: "items"},
		{Title: "clock, or why not", Wide: true, Least: 24}, {Title: "synchronised"},
		{Title: "zone of its logs", Wide: true, Least: 20}}, rows)
	s.drawWays(p)
	s.drawMembers(p.Members, s.common.verbose)
	if !p.Items {
		s.screen.Print("the ask is not approved yet, so its items were not looked at")
		return
	}
	s.screen.Print("")
	for _, c := range p.Coverage {
		fine := c.State == round.Taken || c.State == round.Cut || c.State == round.Empty || c.State == round.Skipped
		if fine && len(c.Unmet) == 0 || !reachedIn(p, c.System) {
			continue
		}
		required := ""
		if c.Required {
			required = " (required)"
		}
		s.screen.Print("%s", s.screen.Indented(0, 4, fmt.Sprintf("%s %s%s: %s: %s", c.System, c.Item, required,
			s.paintState(c), term.Clean(c.Reason))))
	}
	for _, e := range p.Held {
		s.screen.Print("%s", s.screen.Indented(0, 4, fmt.Sprintf("%s %s: %s; %s", e.System, e.Item,
			term.Clean(e.Source), term.Clean(e.Reason))))
	}
	free := ""
	if p.Free >= 0 {
		free = "; free here: " + bytesText(p.Free)
		if p.Price.Bytes > p.Free {
			free = "; " + s.screen.Paint(term.Worst, "free here: only "+bytesText(p.Free))
		}
	}
	s.screen.Print("would take about %s%s", bytesText(p.Price.Bytes), free)
}

// drawWays says what is not as the first way and the account alone would have it.
func (s *session) drawWays(p *flow.Probed) {
	for _, x := range p.Systems {
		if x.After != "" {
			s.screen.Print("%s was reached by %s, since %s", x.System, x.Way, term.Clean(x.After))
		} else if s.common.verbose && x.Reached {
			s.screen.Print("%s is reached by %s: %s", x.System, x.Way, term.Clean(x.Means))
		}
		switch x.Tried {
		case "":
		case "answered":
			if s.common.verbose {
				s.screen.Print("%s answers the command that it is tried with", x.System)
			}
		default:
			s.screen.Print("%s %s the command that it is tried with: %s", x.System, s.screen.Paint(term.Bad, "refuses"),
				term.Clean(x.Tried))
		}
		switch x.Elevate {
		case "":
		case "works":
			if s.common.verbose {
				s.screen.Print("%s elevation: %s", x.System, s.screen.Paint(term.Good, "works"))
			}
		default:
			s.screen.Print("%s elevation: %s", x.System, s.screen.Paint(term.Bad, term.Clean(x.Elevate)))
		}
	}
}

func reachedIn(p *flow.Probed, system string) bool {
	for _, x := range p.Systems {
		if x.System == system {
			return x.Reached
		}
	}
	return system == "" // an item that no system plays a role for
}
