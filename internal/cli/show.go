package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/late"
	"envask/internal/round"
	"envask/internal/undo"
	"envask/internal/window"
)

func number(n int) string { return strconv.Itoa(n) }

func newShow(s *session) *cobra.Command {
	var x showing
	c := &cobra.Command{
		Use:   "show [CASE|ROUND|ARCHIVE] [FILE]",
		Short: "Show the case, a round, an archive, or one file of either in detail",
		Long: `Show the case used last, another case by its number, a round, or an archive (by its path, or by its name in the case).
--system and --item list the files of these. FILE is part of a path: each matching file is shown in detail, with its source, sizes,
time span, how it was cut, and what redaction found in it.`,
		Example: `  envask show
  envask show r1
  envask show r1 --system gate-2 --item gate-log
  envask show r1 gate.log.1
  envask show 26031407_tallow-pier_r1.tar.gz
  envask show --todo
  envask show --history --page history.html
  envask show --vitals`,
		Args: cobra.MaximumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 2 {
				x.file = args[1]
			}
			return s.show(cmd.Context(), append(args, "")[0], x)
		},
	}
	c.Flags().StringSliceVar(&x.systems, "system", nil, "list the files of these systems")
	c.Flags().BoolVar(&s.each, "each", false, "a row for each system, also where many share a reason")
	c.Flags().BoolVar(&x.todo, "todo", false, "list what persons still have to bring, with the steps")
	c.Flags().BoolVar(&x.history, "history", false, "tell what was done in the case: when, by whom, and what vouches for it")
	c.Flags().StringVar(&x.page, "page", "", "with --history: write it as a page into this file")
	c.Flags().BoolVar(&x.vitals, "vitals", false, "compare the basic state of the systems")
	c.Flags().StringSliceVar(&x.items, "item", nil, "list the files of these items")
	return c
}

// showing says what to show of what was named.
type showing struct {
	systems, items []string
	file           string // a part of a path
	vitals         bool
	todo           bool // what persons bring
	history        bool
	page           string // of the history; "" shows it
}

func (x showing) ofFiles() bool { return len(x.systems)+len(x.items) > 0 || x.file != "" }

var roundID = late.Pattern(`^r[0-9]+$`)

// show finds out what was named, and shows it.
func (s *session) show(ctx context.Context, what string, x showing) error {
	if roundID().MatchString(what) || what == "" {
		a, c, err := s.appAndCase()
		if err != nil {
			return err
		}
		switch {
		case x.history:
			return s.showHistory(a, c, x.page)
		case x.page != "":
			return fault.New(fault.Usage, "", "--page", "goes with --history", "")
		case x.todo:
			return s.showToDo(a, c)
		}
		if what == "" && !x.ofFiles() && !x.vitals {
			return s.showCase(a, c)
		}
		if what == "" {
			what = newestRound(c)
		}
		if x.vitals {
			return s.showVitals(a, c, what, x.systems)
		}
		return s.showRound(a, c, what, x)
	}
	a, err := s.app()
	if err != nil {
		return err
	}
	current, _ := a.Home.Open(s.common.caseName) // none is needed for a path
	if file := flow.ArchivePath(current, what); file != "" {
		return s.showArchive(ctx, a, file, x)
	}
	if casefile.CheckName(what) != nil || !a.Home.Exists(what) {
		return fault.New(fault.Usage, "show", what, "there is no such case, round or archive",
			"envask cases lists the cases, and envask show the rounds and archives of one")
	}
	s.common.caseName = what
	return s.show(ctx, "", x)
}

func newestRound(c *casefile.Case) string {
	rounds, err := round.List(c)
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
	wants, err := a.Checklist(c, v)
	if err != nil && v.Damage == nil {
		s.screen.Say("note: what the vendor wants is not known: %s", term.Clean(err.Error()))
	}
	if s.common.json {
		return errors.Join(s.writeJSON(struct {
			*flow.CaseView
			Checklist []flow.Want `json:"checklist"`
		}{v, append([]flow.Want{}, wants...)}), damaged(v))
	}
	s.drawChecklist(wants)
	s.screen.Print("vendor   %s", term.Clean(v.Vendor))
	s.screen.Print("site     %s", v.Site)
	s.screen.Print("window   %s", v.Window)
	s.screen.Print("folder   %s", term.Clean(v.Folder))
	if v.Damage == nil {
		s.screen.Print("ledger   %d records, the chain holds%s", v.Records, map[bool]string{true: "; it was repaired"}[v.Repaired > 0])
	} else {
		s.screen.Print("ledger   %s", s.screen.Paint(term.Bad, fmt.Sprintf("damaged from record %d on: it %s; what follows is of the %d "+
			"records before that", v.Damage.Record, v.Damage.Why, v.Records)))
	}
	s.drawRounds(v.Rounds)
	s.drawArchives(v)
	for i, l := range v.Lacking {
		if i == mostLacking {
			s.screen.Print("%s", s.screen.Paint(term.Bad, fmt.Sprintf("and %s more; envask show --json lists all",
				number(len(v.Lacking)-i))))
			break
		}
		s.screen.Print("%s %s", s.screen.Paint(term.Bad, "the case lacks:"), term.Clean(l))
	}
	for _, p := range v.Pending {
		if p.Kind == collect.KindJob {
			s.screen.Print("%s for %s on %s (since %s): %s; envask collect takes up the wait", s.screen.Paint(term.Warn, "waits:"),
				term.Clean(p.Path), term.Clean(p.Where), s.when(p.At), term.Clean(p.Of))
			continue
		}
		if p.Kind == undo.KindCommand {
			s.screen.Print("%s %s for %s (since %s): %s", s.screen.Paint(term.Bad, "to be changed back:"), term.Clean(p.Where),
				term.Clean(p.Path), s.when(p.At), term.Clean(flow.HowBack(p)))
			continue
		}
		s.screen.Print("%s %s on %s (since %s)", s.screen.Paint(term.Bad, "left on the system:"), term.Clean(p.Path),
			term.Clean(p.Where), s.when(p.At))
	}
	return damaged(v)
}

// drawChecklist shows what the vendor wants, what is there, and which command brings the rest.
func (s *session) drawChecklist(wants []flow.Want) {
	if len(wants) == 0 {
		return
	}
	var rows [][]string
	for _, w := range wants {
		have, next := s.screen.Paint(term.Good, "there"), ""
		if !w.Have {
			have = s.screen.Paint(term.Bad, "open")
		}
		if w.Next != "" {
			next = term.Clean(s.withCase("envask " + w.Next))
		}
		rows = append(rows, []string{term.Clean(w.What), have, term.Clean(w.Text), next})
	}
	s.screen.Table([]term.Column{{Title: "wanted"}, {Title: "state"}, {Title: "what is there", Wide: true, Least: 24},
		{Title: "brings it"}}, rows)
	s.screen.Print("")
}

// mostLacking is how many lines show what a case lacks.
const mostLacking = 20

// damaged is the error for a case whose ledger is damaged.
func damaged(v *flow.CaseView) error {
	if v.Damage == nil {
		return nil
	}
	return fault.New(fault.Failed, "", "case "+v.Name, fmt.Sprintf("the ledger was damaged or changed from outside: record %d %s",
		v.Damage.Record, v.Damage.Why), "keep the damaged file and continue with: envask repair --case "+v.Name)
}

// when writes a time in the zone of the screen, which its head names.
func (s *session) when(t time.Time) string { return t.In(s.zoneShown()).Format("2006-01-02 15:04") }

// zoneShown is the zone of all times on a screen: that of the case's window, else the local one.
func (s *session) zoneShown() *time.Location {
	if s.zone == nil {
		return window.LocalZone()
	}
	return s.zone
}

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
		} else if !r.Thinned.IsZero() {
			result += ", sent evidence removed"
		}
		sent := "no"
		if r.Sent != "" {
			sent = ""
			for _, route := range strings.Split(r.Sent, ", ") {
				sent += ", " + overRoute(route)
			}
			sent = strings.TrimPrefix(sent, ", ")
		}
		rows = append(rows, []string{r.ID, s.when(r.Started), r.Depth, humanize.Comma(int64(r.Files)), bytesText(r.Bytes), result,
			term.Clean(sent), term.Clean(r.Note)})
	}
	s.screen.Table([]term.Column{{Title: "round"}, {Title: "begun"}, {Title: "depth"}, {Title: "files", Right: true},
		{Title: "size", Right: true},
		{Title: "result"}, {Title: "sent"}, {Title: "note", Wide: true, Least: 16}}, rows)
}

func (s *session) drawArchives(v *flow.CaseView) {
	if len(v.Archives) == 0 {
		return
	}
	sent := map[string]string{}
	for _, r := range v.Receipts {
		name, _ := r.Plain()
		said := "over " + r.Route + ", " + s.when(r.Finished)
		if r.Handed {
			said = "ready to hand over for " + r.Route
		}
		if r.ByHand != "" {
			said = "by hand, " + s.when(r.Finished)
		}
		if r.Ticket != "" {
			said += ", ticket " + r.Ticket
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
		rows = append(rows, []string{x.Name, x.Round, bytesText(x.Size), x.SHA256[:12], term.Clean(to)})
	}
	s.screen.Print("")
	s.screen.Table([]term.Column{{Title: "archive"}, {Title: "round"}, {Title: "size", Right: true}, {Title: "SHA-256"},
		{Title: "sent", Wide: true, Least: 12}}, rows)
}

func (s *session) showRound(a *flow.App, c *casefile.Case, id string, x showing) error {
	r, err := a.ShowRound(c, id)
	if err != nil {
		return err
	}
	if x.file != "" {
		list, err := a.RoundFiles(r, x.systems, x.items, x.file)
		if err != nil {
			return err
		}
		return s.drawFiles(list, "round "+r.ID, x.file)
	}
	var entries []round.Entry
	if x.ofFiles() || s.common.json {
		err = r.Entries(func(e round.Entry) error {
			if in(x.systems, e.System) && in(x.items, e.Item) {
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
			Clocks   []round.Clock       `json:"clocks"`
			Reached  []round.Place       `json:"reached"`
			Groups   []round.GroupResult `json:"groups"`
			Members  []round.Members     `json:"members"`
			Coverage round.Coverage      `json:"coverage"`
			Entries  []round.Entry       `json:"entries"`
		}{flow.NewRoundView(r), r.Clocks, r.Reached, r.Groups, orEmpty(r.Members), r.Coverage, entries})
	}
	v := flow.NewRoundView(r)
	head := fmt.Sprintf("round %s  begun %s, depth %s, window %s", r.ID, s.when(r.Started), r.Depth, v.Window)
	s.screen.Print("%s", s.screen.Indented(0, 9, head))
	if r.Note != "" {
		s.screen.Print("note     %s", term.Clean(r.Note))
	}
	if r.Baseline {
		s.screen.Print("kept as  a baseline")
	}
	if !r.Discarded.IsZero() {
		s.screen.Print("removed  its raw evidence, on %s", s.when(r.Discarded))
	} else if !r.Thinned.IsZero() {
		s.screen.Print("removed  what was sent of its raw evidence, on %s", s.when(r.Thinned))
	}
	if x.ofFiles() {
		s.drawEntries(entries)
		return nil
	}
	if r.Open {
		s.screen.Print("left open for further passes; envask collect ends it")
	} else if !r.Finished() {
		s.screen.Print("unfinished; envask collect resumes it")
		return nil
	}
	s.drawCoverage(r.Coverage, true)
	s.drawClocks(r.Clocks, true)
	s.drawReached(r.Reached, s.common.verbose)
	s.drawGroups(r.Groups, true)
	s.drawMembers(r.Members, true)
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

func (s *session) drawEntries(entries []round.Entry) {
	var rows [][]string
	for _, e := range entries {
		size := bytesText(e.Size)
		switch {
		case e.Cut != nil && e.Cut.Unpacked != "":
			size = bytesText(e.Bytes) + " unpacked"
		case e.Cut != nil:
			size = bytesText(e.Bytes) + " of " + size
		}
		if e.Special {
			size = ""
		}
		rows = append(rows, []string{e.System, e.Item, s.paintEntry(e, string(e.State)), size,
			term.Clean(e.Source), term.Clean(e.Reason)})
	}
	s.screen.Table([]term.Column{{Title: "system"}, {Title: "item"}, {Title: "state"}, {Title: "size", Right: true},
		{Title: "path or command", Wide: true, Least: 30},
		{Title: "why", Wide: true, Least: 24}}, rows)
}
