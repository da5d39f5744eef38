package cli

import (
	"encoding/csv"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/window"
)

func newCases(s *session) *cobra.Command {
	var f flow.CaseFilter
	var since string
	var asCSV, unsent, forGood bool
	var remove string
	c := &cobra.Command{
		Use:   "cases",
		Short: "List every case, or remove one",
		Example: `  envask cases --state packed
  envask cases --vendor ostrevane --sort size
  envask cases --remove 26031407
  envask cases --sent-since "2026-03-01 00:00" --csv > march.csv`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			a, err := s.app()
			if err != nil {
				return err
			}
			if remove != "" {
				return s.removeCase(a, remove, unsent, forGood)
			}
			if since != "" {
				if f.SentSince, err = window.ParseTime(since, window.LocalZone(), a.Now(), window.Begin); err != nil {
					return &fault.Error{Class: fault.Usage, Op: "--sent-since", Err: err}
				}
			}
			views, broken, err := a.Cases(f)
			if err != nil {
				return err
			}
			switch {
			case s.common.json && asCSV:
				return fault.New(fault.Usage, "cases", "", "--json and --csv do not go together", "")
			case s.common.json:
				return s.writeJSON(views)
			case asCSV:
				return s.casesCSV(views)
			}
			s.drawCases(views, broken, f.State != "" || f.Vendor != "" || since != "")
			return nil
		},
	}
	fl := c.Flags()
	fl.StringVar(&f.Sort, "sort", "", "order: "+strings.Join(flow.CaseOrders(), ", ")+" (default: opened, the newest first)")
	fl.StringVar(&f.State, "state", "", "only cases of this state: "+strings.Trim(fmt.Sprint(flow.States), "[]"))
	fl.StringVar(&f.Vendor, "vendor", "", "only cases whose vendor name contains this")
	fl.StringVar(&since, "sent-since", "", "only cases of which something was sent since this time")
	fl.BoolVar(&asCSV, "csv", false, "as comma-separated values (RFC 4180)")
	fl.StringVar(&remove, "remove", "", "remove this case with its evidence, archives, receipts and ledger")
	fl.BoolVar(&unsent, "unsent", false, "with --remove: also if something was not sent, or its delivery was not verified")
	fl.BoolVar(&forGood, "for-good", false, "with --remove: without asking")
	return c
}

// removeCase removes a case, once the engineer has said yes.
func (s *session) removeCase(a *flow.App, name string, unsent, forGood bool) error {
	q := flow.RemoveRequest{Unsent: unsent}
	switch {
	case forGood:
		q.Confirm = func(string) (bool, error) { return true, nil }
	case s.screen.Ask:
		q.Confirm = s.confirm
	}
	err := a.RemoveCase(name, q)
	if err == nil {
		s.screen.Print("case %s removed", name)
	}
	return err
}

func (s *session) drawCases(views []*flow.CaseView, broken []flow.BrokenCase, filtered bool) {
	var rows [][]string
	for _, v := range views {
		state := string(v.State)
		switch v.State {
		case flow.CaseSent:
			state = s.screen.Paint(term.Good, state)
		case flow.CaseUnfinished, flow.CaseCollected, flow.CasePacked:
			state = s.screen.Paint(term.Warn, state)
		}
		text := v.Title
		if text == "" {
			text = v.Window
		}
		rows = append(rows, []string{v.Name, state, term.Clean(v.Vendor), v.Site, number(len(v.Rounds)), bytesText(v.Bytes), lastArchive(v),
			term.Clean(s.lastSent(v)), term.Clean(text)})
	}
	for _, b := range broken {
		rows = append(rows, []string{term.Clean(b.Name), s.screen.Paint(term.Bad, "broken"), "", "", "", "", "", "",
			"cannot be read: " + term.Clean(b.Err.Error())})
	}
	if len(rows) == 0 {
		if filtered {
			s.screen.Say("there is no case of that kind; envask cases lists all")
		} else {
			s.screen.Say("there is no case yet; envask open NUMBER --ask FILE --systems FILE begins one")
		}
		return
	}
	s.screen.Table([]term.Column{{Title: "case"}, {Title: "state"}, {Title: "vendor", Wide: true, Least: 10}, {Title: "site"},
		{Title: "rounds", Right: true}, {Title: "size", Right: true},
		{Title: "last archive"}, {Title: "last sent (" + s.zoneShown().String() + ")", Wide: true, Least: 16},
		{Title: "title or window", Wide: true, Least: 16}}, rows)
}

// lastArchive says what the archive packed last holds, and its size; its name is in show.
func lastArchive(v *flow.CaseView) string {
	if n := len(v.Archives); n > 0 {
		return v.Archives[n-1].Round + ", " + bytesText(v.Archives[n-1].Size)
	}
	return "-"
}

func (s *session) lastSent(v *flow.CaseView) string {
	if r := v.LastSent(); r != nil {
		if r.ByHand != "" {
			return s.when(r.Finished) + " by hand"
		}
		return s.when(r.Finished) + " over " + r.Route
	}
	return "-"
}

// casesCSV writes one line a case, in the columns of the table and a few more.
func (s *session) casesCSV(views []*flow.CaseView) error {
	w := csv.NewWriter(term.SafeWriter(s.env.Out))
	rows := [][]string{{"case", "state", "vendor", "site", "title", "opened", "rounds", "bytes", "last archive", "sent", "route", "answer"}}
	for _, v := range views {
		archive, sent, route, answer := "", "", "", ""
		if n := len(v.Archives); n > 0 {
			archive = v.Archives[n-1].Name
		}
		if r := v.LastSent(); r != nil {
			sent, route, answer = r.Finished.Format(time.RFC3339), r.Route, r.Answer
		}
		row := []string{v.Name, string(v.State), v.Vendor, v.Site, v.Title, v.Opened.Format(time.RFC3339), number(len(v.Rounds)),
			fmt.Sprint(v.Bytes), archive, sent, route, answer}
		for i, cell := range row {
			if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) { // spreadsheets would take it for a formula
				row[i] = "'" + cell
			}
		}
		rows = append(rows, row)
	}
	return errors.Join(w.WriteAll(rows), w.Error())
}
