package cli

import (
	"strconv"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/flow"
)

func number(n int) string { return strconv.Itoa(n) }

func newShow(s *session) *cobra.Command {
	var systems, items []string
	var vitals bool
	c := &cobra.Command{
		Use:   "show [ROUND]",
		Short: "Show the case, or one round of it in detail",
		Example: `  envask show
  envask show r1
  envask show r1 --system gate-2 --item gate-log
  envask show --vitals`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			a, c, err := s.appAndCase()
			if err != nil {
				return err
			}
			if len(args) == 0 && len(systems)+len(items) == 0 && !vitals {
				return s.showCase(a, c)
			}
			if len(args) == 0 {
				args = []string{newestRound(c)}
			}
			if vitals {
				return s.showVitals(a, c, args[0], systems)
			}
			return s.showRound(a, c, args[0], systems, items)
		},
	}
	c.Flags().StringSliceVar(&systems, "system", nil, "list the files of these systems")
	c.Flags().BoolVar(&vitals, "vitals", false, "compare the basic state of the systems")
	c.Flags().StringSliceVar(&items, "item", nil, "list the files of these items")
	return c
}

func newestRound(c *casefile.Case) string {
	rounds, err := collect.Rounds(c)
	if err != nil || len(rounds) == 0 {
		return "r1"
	}
	return rounds[len(rounds)-1].ID
}

func (s *session) showCase(a *flow.App, c *casefile.Case) error {
	v, err := a.ShowCase(c)
	if err != nil {
		return err
	}
	if s.common.json {
		return s.writeJSON(v)
	}
	s.screen.Print("vendor   %s", term.Clean(v.Vendor))
	s.screen.Print("site     %s", v.Site)
	s.screen.Print("window   %s", v.Window)
	s.screen.Print("folder   %s", term.Clean(v.Folder))
	s.screen.Print("ledger   %d records, the chain holds", v.Records)
	s.drawRounds(v.Rounds)
	s.drawArchives(v)
	for _, p := range v.Pending {
		s.screen.Print("%s %s on %s (since %s)", s.screen.Paint(term.Bad, "left there:"), term.Clean(p.Path), term.Clean(p.Where), shortTime(p.At))
	}
	return nil
}

func shortTime(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func (s *session) drawRounds(rounds []flow.RoundView) {
	s.screen.Print("")
	if len(rounds) == 0 {
		s.screen.Print("no round yet; envask collect makes one")
		return
	}
	var rows [][]string
	for _, r := range rounds {
		result := s.screen.Paint(term.Good, "complete")
		switch {
		case !r.Finished:
			result = s.screen.Paint(term.Warn, "unfinished")
		case r.Lacking > 0:
			result = s.screen.Paint(term.Bad, number(r.Lacking)+" required lacking")
		}
		if r.Baseline {
			result += ", baseline"
		}
		if !r.Tidied.IsZero() {
			result += ", raw evidence removed"
		}
		sent := "no"
		if r.Sent != "" {
			sent = "over " + r.Sent
		}
		rows = append(rows, []string{r.ID, shortTime(r.Started), r.Depth, humanize.Comma(int64(r.Files)), humanize.IBytes(uint64(r.Bytes)), result, term.Clean(sent), term.Clean(r.Note)})
	}
	s.screen.Table([]term.Column{{Title: "round"}, {Title: "begun"}, {Title: "depth"}, {Title: "files", Right: true}, {Title: "size", Right: true},
		{Title: "result"}, {Title: "sent"}, {Title: "note", Wide: true, Least: 16}}, rows)
}

func (s *session) drawArchives(v *flow.CaseView) {
	if len(v.Archives) == 0 {
		return
	}
	sent := map[string]string{}
	for _, r := range v.Receipts {
		name, _ := r.Plain()
		said := "over " + r.Route + ", " + shortTime(r.Finished)
		if r.Handed {
			said = "made ready for " + r.Route
		}
		if r.Of != "" {
			said += ", encrypted"
		}
		if sent[name] != "" {
			said = sent[name] + "; " + said
		}
		sent[name] = said
	}
	var rows [][]string
	for _, x := range v.Archives {
		to := sent[x.Name]
		if to == "" {
			to = "not sent"
		}
		rows = append(rows, []string{x.Name, x.Round, humanize.IBytes(uint64(x.Size)), x.SHA256[:12], term.Clean(to)})
	}
	s.screen.Print("")
	s.screen.Table([]term.Column{{Title: "archive"}, {Title: "round"}, {Title: "size", Right: true}, {Title: "SHA-256"}, {Title: "sent", Wide: true, Least: 12}}, rows)
}

func (s *session) showRound(a *flow.App, c *casefile.Case, id string, systems, items []string) error {
	r, err := a.ShowRound(c, id)
	if err != nil {
		return err
	}
	var entries []collect.Entry
	if len(systems)+len(items) > 0 || s.common.json {
		err = r.Entries(func(e collect.Entry) error {
			if in(systems, e.System) && in(items, e.Item) {
				entries = append(entries, e)
			}
			return nil
		})
		if err != nil {
			return fault.Wrap("read the round", id, err)
		}
	}
	if s.common.json {
		return s.writeJSON(struct {
			flow.RoundView
			Clocks   []collect.Clock       `json:"clocks"`
			Reached  []collect.Place       `json:"reached"`
			Groups   []collect.GroupResult `json:"groups"`
			Coverage collect.Coverage      `json:"coverage"`
			Entries  []collect.Entry       `json:"entries"`
		}{flow.NewRoundView(r), r.Clocks, r.Reached, r.Groups, r.Coverage, entries})
	}
	v := flow.NewRoundView(r)
	s.screen.Print("round %s  begun %s, depth %s, window %s", r.ID, shortTime(r.Started), r.Depth, v.Window)
	if r.Note != "" {
		s.screen.Print("note     %s", term.Clean(r.Note))
	}
	if len(systems)+len(items) > 0 {
		s.drawEntries(entries)
		return nil
	}
	if r.Open {
		s.screen.Print("left open for further passes; envask collect ends it")
	} else if !r.Finished() {
		s.screen.Print("unfinished; envask collect goes on with it")
		return nil
	}
	s.drawCoverage(r.Coverage, true)
	s.drawClocks(r.Clocks, true)
	s.drawReached(r.Reached, s.common.verbose)
	s.drawGroups(r.Groups, true)
	for _, cell := range r.Coverage {
		for _, n := range cell.Notes {
			s.screen.Print("%s %s: %s", cell.System, cell.Item, term.Clean(n))
		}
	}
	return nil
}

func in(list []string, x string) bool {
	for _, l := range list {
		if l == x {
			return true
		}
	}
	return len(list) == 0
}

func (s *session) drawEntries(entries []collect.Entry) {
	var rows [][]string
	for _, e := range entries {
		size := humanize.IBytes(uint64(e.Size))
		switch {
		case e.Cut != nil && e.Cut.Unpacked != "":
			size = humanize.IBytes(uint64(e.Bytes)) + " unpacked"
		case e.Cut != nil:
			size = humanize.IBytes(uint64(e.Bytes)) + " of " + size
		}
		if e.Special {
			size = ""
		}
		rows = append(rows, []string{e.System, e.Item, s.paintEntry(e, string(e.State)), size,
			term.Clean(e.Source), term.Clean(e.Reason)})
	}
	s.screen.Table([]term.Column{{Title: "system"}, {Title: "item"}, {Title: "state"}, {Title: "size", Right: true}, {Title: "path or command", Wide: true, Least: 30},
		{Title: "why", Wide: true, Least: 24}}, rows)
}
