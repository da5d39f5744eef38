package cli

import (
	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/submit"
)

func newAdd(s *session) *cobra.Command {
	return &cobra.Command{
		Use:   "add RECEIPT...",
		Short: "Take the receipt of an archive that was sent from elsewhere into the case",
		Long: `Take receipts into the case: an archive that was packed here can be carried to another machine and sent from there (envask
submit ARCHIVE --ask FILE). Its receipt, ARCHIVE.receipt-ROUTE.json, is compared with the archives and routes of the case and kept, so
that envask cases and envask show know that it was sent. What it says of a proof counts as its word only, and tidy keeps the evidence,
unless it is signed (envask submit --sign KEY) by a key that stands in the file signers in your home, or envask submit --confirm has
asked the other side.`,
		Example: `  envask add /media/stick/26031407_tallow-pier_r1.receipt-desk.json`,
		Args:    cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			a, c, err := s.appAndCase()
			if err != nil {
				return err
			}
			list := []*submit.Receipt{}
			for _, file := range args {
				rec, added, err := a.AddReceipt(c, file)
				if err != nil {
					return err
				}
				list = append(list, rec)
				if s.common.json {
					continue
				}
				word := s.screen.Paint(term.Good, "added:")
				if !added {
					word = "known already:"
				}
				s.screen.Print("%s %s over %s, %s", word, term.Clean(rec.Name), term.Clean(rec.Route), s.when(rec.Finished))
				if rec.Word != "" && added {
					s.screen.Print("  %s", term.Clean(rec.Word))
				}
			}
			if s.common.json {
				return s.writeJSON(list)
			}
			return nil
		},
	}
}
