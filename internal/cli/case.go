package cli

import (
	"context"
	"fmt"
	"os"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
)

func newCase(s *session) *cobra.Command {
	c := &cobra.Command{Use: "case", Short: "Move a whole case to a colleague's machine"}
	c.AddCommand(newCaseExport(s), newCaseImport(s))
	return c
}

func newCaseExport(s *session) *cobra.Command {
	var q flow.ExportRequest
	var open bool
	c := &cobra.Command{
		Use:   "export FILE",
		Short: "Write the case into one encrypted file",
		Long: `Write the whole case into one file: evidence as taken, archives, receipts, aliases, write-up, ledger. It holds secrets, so
it is encrypted for the public keys that you give (age1… or ssh-ed25519 …). With --without-raw the evidence as taken stays here.`,
		Example: `  envask case export 26031407.case --encrypt-to "$(cat ines.pub)"
  envask case import 26031407.case --key ~/.ssh/id_ed25519`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(q.EncryptTo) == 0 && !open {
				return usage(cmd, fault.New(fault.Usage, "", "case export",
					"a case holds secrets: say for whom it is encrypted, with --encrypt-to KEY",
					""))
			}
			if len(q.EncryptTo) > 0 && open {
				return usage(cmd, fault.New(fault.Usage, "", "--unencrypted", "does not go with --encrypt-to", ""))
			}
			q.File = args[0]
			return s.exportCase(cmd.Context(), q)
		},
	}
	f := c.Flags()
	f.StringArrayVar(&q.EncryptTo, "encrypt-to", nil, "public key for whose owner it is encrypted (several times)")
	f.BoolVar(&open, "unencrypted", false, "do not encrypt it: whoever gets the file reads all of the case")
	f.BoolVar(&q.NoRaw, "without-raw", false, "leave out the evidence as taken")
	return c
}

func (s *session) exportCase(ctx context.Context, q flow.ExportRequest) error {
	a, c, err := s.appAndCase()
	if err != nil {
		return err
	}
	board := s.moving(a, "export")
	out, err := a.Export(ctx, c, q)
	board.Close()
	if err != nil {
		return err
	}
	if s.common.json {
		return s.writeJSON(out)
	}
	raw := ""
	if !out.Raw {
		raw = ", without the evidence as taken"
	}
	s.screen.Print("exported: %s", term.Clean(out.File))
	s.screen.Print("  size      %s, %d files of %s%s", humanize.IBytes(uint64(out.Size)), out.Files,
		humanize.IBytes(uint64(out.Bytes)), raw)
	s.screen.Print("  SHA-256   %s", out.SHA256)
	return nil
}

// moving shows how far a case is written or read.
func (s *session) moving(a *flow.App, what string) *term.Board {
	board := s.screen.NewBoard()
	old := a.Report
	a.Report = func(e any) {
		if p, ok := e.(flow.MoveProgress); ok {
			board.Set(what, "%s: %s", bytesText(p.Done), term.Clean(p.Name))
			return
		}
		old(e)
	}
	return board
}

func newCaseImport(s *session) *cobra.Command {
	var key string
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "Take in a case that was exported elsewhere",
		Long: `Take in a case that a colleague exported. Nothing of it counts before all of it is here, its digest fits, and the chain of
its ledger holds; from then on the ledger is continued by you. An ask has to be approved here, too.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			q := flow.ImportRequest{File: args[0]}
			if key != "" {
				data, err := os.ReadFile(key)
				if err != nil {
					return &fault.Error{Class: fault.Usage, Op: "read the key", Err: err}
				}
				q.Key = data
			}
			a, err := s.app()
			if err != nil {
				return err
			}
			board := s.moving(a, "import")
			got, err := a.Import(cmd.Context(), q)
			board.Close()
			if err != nil {
				return err
			}
			if s.common.json {
				return s.writeJSON(got)
			}
			s.screen.Print("case %s imported, as %s exported it: %d files, %s; %d records, the chain holds", got.Case,
				term.Clean(got.By), got.Files,
				humanize.IBytes(uint64(got.Bytes)), got.Records)
			if !got.Raw {
				s.screen.Print("%s",
					s.screen.Paint(term.Warn, "the evidence as taken did not come along: nothing can be packed from these rounds"))
			}
			s.next("show", fmt.Sprintf("brief --handover --case %s", got.Case))
			return nil
		},
	}
	c.Flags().StringVar(&key, "key", "", "private key that opens it: of age, or of SSH without a passphrase")
	return c
}
