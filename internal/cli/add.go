package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"envask/internal/bring"
	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/submit"
)

// adding holds the flags of add.
type adding struct {
	request flow.BringRequest
	size    string
	drop    string
	reply   bool
}

func newAdd(s *session) *cobra.Command {
	var f adding
	c := &cobra.Command{
		Use:   "add [PATH...]",
		Short: "Put into the case what a person brings, the vendor's reply, or a receipt",
		Long: `Put into the case what a person brings: a picture of the screen, a recording of a browser, an export of a graphical program.
Each file is copied, hashed, told by its content, and held against what its item expects; the source is never touched. Without --item
the item is chosen whose expectations it meets. Folders and archives are brought file by file, unless the item expects an archive.
"envask show --todo" lists what is wanted, with the command for each.

A path may be dragged into the terminal. "-" takes standard input, under the name of --as. What is too large to bring can be told of
with --link. --drop takes something back, until it was sent.

--reply keeps what the vendor sent back under the case; envask reveal reads it from there. A receipt, ARCHIVE.receipt-ROUTE.json, of an
archive that was packed here and sent from elsewhere (envask submit ARCHIVE --ask FILE) is compared with the archives and routes of the
case and kept. What it says of a proof counts as its word only, and tidy keeps the evidence, unless it is signed (envask submit --sign KEY)
by a key that stands in the file signers in your home, or envask submit --confirm has asked the other side.`,
		Example: `  envask add ~/Pictures/error.png
  envask add recording.har --item browser-recording --note "second try, at 06:20"
  envask add screen.png --boxes 120,40,300,22
  xclip -o | envask add - --as dialog.txt --item dialog-text
  envask add --link https://files.example/core.zst --size 41GiB --item core
  envask add --drop error.png
  envask add --reply answer.txt
  envask add /media/stick/26031407_tallow-pier_r1.receipt-desk.json`,
		RunE: func(cmd *cobra.Command, args []string) error {
			a, c, err := s.appAndCase()
			if err != nil {
				return err
			}
			return s.add(cmd.Context(), a, c, args, f)
		},
	}
	l := c.Flags()
	l.StringVar(&f.request.Item, "item", "", "item that it is for")
	l.StringVar(&f.request.System, "system", "", "system that it is of")
	l.StringVar(&f.request.Note, "note", "", "what to know about it")
	l.StringVar(&f.request.As, "as", "", "name of what comes from standard input")
	l.StringArrayVar(&f.request.Boxes, "boxes", nil, "make this rectangle of a picture black for good: x,y,width,height (several times)")
	l.StringVar(&f.request.Link, "link", "", "its address, where it is too large to bring: the page tells it, and nothing is fetched")
	l.StringVar(&f.size, "size", "", "size of what is at that address, such as 41GiB")
	l.StringVar(&f.request.LinkSHA256, "sha256", "", "checksum of what is at that address")
	l.StringVar(&f.drop, "drop", "", "take back what was brought under this name")
	l.BoolVar(&f.reply, "reply", false, "it is what the vendor sent back")
	return c
}

// add does one of the things that add can do.
func (s *session) add(ctx context.Context, a *flow.App, c *casefile.Case, args []string, f adding) error {
	q := f.request
	if f.size != "" {
		n, err := humanize.ParseBytes(f.size)
		if err != nil || n > 1<<62 {
			return fault.New(fault.Usage, "", "--size", fmt.Sprintf("expected bytes, such as 41GiB, found %q", f.size), "")
		}
		q.LinkSize = int64(n)
	}
	receipts, paths := splitReceipts(a, c, args)
	switch {
	case f.drop != "" && len(args) > 0:
		return fault.New(fault.Usage, "", "--drop", "takes one name and no paths", "")
	case f.drop != "":
		return s.dropped(a.TakeBack(c, f.drop))
	case f.reply:
		return s.addReplies(ctx, a, c, args, q.Note)
	case len(args) == 0 && q.Link == "":
		return fault.New(fault.Usage, "add", "", "nothing to add", "envask show --todo lists what is wanted; envask add PATH brings it")
	case len(q.Boxes) > 0 && len(paths) != 1:
		return fault.New(fault.Usage, "", "--boxes", "goes with one picture", "")
	}
	if len(receipts) > 0 {
		if err := s.addReceipts(a, c, receipts); err != nil || len(paths) == 0 {
			return err
		}
	}
	q.Paths, q.Input = paths, s.env.In
	if s.screen.Ask {
		q.Choose = func(question string, answers []string) (int, error) {
			defer s.pause()()
			return s.screen.Pick(term.Clean(question), answers)
		}
	}
	return s.bring(ctx, a, c, q)
}

// splitReceipts tells receipts from what a person brings. Where nobody is asked to bring something, all are receipts.
func splitReceipts(a *flow.App, c *casefile.Case, args []string) (receipts, paths []string) {
	nobody := !a.AsksPersons(c)
	for _, p := range args {
		if path := bring.Dragged(p); path != "-" && (nobody || flow.LooksLikeReceipt(path)) {
			receipts = append(receipts, p)
		} else {
			paths = append(paths, p)
		}
	}
	return receipts, paths
}

func (s *session) bring(ctx context.Context, a *flow.App, c *casefile.Case, q flow.BringRequest) error {
	board := s.screen.NewBoard()
	s.asking = board
	a.Report = func(e any) {
		if p, ok := e.(flow.BringProgress); ok {
			board.Set("add", "%s: %s of %s", term.Clean(p.Name), bytesText(p.Done), bytesText(p.Total))
			return
		}
		s.remark(e)
	}
	got, err := a.Bring(ctx, c, q)
	board.Close()
	s.asking = nil
	if got == nil {
		return err
	}
	if s.common.json {
		return errors.Join(s.writeJSON(got), err)
	}
	for i := range got.Files {
		s.drawBrought(&got.Files[i])
	}
	if len(got.Files) > 0 {
		s.drawGroups(got.Groups, false)
		s.drawAdded(a, c, got)
	}
	if err == nil && !good(got) {
		err = fault.New(fault.Incomplete, "add", "", "not all of it is what was asked for; it is kept and marked as failed",
			"bring it again, or take it back: envask add --drop NAME")
	}
	return err
}

// good reports whether everything that was brought is what was asked for.
func good(got *flow.Brought) bool {
	for _, f := range got.Files {
		if f.State == round.Failed {
			return false
		}
	}
	return true
}

// drawBrought shows one file that was brought.
func (s *session) drawBrought(f *flow.BroughtFile) {
	what := f.Brought.About
	if what == "" && f.Brought.Type != "" {
		what = f.Brought.Type
	}
	if f.Brought.Link != "" {
		what = "lies elsewhere"
	}
	name := f.Name[strings.LastIndexByte(f.Name, '/')+1:]
	if name == "" {
		name = f.Source
	}
	if f.Known != "" {
		s.screen.Print("%s %s: the case has it already, as %s", s.screen.Paint(term.Faint, "known"), term.Clean(name), term.Clean(f.Known))
		return
	}
	word := s.screen.Paint(stateColors[f.State], string(f.State))
	s.screen.Print("%s %s for %s (%s)", word, term.Clean(name), itemOf(f.System, f.Item), strings.Trim(bytesText(f.Size)+", "+what, ", "))
	if f.Reason != "" {
		s.screen.Print("%s", s.screen.Indented(2, 4, term.Clean(f.Reason)))
	}
	if f.Instead != "" {
		older := f.Instead[strings.LastIndexByte(f.Instead, '/')+1:]
		if f.Counts {
			s.screen.Print("  this version counts now; %s is kept as an older one", term.Clean(older))
		} else {
			s.screen.Print("  %s still counts; this one is kept beside it", term.Clean(older))
		}
	}
}

func itemOf(system, item string) string {
	if system == site.Case {
		return item
	}
	return item + " of " + system
}

// drawAdded says in which round it is, and what is still to be brought.
func (s *session) drawAdded(a *flow.App, c *casefile.Case, got *flow.Brought) {
	what := "in round " + got.Round
	if got.New {
		what = "in the new round " + got.Round
	}
	list, err := a.ToDos(c)
	if err != nil {
		s.screen.Say("%s", what)
		return
	}
	open := flow.Open(list)
	if len(open) == 0 {
		s.screen.Say("%s; everything that persons bring is there", what)
		s.next("pack")
		return
	}
	var names []string
	for _, t := range open {
		names = append(names, itemOf(t.System, t.Item))
	}
	s.screen.Say("%s; still to be brought: %s", what, strings.Join(names, ", "))
	s.next("show --todo")
}

func (s *session) dropped(got *flow.Brought, err error) error {
	if err != nil {
		return err
	}
	if s.common.json {
		return s.writeJSON(got)
	}
	for _, f := range got.Files {
		s.screen.Print("taken back: %s (%s) from round %s", term.Clean(ownNameOf(&f.Entry)), itemOf(f.System, f.Item), got.Round)
	}
	return nil
}

func ownNameOf(e *round.Entry) string {
	if e.Name == "" {
		return e.Source
	}
	return e.Name[strings.LastIndexByte(e.Name, '/')+1:]
}

func (s *session) addReplies(ctx context.Context, a *flow.App, c *casefile.Case, files []string, note string) error {
	if len(files) == 0 {
		return fault.New(fault.Usage, "", "--reply", "give the files that the vendor sent back", "")
	}
	list := []*flow.Reply{}
	for _, file := range files {
		r, err := a.AddReply(ctx, c, bring.Dragged(file), note)
		if err != nil {
			return err
		}
		list = append(list, r)
		if s.common.json {
			continue
		}
		word := s.screen.Paint(term.Good, "kept:")
		if r.Known {
			word = "known already:"
		}
		s.screen.Print("%s %s (%s), SHA-256 %s; it is never packed", word, term.Clean(r.Name), bytesText(r.Size), r.SHA256)
	}
	if s.common.json {
		return s.writeJSON(list)
	}
	s.next("reveal " + list[0].Name)
	return nil
}

func (s *session) addReceipts(a *flow.App, c *casefile.Case, files []string) error {
	list := []*submit.Receipt{}
	for _, file := range files {
		rec, added, err := a.AddReceipt(c, bring.Dragged(file))
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
}
