package collect

import (
	"context"
	"sync"

	"envask/internal/collect/transfer"
	"envask/internal/device"
	"envask/internal/fault"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"

	"golang.org/x/sync/errgroup"
)

// Probed is what trying a system beforehand told.
type Probed struct {
	System  string       `json:"system"`
	Reached bool         `json:"reached"`
	State   round.State  `json:"state"` // "taken" when it was reached, else why not, as in a coverage table
	Reason  string       `json:"reason,omitempty"`
	Code    round.Code   `json:"code,omitempty"` // why it was not reached
	Clock   *round.Clock `json:"clock,omitempty"`
	Way     string       `json:"way,omitempty"`       // by which it was reached
	Means   string       `json:"means,omitempty"`     // how its files are read
	After   string       `json:"after,omitempty"`     // why the ways before did not serve
	Tried   string       `json:"tried,omitempty"`     // how a device answered a command that does no harm
	Elevate string       `json:"elevation,omitempty"` // "works", or why not; "" where the systems file names none
}

// Probe reaches the chosen systems, many at once, and reads their clocks. With items it also looks whether each item's
// files can be read and its commands are there: then plan and entries are as of a dry run. Nothing is taken.
func (c *Collector) Probe(ctx context.Context, items bool) (systems []Probed, plan round.Coverage, entries []round.Entry, err error) {
	plan = c.Plan()
	open := openCells(plan)
	var mu sync.Mutex
	byName := map[string]Probed{}
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(max(1, c.Jobs))
	for i := range c.Site.Systems {
		s := &c.Site.Systems[i]
		if !c.chosen(s) {
			continue
		}
		cells := open[s.Name]
		g.Go(func() error {
			defer c.event(Event{Kind: SystemDone, System: s.Name})
			p := Probed{System: s.Name, State: round.Taken}
			var found []round.Entry
			target, err := c.reach(inner, s)
			if err != nil {
				p.State, p.Code, p.Reason = unreachable(err)
				for _, cell := range cells {
					cell.State, cell.Code, cell.Reason = p.State, p.Code, "the system cannot be reached"
				}
			} else {
				defer target.Close()
				p.look(inner, s, target)
				p.Reached, p.Clock = true, readClock(inner, s, c.Site, target)
				c.clocks.put(p.Clock)
				if items {
					_ = c.askFellows(inner, nil, s, target) // nothing is written here
				}
				if items {
					// It fails with the context, which is seen below, or by a mistake of ours.
					if err := fault.Safely(func() error { found, _ = c.dryOn(inner, s, target, cells, true); return nil }); err != nil {
						p.State, p.Reason = round.Failed, err.Error()
					}
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
	round.Sort(entries)
	return systems, plan, entries, err
}

// look finds out by which way a system was reached, and whether its account can get more rights.
func (p *Probed) look(ctx context.Context, s *site.System, target reach.System) {
	if v, ok := target.(reach.Serving); ok {
		served := v.Served()
		p.Way, p.Means, p.After = served.Way, served.Means, served.After
	}
	p.tryDevice(ctx, target)
	e, ok := target.(reach.Elevator)
	switch {
	case s.Elevate == "":
	case !ok:
		p.Elevate = "it cannot run commands"
	default:
		p.Elevate = "works"
		if err := e.TryElevation(ctx); err != nil {
			p.Elevate = transfer.Plain(err)
		}
	}
}

// tryDevice types the command that does no harm, where the description of a device names one.
func (p *Probed) tryDevice(ctx context.Context, target reach.System) {
	typist, ok := target.(reach.Typist)
	if !ok || typist.Description().Try == "" {
		return
	}
	p.Tried = "answered"
	if _, err := perform(ctx, target, device.Step{Type: typist.Description().Try}, nil); err != nil {
		p.Tried = transfer.Plain(err)
	}
}
