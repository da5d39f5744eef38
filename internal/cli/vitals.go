package cli

import (
	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/flow"
)

// tableColumns is up to how many systems stand side by side; more are listed in several tables.
const tableColumns = 5

// besideEachOther gives how many systems stand side by side on this terminal.
func (s *session) besideEachOther() int {
	const names, values = 22, 18
	return max(1, min(tableColumns, (s.screen.Width-names)/values))
}

// showVitals draws the basic state of the systems side by side and marks what differs and what needs a look.
func (s *session) showVitals(a *flow.App, c *casefile.Case, round string, systems []string) error {
	v, err := a.Vitals(c, round, systems)
	if err != nil {
		return err
	}
	if s.common.json {
		return s.writeJSON(v)
	}
	side := s.besideEachOther()
	for from := 0; from < len(v.Systems); from += side {
		to := min(from+side, len(v.Systems))
		columns := []term.Column{{Title: "of round " + round}}
		for _, one := range v.Systems[from:to] {
			columns = append(columns, term.Column{Title: one.System, Wide: true, Least: 14})
		}
		var rows [][]string
		for _, f := range v.Facts {
			name := f.Name
			if f.Differs {
				name += " " + s.screen.Paint(term.Warn, "differs")
			}
			row := []string{name}
			for i := from; i < to; i++ {
				text := term.Clean(f.Values[i])
				if text == "" {
					text = "–"
				}
				if f.Heeds != nil && f.Heeds[i] {
					text = s.screen.Paint(term.Bad, text+" !")
				} else if f.Differs {
					text = s.screen.Paint(term.Warn, text)
				}
				row = append(row, text)
			}
			rows = append(rows, row)
		}
		if from > 0 {
			s.screen.Print("")
		}
		s.screen.Table(columns, rows)
	}
	for _, one := range v.Systems {
		for _, l := range one.Lacks {
			s.screen.Detail("%s: not found out: %s", one.System, term.Clean(l))
		}
	}
	return nil
}
