package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/keyfile"
	"envask/internal/reach"
	"envask/internal/submit"
)

func newSubmit(s *session) *cobra.Command {
	var q flow.SubmitRequest
	var accept []string
	var bandwidth string
	var confirm bool
	var askFile string
	c := &cobra.Command{
		Use:   "submit [ARCHIVE]",
		Short: "Send the archive, and keep the receipt",
		Long: `Send the archive (the one packed last, if none is named) over a route of the ask. It arrives under a name that shows
that it is not whole, is compared, and then gets its final name. The receipt says how it is known that it arrived. When the
connection is lost, it is tried again, and goes on where it stopped if the other side can do that; after a crash --resume
does the same. --confirm sends nothing and asks the other side again whether what the receipts say is there.

The login of a route stands in credentials.yaml in the home, bound to the route and its host:
  credentials:
    - {route: desk, host: desk.ostrevane.example, user: intake, key: ~/.ssh/desk}
    - {route: upload, host: files.ostrevane.example, token: env:UPLOAD_TOKEN}

What a person hands over, by the desk's page, in a mail of their own or on a stick, is written down with --by-hand.

With --ask an archive is sent where its case is not, such as on a jump host: carry it there with the file beside it that ends
in .carry.json, and bring the receipt back with envask add.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				q.Archive = args[0]
			}
			var err error
			if q.Accept, err = reach.ParseAccept(accept); err != nil {
				return err
			}
			if bandwidth != "" {
				if q.Bandwidth, err = keyfile.ParseSize(bandwidth); err != nil || q.Bandwidth < 1024 {
					return fault.New(fault.Usage, "--bandwidth", "", "give bytes a second, 1KiB at least, such as 2MiB", "")
				}
			}
			var a *flow.App
			var c *casefile.Case
			if askFile == "" {
				a, c, err = s.appAndCase()
			} else {
				a, c, err = s.carried(cmd.Context(), args, askFile)
			}
			if err != nil {
				return err
			}
			if q.ByHand != "" || q.Ticket != "" {
				if done, err := s.byHand(cmd.Context(), a, c, q); done || err != nil {
					return err
				}
			}
			if confirm {
				return s.confirmReceipts(cmd.Context(), a, c, q)
			}
			return s.submit(cmd.Context(), a, c, q)
		},
	}
	addSubmit(c, &q)
	addAccept(c, &accept)
	c.Flags().StringVar(&q.ByHand, "by-hand", "", "send nothing: you handed it over, and this says how (the desk's page, a stick)")
	c.Flags().StringVar(&q.Ticket, "ticket", "", "the desk's number of it; of what was sent already it is added to the receipt")
	c.Flags().StringVar(&q.SignWith, "sign", "", "sign the receipt with this private SSH key, so that envask add elsewhere takes its word")
	c.Flags().BoolVar(&q.Resume, "resume", false, "resume the submit that was interrupted")
	c.Flags().StringVar(&bandwidth, "bandwidth", "", "bytes a second at most, such as 2MiB")
	c.Flags().StringVar(&askFile, "ask", "", "send ARCHIVE without its case, over the routes of this ask")
	c.Flags().BoolVar(&confirm, "confirm", false, "send nothing; ask again whether what was sent is there")
	return c
}

// byHand writes down what a person says of handing over; done says that nothing is left to be sent.
func (s *session) byHand(ctx context.Context, a *flow.App, c *casefile.Case, q flow.SubmitRequest) (done bool, err error) {
	if q.ByHand == "" {
		list, none, err := a.AddTicket(c, q)
		if none || err != nil {
			return false, err
		}
		if s.common.json {
			return true, s.writeJSON(list)
		}
		for _, r := range list {
			s.screen.Print("ticket %s: %s, %s, %s", term.Clean(r.Ticket), term.Clean(r.Name), overRoute(r.Route), s.when(r.Finished))
		}
		return true, nil
	}
	rec, err := a.HandedOver(ctx, c, q)
	if err != nil {
		return true, err
	}
	if s.common.json {
		return true, s.writeJSON([]*submit.Receipt{rec})
	}
	s.drawReceipt(c, rec)
	s.next("tidy")
	return true, nil
}

// drawHanded shows the receipt of what a person handed over.
func (s *session) drawHanded(c *casefile.Case, rec *submit.Receipt) {
	s.screen.Print("%s: %s", s.screen.Paint(term.Good, "handed over by hand"), term.Clean(rec.Name))
	s.screen.Field("how", term.Clean(rec.ByHand))
	s.screen.Field("ticket", term.Clean(cmp.Or(rec.Ticket, "none yet; envask submit --ticket ID adds it")))
	s.screen.Field("size", fmt.Sprintf("%s (%d bytes)", bytesText(rec.Size), rec.Size))
	s.screen.Field("SHA-256", rec.SHA256)
	s.screen.Field("proof", "a person's word: "+term.Clean(rec.By)+", "+s.when(rec.Finished))
	s.screen.Field("receipt", term.Clean(flow.ReceiptFile(c, rec)))
}

// carried is for an archive whose case is not here.
func (s *session) carried(ctx context.Context, args []string, askFile string) (*flow.App, *casefile.Case, error) {
	if len(args) == 0 {
		return nil, nil, fault.New(fault.Usage, "submit", "", "with --ask, name the archive", "envask submit ARCHIVE --ask FILE")
	}
	a, err := s.app()
	if err != nil {
		return nil, nil, err
	}
	c, err := a.Carried(ctx, args[0], askFile)
	return a, c, err
}

// confirmReceipts asks about what was sent.
func (s *session) confirmReceipts(ctx context.Context, a *flow.App, c *casefile.Case, q flow.SubmitRequest) error {
	list, err := a.ConfirmReceipts(ctx, c, q)
	if err != nil {
		return err
	}
	if s.common.json {
		if err := s.writeJSON(list); err != nil {
			return err
		}
	}
	bad := 0
	for _, x := range list {
		color, word := term.Good, "is there"
		switch {
		case x.Silent && len(q.Routes) == 0:
			color, word = term.Warn, "cannot be asked about"
		case x.Error != "":
			color, word = term.Bad, "is not known to be there"
			bad++
		case !x.Proved:
			color = term.Warn
		}
		if !s.common.json {
			s.screen.Print("%s: %s over %s: %s", s.screen.Paint(color, word), term.Clean(x.Name), term.Clean(x.Route),
				term.Clean(x.Proof+x.Error))
		}
	}
	if bad > 0 {
		return fault.New(fault.Failed, "confirm", "", fmt.Sprintf("%d of %d receipts could not be confirmed", bad, len(list)),
			"ask the vendor's desk, and name the SHA-256 of the receipt")
	}
	return nil
}

func addSubmit(c *cobra.Command, q *flow.SubmitRequest) {
	c.Flags().StringArrayVar(&q.Routes, "route", nil, "route of the ask (default: the only one); repeat to send over several")
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
	var route string
	var begun time.Time
	var from int64
	a.Report = func(e any) {
		p, ok := e.(flow.SubmitProgress)
		if !ok {
			s.remark(e)
			return
		}
		if board == nil { // not before the question was answered
			board = s.screen.NewBoard()
			if !board.Live() {
				board.Above("sending %s over route %s", bytesText(p.Total), p.Route)
			}
		}
		if p.Route != route {
			route, begun, from = p.Route, a.Now(), p.Done
		}
		board.Set("send", "sending over %s: %s of %s%s", p.Route, bytesText(p.Done), bytesText(p.Total),
			pace(a.Now().Sub(begun), p.Done-from, p.Total-p.Done))
	}
	defer func() { a.Report = s.remark }()
	list, err := a.Submit(ctx, c, q)
	if board != nil {
		board.Close()
	}
	if s.common.json && (err == nil || len(list) > 0) {
		if e := s.writeJSON(list); err == nil {
			err = e
		}
		return err
	}
	for _, rec := range list {
		s.drawReceipt(c, rec)
	}
	return err
}

// pace says how fast it goes and how long the rest takes, once that can be told.
func pace(since time.Duration, done, left int64) string {
	if since < time.Second || done <= 0 {
		return ""
	}
	rate := float64(done) / since.Seconds()
	return fmt.Sprintf(", %s/s, %s left", bytesText(int64(rate)), (time.Duration(float64(left)/rate) * time.Second).Round(time.Second))
}

func (s *session) drawReceipt(c *casefile.Case, rec *submit.Receipt) {
	if rec.ByHand != "" {
		s.drawHanded(c, rec)
		return
	}
	what, color := "arrived", term.Good
	switch {
	case rec.Handed:
		what, color = "ready to hand over, not sent yet", term.Warn
	case rec.Already:
		what = "was there already"
	}
	if !rec.Proved && !rec.Handed {
		what, color = "taken, without proof that all of it arrived", term.Warn
	}
	s.screen.Print("%s: %s", s.screen.Paint(color, what), term.Clean(rec.Name))
	s.screen.Field("at", term.Clean(rec.Path))
	s.screen.Field("server", term.Clean(rec.Server))
	if !rec.Handed {
		cover := rec.Cover
		if cover == "" {
			cover = "none: anybody on the way could read it"
		}
		s.screen.Field("cover", term.Clean(cover))
	}
	s.screen.Field("size", fmt.Sprintf("%s (%d bytes)", bytesText(rec.Size), rec.Size))
	s.screen.Field("SHA-256", rec.SHA256)
	if rec.Answer != "" && !rec.Handed {
		s.screen.Field("answer", term.Clean(rec.Answer))
	}
	if rec.Tries > 1 || rec.Resumed > 0 {
		s.screen.Field("tries", fmt.Sprintf("%d, the last one from byte %s on", rec.Tries, humanize.Comma(rec.Resumed)))
	}
	s.screen.Field("proof", term.Clean(rec.Proof))
	s.screen.Field("receipt", term.Clean(flow.ReceiptFile(c, rec)))
	if rec.Handed && rec.Answer != "" { // the fields of a page, to paste
		s.screen.Print("")
		for _, line := range strings.Split(strings.TrimRight(rec.Answer, "\n"), "\n") {
			s.screen.Print("%s", term.Clean(line))
		}
	}
}

// overRoute says by which route something went.
func overRoute(route string) string {
	if route == submit.ByHandRoute {
		return "by hand"
	}
	return "over " + term.Clean(route)
}
