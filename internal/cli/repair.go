package cli

import (
	"github.com/spf13/cobra"

	"envask/internal/cli/term"
)

func newRepair(s *session) *cobra.Command {
	return &cobra.Command{
		Use:   "repair",
		Short: "Go on after the ledger of a case was damaged",
		Long: `Check the ledger of a case and repair it if it was damaged. The damaged file is kept in the case folder. The new
ledger has the records before the damage unchanged, then a record that names the damage: the first record that cannot
be trusted, the reason, and the SHA-256 of the damaged file. Changes on systems that were not undone are carried over
for tidy. Receipts after the damage no longer count; envask add takes them in again from out/.`,
		Example: `  envask repair
  envask repair --case 26031407`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			a, c, err := s.appAndCase()
			if err != nil {
				return err
			}
			r, err := a.Repair(c)
			switch {
			case err != nil:
				return err
			case s.common.json:
				return s.writeJSON(r)
			case r == nil:
				s.screen.Print("the ledger is intact; nothing was changed")
				return nil
			}
			s.screen.Print("the ledger goes on from record %d (%s)", r.From, term.Clean(r.Why))
			s.screen.Field("kept", r.Kept+", SHA-256 "+r.SHA256)
			s.screen.Field("good", number(r.Good)+" "+one(r.Good, "record", "records")+" before the break")
			s.screen.Field("taken on", number(r.Taken)+" "+one(r.Taken, "temporary change", "temporary changes")+" that must be undone")
			s.screen.Field("dropped", number(r.Dropped)+" "+one(r.Dropped, "record", "records")+" behind the break")
			s.next("show")
			return nil
		},
	}
}
