package cli

import (
	"context"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/flow"
	"envask/internal/reach"
	"envask/internal/submit"
)

func newSubmit(s *session) *cobra.Command {
	var q flow.SubmitRequest
	var accept []string
	c := &cobra.Command{
		Use:   "submit [ARCHIVE]",
		Short: "Send the archive, and keep the receipt",
		Long: `Send the archive (the one packed last, if none is named) over a route of the ask. It arrives under a name that shows
that it is not whole, is compared, and then gets its final name. The receipt says how it is known that it arrived.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				q.Archive = args[0]
			}
			var err error
			if q.Accept, err = reach.ParseAccept(accept); err != nil {
				return err
			}
			a, c, err := s.appAndCase()
			if err != nil {
				return err
			}
			return s.submit(cmd.Context(), a, c, q)
		},
	}
	addSubmit(c, &q)
	addAccept(c, &accept)
	return c
}

func addSubmit(c *cobra.Command, q *flow.SubmitRequest) {
	c.Flags().StringVar(&q.Route, "route", "", "route of the ask (default: the only one)")
	c.Flags().BoolVar(&q.Incomplete, "incomplete", false, "send although something required is missing")
	c.Flags().BoolVar(&q.ReadBack, "read-back", false, "prove the checksum by reading all of it back, where the server computes none")
}

func (s *session) submit(ctx context.Context, a *flow.App, c *casefile.Case, q flow.SubmitRequest) error {
	switch {
	case s.common.yes:
		q.Confirm = func(string) (bool, error) { return true, nil }
	case s.screen.Ask:
		q.Confirm = func(text string) (bool, error) { return s.screen.Confirm(term.Clean(text)) }
	}
	var board *term.Board
	a.Report = func(e any) {
		p, ok := e.(flow.SubmitProgress)
		if !ok {
			s.remark(e)
			return
		}
		if board == nil { // not before the question was answered
			board = s.screen.NewBoard()
			if !board.Live() {
				board.Above("sending %s over route %s", humanize.IBytes(uint64(p.Total)), p.Route)
			}
		}
		board.Set("send", "sending over %s: %s of %s", p.Route, humanize.IBytes(uint64(p.Done)), humanize.IBytes(uint64(p.Total)))
	}
	defer func() { a.Report = s.remark }()
	rec, err := a.Submit(ctx, c, q)
	if board != nil {
		board.Close()
	}
	if err != nil {
		return err
	}
	if s.common.json {
		return s.writeJSON(rec)
	}
	s.drawReceipt(c, rec)
	return nil
}

func (s *session) drawReceipt(c *casefile.Case, rec *submit.Receipt) {
	what := "arrived"
	if rec.Already {
		what = "was there already"
	}
	color := term.Good
	if !rec.Proved {
		color = term.Warn
	}
	s.screen.Print("%s: %s", s.screen.Paint(color, what), term.Clean(rec.Name))
	s.screen.Print("  at       %s", term.Clean(rec.Path))
	s.screen.Print("  server   %s", term.Clean(rec.Server))
	s.screen.Print("  size     %s (%d bytes)", humanize.IBytes(uint64(rec.Size)), rec.Size)
	s.screen.Print("  SHA-256  %s", rec.SHA256)
	s.screen.Print("  proof    %s", term.Clean(rec.Proof))
	s.screen.Print("  receipt  %s", term.Clean(flow.ReceiptFile(c, rec)))
}
