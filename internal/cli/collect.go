package cli

import (
	"context"

	"github.com/spf13/cobra"

	"envask/internal/casefile"
	"envask/internal/flow"
	"envask/internal/round"
)

func newCollect(s *session) *cobra.Command {
	var x choice
	var dry bool
	c := &cobra.Command{
		Use:   "collect",
		Short: "Take what the ask names from the systems",
		Long: `Take what the ask names from the systems of the site, many systems at once. Each collection is a round.
Run the same command again to resume an interrupted round. Finished files are not fetched again; partial files continue where they
stopped. --missing starts a round of what no round of the case has yet.`,
		Example: `  envask collect --dry-run
  envask collect --note "after the restart" --depth deep
  envask collect --system gate-2 --item gate-log
  envask collect --set rejects --within 15m
  envask collect --missing
  envask collect --system gate-1 --leave-open   (join the next network, then:)  envask collect --system gate-2`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			q, err := x.request()
			if err != nil {
				return err
			}
			q.Listen = x.listen
			if q.Ports, err = portsOf(x.ports); err != nil {
				return err
			}
			a, c, err := s.appAndCase()
			if err != nil {
				return err
			}
			_, err = s.collect(cmd.Context(), a, c, q, dry)
			return err
		},
	}
	addChoice(c, &x)
	c.Flags().StringSliceVar(&x.again, "again", nil, "fetch everything of these systems anew")
	c.Flags().BoolVar(&x.missing, "missing", false, "a round of just what the last one did not get")
	c.Flags().BoolVar(&x.baseline, "baseline", false, "keep the round as a baseline: how the site is before a change, for envask compare")
	c.Flags().BoolVar(&x.leaveOpen, "leave-open", false, "leave the round open: a further collect takes other systems into it")
	c.Flags().BoolVar(&s.each, "each", false, "a row for each system, also where many share a reason")
	c.Flags().StringVar(&x.listen, "listen", "", "address of this machine for what devices push while a command runs (arrives:)")
	c.Flags().StringSliceVar(&x.ports, "port", nil, "port for a protocol of --listen, such as tftp=69; others are chosen")
	c.Flags().StringSliceVar(&x.members, "members", nil,
		"also take these members, which a system names and the systems file does not list; all asks for each")
	c.Flags().BoolVar(&dry, "dry-run", false, "say what would be taken, with sizes; take nothing")
	return c
}

// collect runs a collection and draws what came of it.
func (s *session) collect(ctx context.Context, a *flow.App, c *casefile.Case, q flow.CollectRequest, dry bool) (*flow.Collected, error) {
	board := s.newCollectBoard()
	a.Report = board.event
	defer func() { a.Report = s.remark }()
	work := a.Collect
	if dry {
		work = a.DryRun
	}
	got, err := work(ctx, c, q)
	board.close()
	if got == nil {
		return nil, err
	}
	if s.common.json {
		if e := s.writeJSON(collectedJSON(got)); e != nil {
			return got, e
		}
		return got, err
	}
	if dry {
		s.drawDryRun(got)
	} else {
		s.drawCoverage(got.Coverage, s.common.verbose)
		s.drawClocks(got.Clocks, s.common.verbose)
		s.drawReached(got.Round.Reached, s.common.verbose)
		s.drawGroups(got.Round.Groups, s.common.verbose)
		s.drawMembers(got.Round.Members, s.common.verbose)
		toBring, _ := a.ToDos(c) // what they are is a comfort here; show --todo says what is wrong
		s.drawRoundEnd(got, toBring)
	}
	return got, err
}

type collectedDoc struct {
	Case     string          `json:"case"`
	Round    *flow.RoundView `json:"round"`   // null for a dry run
	DryRun   bool            `json:"dry_run"` // nothing was taken; sizes are those on the systems
	Complete bool            `json:"complete"`
	Coverage round.Coverage  `json:"coverage"`
	Entries  []round.Entry   `json:"entries,omitempty"`
	Clocks   []round.Clock   `json:"clocks"`
	Price    *flow.Price     `json:"price,omitempty"` // of a dry run
}

func collectedJSON(got *flow.Collected) collectedDoc {
	d := collectedDoc{Case: got.Case.Name, DryRun: got.Round == nil, Complete: len(got.Coverage.Lacking()) == 0, Coverage: got.Coverage,
		Entries: got.Entries, Clocks: got.Clocks}
	if got.Round == nil {
		d.Price = &got.Price
	}
	if got.Round != nil {
		v := flow.NewRoundView(got.Round)
		d.Round = &v
	}
	return d
}
