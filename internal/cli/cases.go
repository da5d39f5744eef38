package cli

import (
	"github.com/spf13/cobra"

	"envask/internal/cli/term"
	"envask/internal/fault"
	"envask/internal/flow"
)

func newCases(s *session) *cobra.Command {
	return &cobra.Command{
		Use:   "cases",
		Short: "List every case",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			a, err := s.app()
			if err != nil {
				return err
			}
			list, err := a.Home.Cases()
			if err != nil {
				return fault.Wrap("list the cases", a.Home.Dir, err)
			}
			views := []*flow.CaseView{}
			rows := [][]string{}
			for _, l := range list {
				if l.Err == nil {
					v, err := a.ShowCase(l.Case)
					if err == nil {
						views = append(views, v)
						rows = append(rows, caseRow(v))
						continue
					}
					l.Err = err
				}
				rows = append(rows, []string{l.Name, "", "", "", s.screen.Paint(term.Bad, "cannot be read: ") + term.Clean(l.Err.Error())})
			}
			if s.common.json {
				return s.writeJSON(views)
			}
			if len(rows) == 0 {
				s.screen.Say("there is no case yet; envask open NUMBER --ask FILE --systems FILE begins one")
				return nil
			}
			s.screen.Table([]term.Column{{Title: "case"}, {Title: "site"}, {Title: "rounds", Right: true}, {Title: "sent", Right: true},
				{Title: "title and window", Wide: true, Least: 30}}, rows)
			return nil
		},
	}
}

func caseRow(v *flow.CaseView) []string {
	text := v.Window
	if v.Title != "" {
		text = v.Title + "; " + text
	}
	return []string{v.Name, v.Site, number(len(v.Rounds)), number(len(v.Receipts)), term.Clean(text)}
}
