package cli

import (
	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/flow"
)

func newOpen(s *session) *cobra.Command {
	var q flow.OpenRequest
	c := &cobra.Command{
		Use:   "open NUMBER",
		Short: "Start a case, or change it",
		Long:  "Start a case under the vendor's number, or change the one that has it: its files, title or window.",
		Example: `  envask open 26031407 --ask gateway.yaml --systems pier.yaml --around "2026-03-14 06:12" --margin 40m
  envask open gates-down --working-name --ask gateway.yaml --systems pier.yaml --last 2h
  envask open 26031407 --was gates-down`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			q.Name = args[0]
			a, err := s.app()
			if err != nil {
				return err
			}
			o, err := a.Open(q)
			if err != nil {
				return err
			}
			return s.drawOpened(a, o)
		},
	}
	f := c.Flags()
	f.StringVar(&q.Ask, "ask", "", "ask file: what the vendor wants")
	f.StringVar(&q.Systems, "systems", "", "systems file: where it is")
	f.StringVar(&q.Title, "title", "", "what broke, in a few words")
	f.StringArrayVar(&q.Answers, "answer", nil,
		"answer to a question of the ask: ID=TEXT; repeat for several, an empty value deletes the answer")
	f.BoolVar(&q.WorkingName, "working-name", false, "NUMBER is a working name; there is no number yet")
	f.StringVar(&q.Was, "was", "", "working name of the case that gets its number now")
	addWindow(c, &q.Window, &q.Zone)
	f.BoolVar(&q.Anyway, "window-anyway", false, "give a window although the ask says that the vendor wants none")
	return c
}

func (s *session) drawOpened(a *flow.App, o *flow.Opened) error {
	if s.common.json {
		v, err := a.ShowCase(o.Case)
		if err != nil {
			return err
		}
		return s.writeJSON(v)
	}
	how := "changed"
	if o.New {
		how = "opened"
	}
	s.screen.Print("case %s %s", o.Case.Name, how)
	if o.Case.Title != "" {
		s.screen.Print("  title    %s", term.Clean(o.Case.Title))
	}
	s.screen.Print("  vendor   %s", term.Clean(o.Case.Vendor))
	s.screen.Print("  site     %s", o.Case.Site)
	if o.WasWindow != "" {
		s.screen.Print("  window was %s", o.WasWindow)
	}
	s.screen.Print("  window   %s", o.Case.Window)
	s.screen.Print("  folder   %s", term.Clean(o.Case.Dir))
	for _, r := range o.Remarks {
		s.screen.Print("  %s %s", s.screen.Paint(term.Warn, "remark  "), term.Clean(r))
	}
	for _, w := range o.Wants {
		s.screen.Print("  wanted   %s", term.Clean(w+" (envask brief)"))
	}
	if o.Case.Number == "" {
		s.screen.Print("  number   none yet; give it with: envask open NUMBER --was %s", o.Case.Name)
	}
	if o.Approved {
		s.next("collect --dry-run", "collect")
	} else {
		s.next("ask approve " + o.Ask.File)
	}
	return nil
}
