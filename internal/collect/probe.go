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

// Probe reaches the chosen systems, many at once, and reads their clocks. Nothing is taken from them.
func (c *Collector) Probe(ctx context.Context) ([]Probed, error) {
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
			p := Probed{System: s.Name, State: Taken}
			target, err := c.reach(inner, s)
			if err != nil {
				p.State, p.Reason = unreachable(err)
			} else {
				defer target.Close()
				p.Reached, p.Clock = true, readClock(inner, s, c.Site, target)
			}
			mu.Lock()
			byName[s.Name] = p
			mu.Unlock()
			c.event(Event{Kind: SystemDone, System: s.Name})
			return inner.Err()
		})
	}
	err := g.Wait()
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	var out []Probed
	for i := range c.Site.Systems {
		if p, ok := byName[c.Site.Systems[i].Name]; ok {
			out = append(out, p)
		}
	}
	return out, err
}
