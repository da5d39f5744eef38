package cli

import (
	"context"

	"github.com/spf13/cobra"

	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/flow"
)

func newRun(s *session) *cobra.Command {
	var o flow.OpenRequest
	var x choice
	var q flow.SubmitRequest
	var send bool
	var opaque, domains []string
	c := &cobra.Command{
		Use:   "run [NUMBER]",
		Short: "Open, collect and pack in one go (and submit, with --submit)",
		Long:  "Do the whole job: open the case (or take the one that is open), collect, pack, and with --submit send it.",
		Example: `  envask run 26031407 --ask gateway.yaml --systems pier.yaml --last 2h
  envask run --submit --route desk`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			req, err := x.request()
			if err != nil {
				return err
			}
			q.Accept = req.Accept
			a, err := s.app()
			if err != nil {
				return err
			}
			c, err := s.runOpen(a, o, args)
			if err != nil {
				return err
			}
			return s.runAll(cmd.Context(), a, c, req, flow.PackRequest{Opaque: opaque, Domains: domains}, q, send)
		},
	}
	f := c.Flags()
	f.StringVar(&o.Ask, "ask", "", "ask file: what the vendor wants")
	f.StringVar(&o.Systems, "systems", "", "systems file: where it is")
	f.StringVar(&o.Title, "title", "", "what broke, in a few words")
	f.BoolVar(&o.WorkingName, "working-name", false, "NUMBER is a working name; there is no number yet")
	f.BoolVar(&send, "submit", false, "send the archive when it is packed")
	f.StringSliceVar(&opaque, "opaque", nil, "items whose unreadable files (dumps, images) may go unread")
	f.StringSliceVar(&domains, "domain", nil, "host names under these domains are removed too")
	addWindow(c, &o.Window, &o.Zone)
	addChoice(c, &x)
	addSubmit(c, &q)
	return c
}

func (s *session) runOpen(a *flow.App, o flow.OpenRequest, args []string) (*casefile.Case, error) {
	given := o.Ask != "" || o.Systems != "" || o.Title != "" || o.Window.Any()
	name := s.common.caseName
	if len(args) == 1 {
		name = args[0]
	}
	if !given && (len(args) == 0 || a.Home.Exists(name)) {
		return a.Case(name)
	}
	if len(args) == 0 {
		c, err := a.Case(name)
		if err != nil {
			return nil, err
		}
		name, o.WorkingName = c.Name, c.Number == ""
	}
	o.Name = name
	opened, err := a.Open(o)
	if err != nil {
		return nil, err
	}
	if s.common.json {
		return opened.Case, nil
	}
	return opened.Case, s.drawOpened(a, opened)
}

// runAll goes on after a collection that lacks something: what is there is packed all the same, and the exit code says
// what is missing.
func (s *session) runAll(ctx context.Context, a *flow.App, c *casefile.Case, req flow.CollectRequest, pack flow.PackRequest,
	q flow.SubmitRequest, send bool) error {
	_, lack := s.collect(ctx, a, c, req, false)
	if lack != nil && fault.ClassOf(lack) != fault.Incomplete {
		return lack
	}
	packed, err := s.pack(ctx, a, c, pack)
	if err != nil {
		return err
	}
	if len(packed.Lacking) == 0 { // what this round lacks an earlier one has
		lack = nil
	}
	if send {
		if err := s.submit(ctx, a, c, q); err != nil {
			return err
		}
	}
	return lack
}
