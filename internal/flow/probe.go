package flow

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/round"
)

// Probed is what a probe found out.
type Probed struct {
	Systems  []collect.Probed
	Items    bool            // the items were looked at; an ask that is not approved is not
	Coverage round.Coverage  // what a collection would come to
	Held     []round.Entry   // what devices hold already, for items that would ask for it anew
	Members  []round.Members // what systems said about their fellows
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
	req, err := a.request(c, k, s, q)
	if err != nil {
		return nil, err
	}
	_, approved, err := a.Sheet(k)
	if err != nil {
		return nil, err
	}
	if approved { // else nothing of the ask is typed
		if err := describe(s, k); err != nil {
			return nil, err
		}
	}
	d, err := a.Dialer(s, q.Accept)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	col := &collect.Collector{Request: req, Patience: a.Patience, Open: d.Open}
	systems, plan, entries, err := col.Probe(ctx, approved)
	if errors.Is(err, context.Canceled) {
		return nil, &fault.Error{Class: fault.Interrupted, Op: "probe", Err: errors.New("interrupted")}
	}
	if err != nil {
		return nil, fault.Wrap("probe", "", err)
	}
	out := &Probed{Systems: systems, Items: approved, Coverage: plan, Members: col.Members(),
		Price: priceOf(entries, col.Rates(), a.Now()), Free: freeSpace(c.Dir)}
	for _, e := range entries {
		if e.Special && e.State == round.Taken {
			out.Held = append(out.Held, e)
		}
	}
	return out, out.verdict()
}

// verdict counts the systems that cannot be reached and the required items that would be missing; of an ask that is not approved only the
// systems are known.
func (p *Probed) verdict() error {
	lost, lack := 0, 0
	for _, s := range p.Systems {
		if !s.Reached {
			lost++
		}
	}
	if p.Items {
		for _, c := range p.Coverage.Lacking() {
			if !c.NotChosen() && (c.State != round.Empty || len(c.Unmet) > 0) {
				lack++
			}
		}
	}
	switch {
	case lost == 1 && len(p.Systems) == 1 && p.Systems[0].State == round.Refused:
		return fault.New(fault.Refused, "probe", p.Systems[0].System, p.Systems[0].Reason, "")
	case lost+lack == 0:
		return nil
	}
	var say []string
	if lost > 0 {
		say = append(say, fmt.Sprintf("%d of %d systems cannot be reached", lost, len(p.Systems)))
	}
	if lack > 0 {
		say = append(say, fmt.Sprintf("%d required %s would be missing", lack, plural(lack, "item", "items")))
	}
	return fault.New(fault.Incomplete, "", "", strings.Join(say, ", ")+"; see above", "")
}
