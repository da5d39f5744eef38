package flow

import (
	"fmt"
	"slices"
	"strings"

	"envask/internal/casefile"
	"envask/internal/posix"
)

// Standing says where a case stands.
type Standing struct {
	Case  string   `json:"case"`
	State State    `json:"state"`
	Lines []string `json:"lines"`
	Next  []string `json:"next"` // the arguments of envask that come next, the likeliest first
}

// Standing says where a case stands and what comes next: computed from the ledger, the rounds and the approvals.
func (a *App) Standing(c *casefile.Case) (*Standing, error) {
	v, err := a.ShowCase(c)
	if err != nil {
		return nil, err
	}
	s := &Standing{Case: v.Name, State: v.State}
	s.Lines = append(s.Lines, fmt.Sprintf("%s, window %s", v.Vendor, v.Window))
	if v.Damage != nil {
		s.Lines = append(s.Lines, fmt.Sprintf("the ledger is damaged from record %d on: %s", v.Damage.Record, v.Damage.Why))
		s.Next = append(s.Next, "repair")
		return s, nil
	}
	if len(v.Pending) > 0 {
		s.Lines = append(s.Lines, fmt.Sprintf("%d %s on systems not undone", len(v.Pending),
			plural(len(v.Pending), "change is", "changes are")))
		s.Next = append(s.Next, "tidy")
	}
	todo, err := a.ToDos(c)
	if err != nil {
		return nil, err
	}
	open := slices.DeleteFunc(slices.Clone(todo), func(t ToDo) bool { return !t.Open })
	switch v.State {
	case CaseOpen:
		return s, a.standsOpen(c, s)
	case CaseUnfinished:
		s.Lines = append(s.Lines, "round "+v.Rounds[len(v.Rounds)-1].ID+" is unfinished; it is resumed")
		s.Next = append(s.Next, "collect")
		return s, nil
	case CaseCollected:
		s.collected(v)
		s.lacks(v, open)
		s.Next = append(s.Next, "pack")
	case CasePacked:
		x := v.Archives[len(v.Archives)-1]
		s.collected(v)
		s.Lines = append(s.Lines, fmt.Sprintf("packed: %s, %s, not sent", x.Name, sizeText(x.Size)))
		s.lacks(v, open)
		s.Next = append(s.Next, "review", "submit")
	case CaseSent:
		x := v.Archives[len(v.Archives)-1]
		sent := v.lastSent(x.SHA256)
		s.Lines = append(s.Lines, fmt.Sprintf("sent: %s, over %s on %s", x.Name, sent.Route,
			sent.Finished.In(c.Window.Zone).Format("2006-01-02 15:04")))
		if !sent.Settled() {
			s.Lines = append(s.Lines, "that all of it arrived is not proved yet")
		}
		s.lacks(v, open)
		s.Next = append(s.Next, "tidy", "add --reply FILE")
	}
	return s, nil
}

// standsOpen says what comes before a first round.
func (a *App) standsOpen(c *casefile.Case, s *Standing) error {
	s.Lines = append(s.Lines, "nothing was collected yet")
	k, _, err := CaseFiles(c)
	if err != nil {
		return err
	}
	_, approved, err := a.Sheet(k)
	if err != nil {
		return err
	}
	if !approved {
		s.Lines = append(s.Lines, "the ask "+k.Name+" is not approved yet")
		s.Next = append(s.Next, "ask approve "+posix.Plain(c.Ask))
	}
	s.Next = append(s.Next, "probe", "collect --dry-run", "collect")
	return nil
}

func (s *Standing) collected(v *CaseView) {
	r := v.Rounds[len(v.Rounds)-1]
	s.Lines = append(s.Lines, fmt.Sprintf("collected: round %s, %d files, %s", r.ID, r.Files, sizeText(r.Bytes)))
}

// lacks says what the case lacks, and the commands that bring it.
func (s *Standing) lacks(v *CaseView, open []ToDo) {
	const shown = 5
	if n := len(v.Lacking); n > 0 {
		list := v.Lacking
		if n > shown {
			list = append(slices.Clone(list[:shown]), fmt.Sprintf("and %d more", n-shown))
		}
		s.Lines = append(s.Lines, "lacks: "+strings.Join(list, "; "))
		s.Next = append(s.Next, "collect --missing")
	}
	if len(open) > 0 {
		var what []string
		for _, t := range open {
			what = append(what, t.Item)
		}
		s.Lines = append(s.Lines, "still to be brought by a person: "+strings.Join(slices.Compact(what), ", "))
		s.Next = append(s.Next, "show --todo")
	}
}
