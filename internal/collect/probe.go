package collect

import (
	"context"
	"sync"

	"golang.org/x/sync/errgroup"
)

// Probed is what trying a system beforehand told.
type Probed struct {
	System  string `json:"system"`
	Reached bool   `json:"reached"`
	State   State  `json:"state"` // "taken" when it was reached, else why not, as in a coverage table
	Reason  string `json:"reason,omitempty"`
	Clock   *Clock `json:"clock,omitempty"`
}

// Probe reaches the chosen systems, many at once, and reads their clocks. With items it also looks whether each item's
// files can be read and its commands are there: then plan and entries are as of a dry run. Nothing is taken.
func (c *Collector) Probe(ctx context.Context, items bool) (systems []Probed, plan Coverage, entries []Entry, err error) {
	plan = c.Plan()
	var mu sync.Mutex
	byName := map[string]Probed{}
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(max(1, c.Jobs))
	for i := range c.Site.Systems {
		s := &c.Site.Systems[i]
		if !c.chosen(s) {
			continue
		}
		g.Go(func() error {
			defer c.event(Event{Kind: SystemDone, System: s.Name})
			p := Probed{System: s.Name, State: Taken}
			var found []Entry
			target, err := c.reach(inner, s)
			if err != nil {
				p.State, p.Reason = unreachable(err)
				for i := range plan {
					if cell := &plan[i]; cell.System == s.Name && cell.State == "" {
						cell.State, cell.Reason = p.State, "the system cannot be reached"
					}
				}
			} else {
				defer target.Close()
				p.Reached, p.Clock = true, readClock(inner, s, c.Site, target)
				c.clocks.put(p.Clock)
				if items {
					found, _ = c.dryOn(inner, s, target, plan, true) // it fails with the context alone, which is seen below
				}
			}
			mu.Lock()
			byName[s.Name] = p
			entries = append(entries, found...)
			mu.Unlock()
			if inner.Err() != nil {
				return inner.Err()
			}
			return nil
		})
	}
	err = g.Wait()
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	for i := range c.Site.Systems {
		if p, ok := byName[c.Site.Systems[i].Name]; ok {
			systems = append(systems, p)
		}
	}
	sortEntries(entries)
	return systems, plan, entries, err
}
