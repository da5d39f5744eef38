package flow

import (
	"fmt"
	"strings"

	"envask/internal/fault"
)

// RemoveRequest says what may go with a case.
type RemoveRequest struct {
	Unsent  bool                                // also evidence and archives that were not sent with proof
	Confirm func(question string) (bool, error) // asks for the last yes; nil refuses
}

// RemoveCase removes a case with all that is in it: evidence, archives, receipts, ledger. What was made on systems must be undone
// before, and what was not sent goes only when that is said.
func (a *App) RemoveCase(name string, q RemoveRequest) error {
	c, err := a.Home.Open(name)
	if err != nil || name == "" {
		return fault.New(fault.Usage, "remove the case", name, "there is no such case", "envask cases lists what there is")
	}
	w, err := a.writeToFree(c)
	if err != nil {
		return err
	}
	defer w.Close()
	left, err := a.LeftThere(c)
	if err != nil {
		return err
	}
	if len(left) > 0 {
		return fault.New(fault.Refused, "remove the case", name, fmt.Sprintf("%d %s made for it still there (%s on %s)", len(left),
			plural(len(left), "thing that was is", "things that were are"), left[0].Path, left[0].Where),
			"envask tidy --case "+name+" removes it")
	}
	list, err := a.Discards(c, TidyRequest{Baselines: true})
	if err != nil {
		return err
	}
	var unsent []string
	var bytes int64
	for _, d := range list {
		bytes += d.Bytes
		if d.Unsent {
			unsent = append(unsent, strings.TrimSpace(d.What+" "+d.Round+d.Name))
		}
	}
	if len(unsent) > 0 && !q.Unsent {
		return fault.New(fault.Refused, "remove the case", name, "not sent with proof: "+strings.Join(unsent, ", "),
			"send it, or give --unsent")
	}
	if q.Confirm == nil {
		return fault.New(fault.Usage, "remove the case", name, "no terminal to ask whether it is to go", "give --for-good")
	}
	yes, err := q.Confirm(fmt.Sprintf("Remove case %s with its evidence, archives, receipts and ledger (%s)? It does not come back.", name,
		sizeText(bytes)))
	if err != nil {
		return err
	}
	if !yes {
		return fault.New(fault.Usage, "remove the case", name, "nothing was removed", "")
	}
	return fault.Wrap("remove the case", name, a.Home.Remove(c))
}
