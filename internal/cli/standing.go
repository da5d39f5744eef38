package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"envask/internal/casefile"
	"envask/internal/cli/term"
)

// standing says where the current case stands and what comes next: what envask does without a command.
func (s *session) standing(c *cobra.Command) error {
	a, err := s.app()
	if err != nil {
		return err
	}
	current, err := a.Case(s.common.caseName)
	if errors.Is(err, casefile.ErrNoCase) && s.common.caseName == "" {
		if s.common.json {
			return s.writeJSON(map[string]any{"case": nil, "next": firstSteps})
		}
		s.screen.Print("no case yet. The whole job on a simulated site, or your own first case:")
		for _, step := range firstSteps {
			s.screen.Print("  envask %s", step)
		}
		s.screen.Print("envask --help lists all commands")
		return nil
	}
	if err != nil {
		return err
	}
	st, err := a.Standing(current)
	if err != nil {
		return err
	}
	if s.common.json {
		return s.writeJSON(st)
	}
	for _, line := range st.Lines {
		s.screen.Print("%s", term.Clean(line))
	}
	s.next(st.Next...)
	return nil
}

// firstSteps lead from nothing to an archive of one's own machine.
var firstSteps = []string{
	"demo",
	"ask new my-ask.yaml --for linux,journal --route here=/tmp/handover",
	"site new my-systems.yaml",
	"open 1001 --ask my-ask.yaml --systems my-systems.yaml --last 2h",
}
