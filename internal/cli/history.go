package cli

import (
	"fmt"
	"io"

	"envask/internal/casefile"
	"envask/internal/cli/term"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/flow"
	"envask/internal/report"
)

// showHistory tells what was done in a case, or writes it as a page.
func (s *session) showHistory(a *flow.App, c *casefile.Case, page string) error {
	h, err := a.History(c)
	if err != nil {
		return err
	}
	var damage error
	said := ""
	if h.Damage != nil {
		said = fmt.Sprintf("the ledger was damaged or changed from outside: record %d %s; what stands here is of the records before it",
			h.Damage.Record, h.Damage.Why)
		damage = fault.New(fault.Failed, "", "case "+c.Name, said, "envask show says what to do")
	}
	switch {
	case page != "":
		story := &report.Story{Case: h.Case, Title: h.Title, Zone: s.zoneShown(), Records: h.Records, Damage: said}
		for _, d := range h.Deeds {
			story.Deeds = append(story.Deeds, report.Deed{At: d.At, Who: d.Who, What: d.What, Proof: d.Proof})
		}
		err := durable.Write(page, 0o600, func(w io.Writer) error { return report.HistoryPage(w, story) })
		if err != nil {
			return fault.Wrap("write", page, err)
		}
		s.screen.Print("wrote %s, %d %s", term.Clean(page), len(h.Deeds), one(len(h.Deeds), "record", "records"))
		return damage
	case s.common.json:
		if err := s.writeJSON(h); err != nil {
			return err
		}
		return damage
	}
	var rows [][]string
	for _, d := range h.Deeds {
		rows = append(rows, []string{s.when(d.At), term.Clean(d.Who), term.Clean(d.What), term.Clean(d.Proof)})
	}
	s.screen.Table([]term.Column{{Title: "when", Once: true}, {Title: "who"}, {Title: "what", Wide: true, Least: 24},
		{Title: "proof", Wide: true, Least: 16}}, rows)
	if damage == nil {
		s.screen.Print("%d records, the chain holds", h.Records)
	}
	return damage
}
