package cli

import (
	"context"
	"slices"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/reach"
	"envask/internal/undo"
)

func newTidy(s *session) *cobra.Command {
	var accept []string
	var q flow.TidyRequest
	var all, dry bool
	c := &cobra.Command{
		Use:   "tidy",
		Short: "Remove raw evidence that was sent, and what is left of ours on the systems",
		Long: `Remove what is not needed any more: the raw evidence of rounds whose archive was sent with proof, archives older than
keep-archives in tidy.yaml, what an interrupted pack left, and what Envask or a command run for it made on the systems and
could not remove at once. All of it is shown first. What was not sent stays unless --unsent is said, baselines unless --baselines.
On the systems only what the case's ledger says is ours is touched, and folders only when our marker is in them.

tidy.yaml in the home, if you want one:
  keep-raw: 30 days        # raw evidence stays so long after it was sent
  keep-archives: 400 days  # archives stay so long after they were sent; without this, for ever`,
		Example: `  envask tidy
  envask tidy --all --dry-run
  envask tidy --case 26031407 --unsent`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if q.Accept, err = reach.ParseAccept(accept); err != nil {
				return err
			}
			a, cases, err := s.casesToTidy(all)
			if err != nil {
				return err
			}
			t := &tidying{s: s, a: a, cases: cases, q: q}
			if err := t.look(); err != nil {
				return err
			}
			t.draw()
			if !dry {
				err = t.remove(cmd.Context())
			}
			if s.common.json {
				if e := s.writeJSON(t.doc); e != nil {
					return e
				}
			}
			return err
		},
	}
	addAccept(c, &accept)
	c.Flags().BoolVar(&all, "all", false, "in all cases")
	c.Flags().BoolVar(&dry, "dry-run", false, "show what would be removed; remove nothing")
	c.Flags().BoolVar(&q.Unsent, "unsent", false, "also raw evidence that was not sent or whose delivery was not verified")
	c.Flags().BoolVar(&q.Baselines, "baselines", false, "also raw evidence of baselines")
	return c
}

// casesToTidy gives the case used last, or all of them.
func (s *session) casesToTidy(all bool) (*flow.App, []*casefile.Case, error) {
	if !all {
		a, c, err := s.appAndCase()
		return a, []*casefile.Case{c}, err
	}
	a, err := s.app()
	if err != nil {
		return nil, nil, err
	}
	list, err := a.Home.Cases()
	var cases []*casefile.Case
	for _, l := range list {
		if l.Err != nil {
			s.screen.Say("warning: %s cannot be read and stays as it is: %v", l.Name, l.Err)
			continue
		}
		cases = append(cases, l.Case)
	}
	return a, cases, fault.Wrap("list the cases", a.Home.Dir, err)
}

// tidying is one run of tidy.
type tidying struct {
	s     *session
	a     *flow.App
	cases []*casefile.Case
	q     flow.TidyRequest
	doc   tidyDoc
}

// tidyDoc is what --json writes.
type tidyDoc struct {
	Discards []flow.Discard `json:"here"`       // what takes room here: what goes, and what stays
	Left     []flow.Left    `json:"on_systems"` // what of ours is on the systems
	Freed    int64          `json:"freed"`      // bytes
}

func (t *tidying) look() error {
	t.doc = tidyDoc{Discards: []flow.Discard{}, Left: []flow.Left{}}
	for _, c := range t.cases {
		list, err := t.a.Discards(c, t.q)
		if err != nil {
			return err
		}
		left, err := t.a.LeftThere(c)
		if err != nil {
			return err
		}
		t.doc.Discards, t.doc.Left = append(t.doc.Discards, list...), append(t.doc.Left, left...)
	}
	return nil
}

// goes gives how much of what is here goes.
func (t *tidying) goes() (n int, bytes int64) {
	for _, d := range t.doc.Discards {
		if d.Goes {
			n++
			bytes += d.Bytes
		}
	}
	return n, bytes
}

func (t *tidying) draw() {
	if t.s.common.json {
		return
	}
	for _, goes := range []bool{true, false} {
		title := "stays"
		if goes {
			title = "goes"
		}
		var rows [][]string
		for _, d := range t.doc.Discards {
			if d.Goes == goes {
				what := d.What
				if d.Round != "" {
					what += " of round " + d.Round
				}
				if d.Name != "" {
					what += " " + d.Name
				}
				rows = append(rows, []string{term.Clean(what), d.Case, humanize.Comma(int64(d.Files)), bytesText(d.Bytes),
					t.s.when(d.Since), term.Clean(d.Why)})
			}
		}
		if len(rows) > 0 {
			t.s.screen.Table([]term.Column{{Title: title, Wide: true, Least: 24}, {Title: "case"}, {Title: "files", Right: true},
				{Title: "size", Right: true}, {Title: "since"}, {Title: "why", Wide: true, Least: 24}}, rows)
			t.s.screen.Print("")
		}
	}
	for _, l := range t.doc.Left {
		if l.Kind == undo.KindCommand {
			t.s.screen.Print("changed: %s for %s, since %s; back by: %s", term.Clean(l.Where), term.Clean(l.Path), t.s.when(l.At),
				term.Clean(flow.HowBack(l.Change)))
			continue
		}
		t.s.screen.Print("ours: %s %s on %s, since %s", l.Kind, term.Clean(l.Path), term.Clean(l.Where), t.s.when(l.At))
	}
}

// remove asks, and removes.
func (t *tidying) remove(ctx context.Context) error {
	n, bytes := t.goes()
	if n == 0 && len(t.doc.Left) == 0 {
		if !t.s.common.json {
			t.s.screen.Print("nothing to remove, here and on the systems")
		}
		return nil
	}
	if err := t.may(n, bytes); err != nil {
		return err
	}
	var first error
	for _, c := range t.cases {
		if !slices.ContainsFunc(t.doc.Discards, func(d flow.Discard) bool { return d.Goes && d.Case == c.Name }) {
			continue
		}
		freed, err := t.a.RemoveDiscards(ctx, c, t.doc.Discards)
		if t.doc.Freed += freed; err != nil {
			return err
		}
	}
	t.doc.Left = []flow.Left{}
	for _, c := range t.cases {
		if there, err := t.a.LeftThere(c); err == nil && len(there) == 0 {
			continue // its systems file need not even be there any more
		}
		left, err := t.a.Tidy(ctx, c, t.q.Accept)
		if t.doc.Left = append(t.doc.Left, left...); err != nil && first == nil {
			first = err
		}
		if ctx.Err() != nil {
			break
		}
	}
	if !t.s.common.json {
		t.drawDone(n)
	}
	return first
}

// may asks once about all of it.
func (t *tidying) may(n int, bytes int64) error {
	if t.s.common.yes {
		return nil
	}
	if !t.s.screen.Ask {
		return fault.New(fault.Usage, "tidy", "", "no terminal to ask whether this is to be removed", "give --yes")
	}
	question := "Remove what is ours on the systems, and change back what was changed there?"
	if n > 0 {
		question = "Remove what goes (" + bytesText(bytes) + ")" +
			map[bool]string{true: ", and what is ours on the systems"}[len(t.doc.Left) > 0] + "? It does not come back."
	}
	yes, err := t.s.screen.Confirm(question)
	if err == nil && !yes {
		err = fault.New(fault.Usage, "tidy", "", "nothing was removed", "")
	}
	return err
}

func (t *tidying) drawDone(n int) {
	for _, l := range t.doc.Left {
		done, not, back := "removed:", "still on the system:", ""
		if l.Kind == undo.KindCommand {
			done, not, back = "changed back:", "not changed back:", "; to do it by hand, type there: "+term.Clean(flow.HowBack(l.Change))
		}
		if l.Kind == collect.KindJob {
			done, not = "finished:", "still working:"
		}
		if l.Removed {
			t.s.screen.Print("%s %s on %s", t.s.screen.Paint(term.Good, done), term.Clean(l.Path), l.Where)
		} else {
			t.s.screen.Print("%s %s on %s: %s%s", t.s.screen.Paint(term.Bad, not), term.Clean(l.Path), l.Where, term.Clean(l.Why), back)
		}
	}
	if n > 0 {
		t.s.screen.Print("%s %s", t.s.screen.Paint(term.Good, "freed:"), bytesText(t.doc.Freed))
	}
}
