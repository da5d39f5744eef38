package flow

import (
	"fmt"
	"slices"
	"strings"

	"envask/internal/casefile"
	"envask/internal/round"
)

// Want is one line of the checklist of a vendor: what is wanted, and what is there of it.
type Want struct {
	What string `json:"what"`
	Have bool   `json:"have"` // all of it
	Text string `json:"text"` // what is there, and what is missing
	Next string `json:"next"` // the arguments of envask that bring it; "" for none
}

// Checklist says what the vendor of a case wants, what is there, what is missing, and which command brings it.
func (a *App) Checklist(c *casefile.Case, v *CaseView) ([]Want, error) {
	k, err := LoadAsk(c.Ask)
	if err != nil {
		return nil, err
	}
	b, err := a.ShowBrief(c)
	if err != nil {
		return nil, err
	}
	var out []Want
	out = append(out, wantsWriteUp(b))
	rounds, err := a.countingRounds(c)
	if err != nil {
		return nil, err
	}
	if w, wanted := wantsItems(newestCells(rounds), len(rounds) > 0); wanted {
		out = append(out, w)
	}
	todo, err := a.ToDos(c)
	if err != nil {
		return nil, err
	}
	for _, t := range todo {
		w := Want{What: t.Item, Have: !t.Open, Text: "brought"}
		if t.System != "" && t.System != "case" {
			w.What += " of " + t.System
		}
		if t.Open {
			w.Text, w.Next = "a person brings it", "show --todo"
			if t.State == round.Failed {
				w.Text = t.Reason
			}
			if !t.Required {
				w.Text += " (not required)"
			}
		}
		out = append(out, w)
	}
	if len(k.Groups) > 0 && len(rounds) > 0 {
		groups := slices.DeleteFunc(slices.Clone(v.Lacking), func(l string) bool { return !strings.HasPrefix(l, "group ") })
		w := Want{What: "groups", Have: len(groups) == 0, Text: fmt.Sprintf("%d whole", len(k.Groups))}
		if len(groups) > 0 {
			w.Text, w.Next = strings.Join(groups, "; "), "collect --missing"
		}
		out = append(out, w)
	}
	return append(out, wantsArchive(v)), nil
}

func wantsWriteUp(b *BriefView) Want {
	filled := 0
	for _, f := range b.Fields {
		if f.Answer != "" {
			filled++
		}
	}
	w := Want{What: "write-up", Have: len(b.Missing)+len(b.Remarks) == 0, Text: fmt.Sprintf("%d of %d fields", filled, len(b.Fields))}
	var lacks []string
	for _, r := range b.Remarks {
		lacks = append(lacks, r.Field)
	}
	if len(lacks) > 0 {
		w.Text += "; to add or to correct: " + strings.Join(slices.Compact(lacks), ", ")
	}
	if !w.Have || filled < len(b.Fields) {
		w.Next = "brief"
	}
	return w
}

// wantsItems counts the cells that systems bring.
func wantsItems(table round.Coverage, collected bool) (w Want, wanted bool) {
	w = Want{What: "evidence", Text: "nothing was collected yet", Next: "collect"}
	if !collected {
		return w, true
	}
	have, all, required, lacks := 0, 0, 0, []string{}
	for _, cell := range table {
		if cell.Code == round.CodeToBring || cell.System == "case" {
			continue
		}
		wanted = true
		if all++; provided(cell) {
			have++
		}
		if cell.Required {
			required++
		}
		if cell.Lacking() {
			lacks = append(lacks, cell.Item+" on "+orElse(cell.System, "any system"))
		}
	}
	w.Have, w.Text, w.Next = len(lacks) == 0, fmt.Sprintf("%d of %d taken, %d of %d required", have, all, required-len(lacks), required), ""
	if len(lacks) > 0 {
		const shown = 4
		n := len(lacks)
		if n > shown {
			lacks = append(lacks[:shown], fmt.Sprintf("and %d more", n-shown))
		}
		w.Text += "; missing: " + strings.Join(lacks, ", ")
		w.Next = "collect --missing"
	}
	return w, wanted
}

func wantsArchive(v *CaseView) Want {
	w := Want{What: "archive"}
	switch v.State {
	case CasePacked:
		w.Text, w.Next = v.Archives[len(v.Archives)-1].Name+", not sent", "submit"
	case CaseSent:
		x := v.Archives[len(v.Archives)-1]
		w.Have, w.Text = true, x.Name+", sent over "+v.lastSent(x.SHA256).Route
	case CaseCollected:
		w.Text, w.Next = "not packed", "pack"
	default:
		w.Text, w.Next = "nothing to pack yet", "collect"
	}
	return w
}
