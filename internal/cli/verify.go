package cli

import (
	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"envask/internal/archive"
	"envask/internal/cli/term"
	"envask/internal/fault"
)

func newVerify(s *session) *cobra.Command {
	return &cobra.Command{
		Use:   "verify ARCHIVE",
		Short: "Check an archive against its manifest and checksums",
		Long:  "Read an archive once and name every difference: files that are missing, extra, changed or cut off.",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := archive.VerifyFile(cmd.Context(), args[0], nil)
			if err != nil {
				return fault.Wrap("verify", "", err)
			}
			if s.common.json {
				err = s.writeJSON(r)
			} else {
				s.drawReport(r)
			}
			if err == nil && !r.Good() {
				err = fault.New(fault.Failed, "verify", args[0], one(len(r.Differences), "there is a difference", "there are differences"),
					"")
			}
			return err
		},
	}
}

func (s *session) drawReport(r *archive.Report) {
	for _, d := range r.Differences {
		name := d.Path
		if name == "" {
			name = "(the archive)"
		}
		s.screen.Print("%s  %s: %s", s.screen.Paint(term.Bad, d.What), term.Clean(name), term.Clean(d.Why))
	}
	if !r.Good() {
		return
	}
	s.screen.Print("%s: %s files, %s; every checksum holds", s.screen.Paint(term.Good, "good"),
		humanize.Comma(int64(r.Files)), bytesText(r.Bytes))
	s.screen.Print("  SHA-256   %s", r.SHA256)
	if r.SignedBy != "" {
		s.screen.Print("  signed by %s", term.Clean(r.SignedBy))
	}
	for _, l := range r.Lacking {
		s.screen.Print("  %s %s", s.screen.Paint(term.Bad, "lacks:"), term.Clean(l))
	}
}
