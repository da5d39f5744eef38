package cli

import (
	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/collect"
)

func newProbe(s *session) *cobra.Command {
	var systems, roles, accept []string
	var jobs int
	c := &cobra.Command{
		Use:   "probe",
		Short: "Can every system be reached? What do their clocks show?",
		Long: `Log in to every system of the case, and read its clock, its zone and whether it is synchronised. Nothing is taken and
nothing of the ask runs.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			x := choice{systems: systems, roles: roles, accept: accept, jobs: jobs, depth: "standard"}
			q, err := x.request()
			if err != nil {
				return err
			}
			a, k, err := s.appAndCase()
			if err != nil {
				return err
			}
			got, err := a.Probe(cmd.Context(), k, q)
			return s.probed(got, err)
		},
	}
	f := c.Flags()
	f.StringSliceVar(&systems, "system", nil, "only these systems")
	f.StringSliceVar(&roles, "role", nil, "only systems that play one of these roles")
	f.IntVar(&jobs, "jobs", 16, "systems at a time")
	addAccept(c, &accept)
	return c
}

func (s *session) probed(got []collect.Probed, err error) error {
	if got == nil && err != nil {
		return err
	}
	if s.common.json {
		if e := s.writeJSON(got); e != nil {
			return e
		}
		return err
	}
	var rows [][]string
	for _, p := range got {
		if !p.Reached {
			rows = append(rows, []string{p.System, s.screen.Paint(stateColors[p.State], string(p.State)), term.Clean(p.Reason), "", ""})
			continue
		}
		clock, sync, zone := s.clockCells(*p.Clock)
		rows = append(rows, []string{p.System, s.screen.Paint(term.Good, "reached"), clock, sync, zone})
	}
	s.screen.Table([]term.Column{{Title: "system"}, {Title: "state"}, {Title: "clock, or why not", Wide: true, Least: 24}, {Title: "synchronised"}, {Title: "zone of its logs", Wide: true, Least: 20}}, rows)
	return err
}
