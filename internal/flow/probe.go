package flow

import (
	"context"
	"errors"
	"fmt"

	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
)

// Probed is what a probe found out.
type Probed struct {
	Systems  []collect.Probed
	Items    bool             // the items were looked at; an ask that is not approved is not
	Coverage collect.Coverage // what a collection would come to
	Price    Price
	Free     int64 // bytes free for the case; -1 when it is not known
}

// Probe tries to reach the systems of a case and reads their clocks. Of an approved ask it also looks whether the items' files
// can be read and their commands are there.
func (a *App) Probe(ctx context.Context, c *casefile.Case, q CollectRequest) (*Probed, error) {
	k, s, err := CaseFiles(c)
	if err != nil {
		return nil, err
	}
	req := collect.Request{Ask: k, Site: s, Window: c.Window, Depth: q.Depth, Systems: q.Systems, Roles: q.Roles, Items: q.Items, Jobs: q.Jobs}
	if err := req.Check(); err != nil {
		return nil, &fault.Error{Class: fault.Usage, Op: "probe", Err: err}
	}
	_, approved, err := a.Sheet(k)
	if err != nil {
		return nil, err
	}
	d, err := a.Dialer(s, q.Accept)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	col := &collect.Collector{Request: req, Open: d.Open}
	systems, plan, entries, err := col.Probe(ctx, approved)
	if errors.Is(err, context.Canceled) {
		return nil, &fault.Error{Class: fault.Interrupted, Op: "probe", Err: errors.New("interrupted")}
	}
	if err != nil {
		return nil, fault.Wrap("probe", "", err)
	}
	out := &Probed{Systems: systems, Items: approved, Coverage: plan, Price: priceOf(entries, col.Rates(), a.Now()), Free: freeSpace(c.Dir)}
	return out, out.verdict()
}

// verdict says what would be lacking.
func (p *Probed) verdict() error {
	lost, lack := 0, 0
	for _, s := range p.Systems {
		if !s.Reached {
			lost++
		}
	}
	if p.Items {
		for _, c := range p.Coverage.Lacking() {
			if !c.NotChosen() && c.State != collect.Empty {
				lack++
			}
		}
	}
	switch {
	case lost == 1 && len(p.Systems) == 1 && p.Systems[0].State == collect.Refused:
		return fault.New(fault.Refused, "probe", p.Systems[0].System, p.Systems[0].Reason, "")
	case lost > 0:
		return fault.New(fault.Incomplete, "", "", fmt.Sprintf("%d of %d systems cannot be reached; the table above says why", lost, len(p.Systems)), "")
	case lack > 0:
		return fault.New(fault.Incomplete, "", "", fmt.Sprintf("%d required %s would be missing; see above", lack, plural(lack, "item", "items")), "")
	}
	return nil
}
