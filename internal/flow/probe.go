package flow

import (
	"context"
	"errors"
	"fmt"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
)

// Probe tries to reach the systems of a case and reads their clocks. Nothing of the ask runs, so it needs no approval.
func (a *App) Probe(ctx context.Context, c *casefile.Case, q CollectRequest) ([]collect.Probed, error) {
	k, s, err := CaseFiles(c)
	if err != nil {
		return nil, err
	}
	req := collect.Request{Ask: k, Site: s, Window: c.Window, Depth: ask.Standard, Systems: q.Systems, Roles: q.Roles, Jobs: q.Jobs}
	if err := req.Check(); err != nil {
		return nil, &fault.Error{Class: fault.Usage, Op: "probe", Err: err}
	}
	d, err := a.Dialer(s, q.Accept)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	col := &collect.Collector{Request: req, Open: d.Open}
	got, err := col.Probe(ctx)
	if errors.Is(err, context.Canceled) {
		return got, &fault.Error{Class: fault.Interrupted, Op: "probe", Err: errors.New("interrupted")}
	}
	lost := 0
	for _, p := range got {
		if !p.Reached {
			lost++
		}
	}
	switch {
	case err != nil:
		return got, fault.Wrap("probe", "", err)
	case lost == 1 && len(got) == 1 && got[0].State == collect.Refused:
		return got, fault.New(fault.Refused, "probe", got[0].System, got[0].Reason, "")
	case lost > 0:
		return got, fault.New(fault.Incomplete, "", "", fmt.Sprintf("%d of %d systems cannot be reached; the table above says why", lost, len(got)), "")
	}
	return got, nil
}
