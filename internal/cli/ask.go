package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"envask/internal/ask"
	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/round"
	"envask/internal/site"
)

func newAsk(s *session) *cobra.Command {
	c := &cobra.Command{Use: "ask", Short: "Write, check and approve asks"}
	c.AddCommand(newAskNew(s), newAskParts(s), newAskDraft(s), newAskCheck(s), newAskApprove(s), newAskSchema(s))
	return c
}

// schemaFile is how the schema of asks is called beside an ask, and editorLine the first line by which editors find it.
const (
	schemaFile = "ask.schema.json"
	editorLine = "# yaml-language-server: $schema=" + schemaFile + "\n"
)

func newAskSchema(s *session) *cobra.Command {
	return &cobra.Command{
		Use:   "schema [ask|systems]",
		Short: "Print the JSON Schema of an input file, for editors",
		Long: `Print the JSON Schema (draft 2020-12) of asks or of systems files. Editors that know it complete keys and mark mistakes while
you type: save it, and name it in the first line of the file:
  # yaml-language-server: $schema=ask.schema.json`,
		Args:      cobra.MatchAll(cobra.MaximumNArgs(1), cobra.OnlyValidArgs),
		ValidArgs: []string{"ask", "systems"},
		RunE: func(_ *cobra.Command, args []string) error {
			text := ask.Schema
			if len(args) == 1 && args[0] == "systems" {
				text = site.Schema
			}
			_, err := s.env.Out.Write(text)
			return err
		},
	}
}

func newAskCheck(s *session) *cobra.Command {
	var q flow.TryRequest
	var depth, extra, systems string
	c := &cobra.Command{
		Use:   "check FILE",
		Short: "Check an ask: every mistake with its line and column",
		Long: `Check an ask. With --against it is also tried on files that are there already: a folder that stands for the top of a
system, a folder or archive that holds systems/NAME/files, or any tar or zip. No system is touched and no command runs.`,
		Example: `  envask ask check gateway.yaml
  envask ask check gateway.yaml --against 26031407_tallow-pier_r1.tar.gz --from "2026-03-14 06:00" --to "2026-03-14 06:30"`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			k, err := flow.LoadAsk(args[0])
			if err != nil {
				return err
			}
			if q.Against == "" {
				if q.Window.Any() {
					return usage(cmd, fault.New(fault.Usage, "", "the window", "goes with --against", ""))
				}
				var st *site.Site
				if systems != "" {
					if st, err = flow.LoadSite(systems); err != nil {
						return err
					}
				}
				return s.checked(k, flow.AskRemarks(k, st))
			}
			q.Ask = k
			if q.Depth, err = ask.ParseDepth(depth); err != nil {
				return &fault.Error{Class: fault.Usage, Op: "--depth", Err: err}
			}
			if q.Context, err = contextTime(extra); err != nil {
				return err
			}
			a, err := s.app()
			if err != nil {
				return err
			}
			return s.tryAsk(cmd.Context(), a, q)
		},
	}
	f := c.Flags()
	f.StringVar(&systems, "systems", "", "systems file: names the items whose roles no system plays")
	f.StringVar(&q.Against, "against", "", "folder or archive to try the ask on")
	f.StringVar(&depth, "depth", "deep", "how much to take: light, standard or deep")
	f.StringVar(&extra, "context", "", contextHelp)
	addWindow(c, &q.Window, &q.Zone)
	return c
}

func (s *session) checked(k *ask.Ask, remarks []string) error {
	if s.common.json {
		return s.writeJSON(map[string]any{"remarks": append([]string{}, remarks...), "ask": k.Name, "vendor": k.Vendor, "sha256": k.Digest,
			"items": len(k.Items), "routes": len(k.Routes), "good": true})
	}
	s.screen.Print("good: ask %s of %s, %d %s, %d %s", k.Name, term.Clean(k.Vendor), len(k.Items), one(len(k.Items), "item", "items"),
		len(k.Routes), one(len(k.Routes), "route", "routes"))
	for _, r := range remarks {
		s.screen.Print("%s %s", s.screen.Paint(term.Warn, "remark:"), term.Clean(r))
	}
	return nil
}

func (s *session) tryAsk(ctx context.Context, a *flow.App, q flow.TryRequest) error {
	got, err := a.TryAsk(ctx, q)
	if err != nil {
		return err
	}
	if s.common.json {
		return s.writeJSON(struct {
			Ask      string         `json:"ask"`
			Window   string         `json:"window"`
			Coverage round.Coverage `json:"coverage"`
			Entries  []round.Entry  `json:"entries"`
			Price    flow.Price     `json:"price"`
			Unused   []string       `json:"unused_patterns"`
		}{q.Ask.Name, got.Window.String(), got.Coverage, got.Entries, got.Price, got.Unused})
	}
	s.screen.Print("ask %s, tried on %s; window: %s", q.Ask.Name, term.Clean(q.Against), got.Window)
	shown := got.Collected
	if !s.common.verbose { // which system plays which role is not known here: what is not there need not be
		shown.Coverage = slices.DeleteFunc(slices.Clone(shown.Coverage), func(c round.Cell) bool { return c.State == round.Missing })
		shown.Entries = slices.DeleteFunc(slices.Clone(shown.Entries),
			func(e round.Entry) bool { return strings.HasPrefix(e.Name, "commands/") })
	}
	s.drawDryRun(&shown)
	for _, p := range got.Unused {
		s.screen.Print("%s %s", s.screen.Paint(term.Warn, "matches nothing:"), term.Clean(p))
	}
	if got.Skipped > 0 {
		s.screen.Print("%d links or special files in it were not looked at", got.Skipped)
	}
	return nil
}

func newAskApprove(s *session) *cobra.Command {
	var digest string
	c := &cobra.Command{
		Use:   "approve FILE",
		Short: "Show all that an ask would do, and record your yes",
		Long: `Show the approval sheet: every command, path and route of the ask. The yes is bound to the bytes of the file; a changed
ask shows what changed since. In scripts, --digest names the file that is meant.`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			k, err := flow.LoadAsk(args[0])
			if err != nil {
				return err
			}
			a, err := s.app()
			if err != nil {
				return err
			}
			return s.approveAsk(a, k, digest)
		},
	}
	c.Flags().StringVar(&digest, "digest", "", "at least the first 12 digits of the file's SHA-256: approve without a question")
	return c
}

func (s *session) approveAsk(a *flow.App, k *ask.Ask, digest string) error {
	sheet, done, err := a.Sheet(k)
	if err != nil {
		return err
	}
	s.drawSheet(s.env.Out, sheet)
	if done {
		s.screen.Print("approved before, by %s at %s", term.Clean(sheet.Last.By), s.when(sheet.Last.At))
		return nil
	}
	switch {
	case digest != "":
		if err := k.MatchDigest(digest); err != nil {
			return &fault.Error{Class: fault.Refused, Op: "approve", Target: k.File, Err: err}
		}
	case a.Approve == nil:
		return fault.New(fault.Refused, "approve", k.File, "nobody can be asked here",
			"read the sheet above, then give --digest "+k.Digest[:ask.MinDigest])
	default:
		yes, err := s.screen.Confirm("Approve this ask?")
		if err != nil {
			return err
		}
		if !yes {
			return fault.New(fault.Refused, "approve", k.File, "not approved", "")
		}
	}
	if err := a.PutApproval(k); err != nil {
		return err
	}
	s.screen.Print("approved: %s", k.Digest[:ask.MinDigest])
	return nil
}

// drawSheet draws an approval sheet, and what changed since the version approved last.
func (s *session) drawSheet(w io.Writer, sheet flow.Sheet) {
	w = term.SafeWriter(w)
	fmt.Fprintln(w, s.screen.Paint(term.Bold, "This ask would:"))
	for _, l := range sheet.Lines {
		fmt.Fprintln(w, s.screen.Indented(2, 6, term.Clean(l)))
	}
	if heeds := sheet.Ask.Heeds(); len(heeds) > 0 {
		fmt.Fprintln(w, s.screen.Paint(term.Bold, "More than reading:"))
		for _, l := range heeds {
			fmt.Fprintln(w, s.screen.Paint(term.Warn, s.screen.Indented(2, 6, term.Clean(l))))
		}
	}
	fmt.Fprintf(w, "  SHA-256 %s\n", sheet.Ask.Digest)
	if sheet.Last == nil || sheet.Last.Digest == sheet.Ask.Digest {
		return
	}
	fmt.Fprintf(w, "Changed since %s approved it at %s:\n", term.Clean(sheet.Last.By), s.when(sheet.Last.At))
	if len(sheet.Changes) == 0 {
		fmt.Fprintln(w, "  nothing of what it would do")
	}
	for _, c := range sheet.Changes {
		mark, color := "gone", term.Warn
		if c.Added {
			mark, color = "new ", term.Bad
		}
		fmt.Fprintf(w, "  %s  %s\n", s.screen.Paint(color, mark), term.Clean(c.Line))
	}
}

// AskDigest gives the first digits of an ask's SHA-256.
func AskDigest(file string) (string, error) {
	k, err := flow.LoadAsk(file)
	if err != nil {
		return "", err
	}
	return k.Digest[:ask.MinDigest], nil
}
