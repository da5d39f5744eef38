package cli

import (
	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/reach"
)

func newTidy(s *session) *cobra.Command {
	var accept []string
	c := &cobra.Command{
		Use:   "tidy",
		Short: "Remove what is left of ours on the systems",
		Long: `Remove from the systems what Envask or a command run for it made there and could not remove at once: after a crash, a lost
connection, or a file that could not be taken. Only what the case's ledger says is ours is touched, and folders only when
our marker is in them.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			keys, err := reach.ParseAccept(accept)
			if err != nil {
				return err
			}
			a, k, err := s.appAndCase()
			if err != nil {
				return err
			}
			left, err := a.LeftThere(k)
			if err != nil {
				return err
			}
			if len(left) > 0 {
				if err := s.mayTidy(left); err != nil {
					return err
				}
				left, err = a.Tidy(cmd.Context(), k, keys)
			}
			if s.common.json {
				if left == nil {
					left = []flow.Left{}
				}
				if e := s.writeJSON(left); e != nil {
					return e
				}
				return err
			}
			s.drawTidied(left)
			return err
		},
	}
	addAccept(c, &accept)
	return c
}

// mayTidy shows what would be removed and asks.
func (s *session) mayTidy(left []flow.Left) error {
	if s.common.yes {
		return nil
	}
	for _, l := range left {
		s.screen.Say("%s %s on %s, of %s", l.Kind, term.Clean(l.Path), term.Clean(l.Where), shortTime(l.At))
	}
	if !s.screen.Ask {
		return fault.New(fault.Usage, "tidy", "", "nobody can be asked whether this is to be removed", "give --yes")
	}
	yes, err := s.screen.Confirm("Remove it?")
	if err == nil && !yes {
		err = fault.New(fault.Usage, "tidy", "", "nothing was removed", "")
	}
	return err
}

func (s *session) drawTidied(left []flow.Left) {
	if len(left) == 0 {
		s.screen.Print("nothing of ours is left on any system")
		return
	}
	for _, l := range left {
		if l.Removed {
			s.screen.Print("%s %s on %s", s.screen.Paint(term.Good, "removed:"), term.Clean(l.Path), l.Where)
		} else {
			s.screen.Print("%s %s on %s: %s", s.screen.Paint(term.Bad, "still there:"), term.Clean(l.Path), l.Where, term.Clean(l.Why))
		}
	}
}
