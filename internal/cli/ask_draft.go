package cli

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/draft"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/parts"
	"envask/internal/reach"
	"envask/internal/site"
)

// drafting is what the flags of ask draft say.
type drafting struct {
	askHead
	local   bool
	systems string
	keep    string
	accept  []string
}

func newAskDraft(s *session) *cobra.Command {
	var x drafting
	c := &cobra.Command{
		Use:   "draft [SYSTEM] FILE",
		Short: "Look at one system, reading only, and propose an ask for what is there",
		Long: `Look at one system of the systems file, or with --local at this machine, and propose an ask: which services run, which files
they hold open for writing, logs with their rotated members and dates, configuration, crash reports, and which shipped parts fit. Each
proposal carries its reason as a comment, the best first. What looks like a secret or is huge is left out and named.

Nothing is changed on the system: folders are listed, both ends of logs are read for their dates, and one script is run, which is shown
before. On a terminal you are asked what to keep; otherwise all of it is kept, or what --keep says.`,
		Example: `  envask ask draft --local my-ask.yaml
  envask ask draft gate-1 gate.yaml --systems tallow-pier.yaml`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if x.local != (len(args) == 1) {
				return usage(cmd, fault.New(fault.Usage, "", "ask draft", "wants SYSTEM FILE, or --local FILE", ""))
			}
			return s.draftAsk(cmd.Context(), args, x)
		},
		ValidArgsFunction: s.completeSystemOf(&x.systems),
	}
	f := c.Flags()
	f.BoolVar(&x.local, "local", false, "look at this machine")
	f.StringVar(&x.systems, "systems", "", "systems file (default: that of the current case)")
	f.StringVar(&x.keep, "keep", "", "which proposals to keep, by their numbers, such as 1-4,7 (default: all)")
	x.add(c)
	addAccept(c, &x.accept)
	return c
}

func (s *session) draftAsk(ctx context.Context, args []string, x drafting) error {
	file := args[len(args)-1]
	d, err := x.draft(file)
	if err != nil {
		return err
	}
	if _, err := os.Lstat(file); err == nil { // it is said before anything is looked at
		return fault.New(fault.Usage, "write", file, "there is a file of that name already", "choose another name; nothing is overwritten")
	}
	a, err := s.app()
	if err != nil {
		return err
	}
	q := flow.DraftRequest{Site: localSite(), System: "this"}
	if !x.local {
		q.System = args[0]
		if q.Site, err = s.siteOf(a, x.systems); err != nil {
			return err
		}
	}
	if q.Accept, err = reach.ParseAccept(x.accept); err != nil {
		return err
	}
	s.screen.Say("reading only: folders are listed, both ends of logs are read, and this is run:")
	for _, line := range strings.Split(strings.TrimSpace(draft.Script), "\n") {
		s.screen.Say("  %s", line)
	}
	board := s.screen.NewBoard()
	s.asking = board
	old := a.Report
	a.Report = func(e any) {
		if p, ok := e.(flow.DraftProgress); ok {
			board.Set("draft", "%s: %s", q.System, term.Clean(p.Doing))
			return
		}
		old(e)
	}
	found, err := a.DraftAsk(ctx, q)
	board.Close()
	s.asking = nil
	if err != nil {
		return err
	}
	name := q.System
	if x.local {
		name = "this machine"
	}
	return s.writeDraft(file, d, name, found, x.keep)
}

// writeDraft shows what was found, asks what to keep, and writes the ask.
func (s *session) writeDraft(file string, d parts.Draft, system string, found *draft.Found, keep string) error {
	for _, r := range found.Remarks {
		s.screen.Say("note: %s", term.Clean(r))
	}
	if err := found.Err(); err != nil {
		return fault.New(fault.Failed, "draft", system, err.Error(), "envask ask new FILE writes one to start from by hand")
	}
	if !s.common.json {
		s.drawProposals(found)
	}
	if keep == "" && s.screen.Ask && !s.common.yes {
		answer, err := s.screen.Line("Keep which? Numbers such as 1-4,7; nothing keeps all:")
		if err != nil {
			return err
		}
		keep = answer
	}
	kept, err := pick(keep, len(found.Proposals))
	if err != nil {
		return err
	}
	for _, i := range kept {
		d.Blocks = append(d.Blocks, found.Proposals[i].Block)
	}
	d.Comment = append([]string{"Proposed from what is on " + system + " on " + s.env.Now().Format("2006-01-02 15:04") +
		", the best first. Change it as you like."}, d.Comment...)
	for _, r := range found.Remarks {
		d.Comment = append(d.Comment, "Not known: "+r)
	}
	d.LeftOut = found.LeftOut
	text, err := flow.ComposeAsk(d)
	if err != nil {
		return err
	}
	if s.common.json {
		if err := s.writeInput(file, schemaFile, nil, text); err != nil {
			return err
		}
		return s.writeJSON(map[string]any{"file": file, "proposals": found.Proposals, "left_out": found.LeftOut, "remarks": found.Remarks})
	}
	return s.writeAsk(file, text)
}

func (s *session) drawProposals(found *draft.Found) {
	for i, p := range found.Proposals {
		s.screen.Print("%s %s", s.screen.Paint(term.Good, fmt.Sprintf("%3d", i+1)), term.Clean(p.Title))
		for _, r := range p.Reasons {
			s.screen.Print("%s", s.screen.Indented(6, 8, term.Clean(r)))
		}
	}
	if len(found.LeftOut) > 0 {
		s.screen.Print("left out:")
		for _, l := range found.LeftOut {
			s.screen.Print("%s", s.screen.Indented(4, 6, term.Clean(l)))
		}
	}
}

// pick reads numbers and ranges of them, such as 1-4,7, as positions. No text is all.
func pick(text string, n int) (out []int, err error) {
	if strings.TrimSpace(text) == "" {
		text = fmt.Sprintf("1-%d", n)
	}
	seen := map[int]bool{}
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		from, to, ranged := strings.Cut(part, "-")
		if !ranged {
			to = from
		}
		a, errA := strconv.Atoi(from)
		b, errB := strconv.Atoi(to)
		if errA != nil || errB != nil || a < 1 || b > n || a > b {
			return nil, fault.New(fault.Usage, "", "the proposals to keep",
				fmt.Sprintf("expected numbers from 1 to %d, such as 1-4,7, found %q", n, part), "nothing was written")
		}
		for i := a; i <= b; i++ {
			if !seen[i] {
				seen[i] = true
				out = append(out, i-1)
			}
		}
	}
	return out, nil
}

// localSite is a site of this machine alone.
func localSite() *site.Site {
	return &site.Site{Name: "local", File: "this machine", Systems: []site.System{{Name: "this", Ways: []string{"local"},
		Stall: site.DefaultStall}}}
}

// siteOf loads a systems file, or that of the current case.
func (s *session) siteOf(a *flow.App, file string) (*site.Site, error) {
	if file != "" {
		return flow.LoadSite(file)
	}
	c, err := a.Case(s.common.caseName)
	if err != nil {
		return nil, fault.New(fault.Usage, "", "--systems", "there is no case whose systems file is meant", "name it: --systems FILE")
	}
	_, st, err := flow.CaseFiles(c)
	return st, err
}
