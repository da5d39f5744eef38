package collect

import (
	"context"
	"errors"
	"fmt"
	"hash/maphash"
	"slices"
	"sync/atomic"
	"time"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/fault"
	"envask/internal/patience"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
)

// cellTries is how often an item is begun where the connection breaks in its middle, and nothing comes on meanwhile; each try
// goes on where the last one stopped. progress is how many bytes count as coming on.
const (
	cellTries = 3
	progress  = 1 << 20
)

// DefaultPauses are the times between tries of what may heal.
var DefaultPauses = patience.Steps{500 * time.Millisecond, 2 * time.Second}

var (
	errSystemTime = errors.New("the time limit of the system is over")
	errWithin     = errors.New("the time for the whole collection is over")
)

// visit takes the items of one system. What happens to the system is in its cells; only our own failures and an
// interruption are errors.
type visit struct {
	c       *Collector
	round   *round.Round
	sys     *site.System
	had     state
	done    map[string]*done // by item: what is there already
	from    map[string]int64 // by item: how long the log was when it was begun
	facts   facts
	target  reach.System
	unhook  func() bool // takes back that the end of the context closes the connection
	gone    error       // why the system cannot be reached any more
	budget  *budget
	claims  *claims
	moved   atomic.Int64                // bytes that came
	altered atomic.Bool                 // something is changed on it that must be changed back
	settled bool                        // what an earlier run left was looked at
	again   map[string]map[string]again // by item and source: where what was taken stands on the system
}

func (c *Collector) visit(ctx context.Context, r *round.Round, s *site.System, cells []*round.Cell, had state, order *order) error {
	defer c.event(Event{Kind: SystemDone, System: s.Name})
	v := &visit{c: c, round: r, sys: s, had: had, done: map[string]*done{}, from: map[string]int64{},
		again: map[string]map[string]again{}, budget: newBudget(s.Limits.Bytes), claims: newClaims(r)}
	if held := had.claims[s.Name]; held != nil {
		v.claims = held
	}
	for k, d := range had.done {
		if k[0] == s.Name && c.item(k[1]).Together == "" { // what belongs together is read at one time
			v.done[k[1]] = d
			v.budget.spend(d.bytes)
		}
	}
	defer v.leave()
	inner, cancel := c.bounded(ctx, s)
	defer cancel()
	if len(cells) == 0 { // an earlier run took all of it, and left something to be changed back
		return v.arrive(ctx, inner)
	}
	for rest := c.inOrder(cells); len(rest) > 0; {
		cell, others, err := order.next(ctx, rest)
		if err == nil {
			err = v.take(ctx, inner, cell)
		}
		if err != nil {
			return err
		}
		order.finished(cell)
		rest = others
	}
	return v.settleGroups(ctx, inner, cells)
}

// bounded gives a context that ends with the time limits.
func (c *Collector) bounded(ctx context.Context, s *site.System) (context.Context, context.CancelFunc) {
	cancel := func() {}
	if s.Limits.Time > 0 {
		ctx, cancel = c.Patience.WithTimeout(ctx, s.Limits.Time, errSystemTime)
	}
	if c.within == nil {
		return ctx, cancel
	}
	ctx, second := context.WithCancelCause(ctx)
	stop := context.AfterFunc(c.within, func() { second(context.Cause(c.within)) })
	return ctx, func() { stop(); second(context.Canceled); cancel() }
}

// event passes an event on and counts what came.
func (v *visit) event(e Event) {
	if e.Kind == Progress {
		v.moved.Add(e.Bytes)
	}
	v.c.event(e)
}

// inOrder gives the order in which items are taken: first the system's state and what is volatile; where the time is short,
// then what is required.
func (c *Collector) inOrder(cells []*round.Cell) []*round.Cell {
	rank := func(cell *round.Cell) int {
		switch it := c.item(cell.Item); {
		case it.ID == ask.Vitals:
			return 0
		case it.Volatile:
			return 1
		case c.Within > 0 && it.Required:
			return 2
		}
		return 3
	}
	out := slices.Clone(cells)
	slices.SortStableFunc(out, func(a, b *round.Cell) int { return rank(a) - rank(b) })
	return out
}

// item gives an item of the ask, or the one that every ask has.
func (c *Collector) item(id string) *ask.Item {
	if it := c.Ask.Item(id); it != nil {
		return it
	}
	return c.Ask.VitalsItem()
}

func (v *visit) leave() {
	if v.target != nil {
		v.unhook()
		v.target.Close()
		v.target = nil
	}
}

// take takes one item, with more tries where the connection breaks. ctx ends when the engineer interrupts, inner also when
// a time limit is over.
func (v *visit) take(ctx, inner context.Context, cell *round.Cell) error {
	c := v.c
	for try := 1; ; try++ {
		before := v.moved.Load()
		if err := v.arrive(ctx, inner); err != nil {
			return err
		}
		if cause := over(ctx, inner); cause != nil {
			cell.State, cell.Code, cell.Reason = outOfTime(cause)
			return c.finishCell(v.round, cell)
		}
		if v.gone != nil {
			cell.State, cell.Code, cell.Reason = unreachable(v.gone)
			return c.finishCell(v.round, cell)
		}
		c.event(Event{Kind: ItemStart, System: v.sys.Name, Item: cell.Item})
		begun := time.Now()
		broke, err := v.takeCell(ctx, inner, cell)
		if err != nil {
			return err
		}
		cell.Took += time.Since(begun).Round(time.Millisecond)
		if lost(v.target) != nil { // once more for the next item; if that fails, the rest is not there
			v.leave()
		}
		if v.moved.Load()-before >= progress {
			try = 1 // a bad link, but it comes on
		}
		if broke == nil || try == cellTries || over(ctx, inner) != nil {
			return c.finishCell(v.round, cell)
		}
		if err := c.pause(ctx, v.sys, try, broke); err != nil {
			return err
		}
	}
}

// over gives the time limit that is over, where one is; an interruption is none.
func over(ctx, inner context.Context) error {
	if ctx.Err() == nil && inner.Err() != nil {
		return context.Cause(inner)
	}
	return nil
}

// outOfTime says in which state a time limit leaves an item that was not begun.
func outOfTime(cause error) (round.State, round.Code, string) {
	if errors.Is(cause, errWithin) {
		return round.Skipped, round.CodeNotBegun, "not begun: " + cause.Error()
	}
	return round.TimedOut, round.CodeNotBegun, "not begun: " + cause.Error()
}

// pause waits before the next try.
func (c *Collector) pause(ctx context.Context, s *site.System, try int, why error) error {
	pauses := c.Pauses
	if pauses == nil {
		pauses = DefaultPauses
	}
	_, _, reason := unreachable(why)
	c.event(Event{Kind: Retrying, System: s.Name, Reason: reason, Took: pauses.At(try)})
	return pauses.Wait(ctx, try)
}

// arrive reaches the system, unless it is reached already, and reads its clock.
func (v *visit) arrive(ctx, inner context.Context) error {
	c := v.c
	for try := 1; v.target == nil && v.gone == nil && inner.Err() == nil; try++ {
		v.target, v.gone = c.reach(inner, v.sys)
		if t := v.target; v.gone == nil { // nothing waits for an answer once the collection is over
			v.unhook = context.AfterFunc(inner, func() {
				if !v.altered.Load() {
					t.Close()
				}
			})
		}
		if v.gone == nil || try > len(DefaultPauses) || !reach.MayHeal(v.gone) || silent(v.gone) || inner.Err() != nil {
			break
		}
		if err := c.pause(ctx, v.sys, try, v.gone); err != nil {
			return err
		}
		v.gone = nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if v.gone != nil || inner.Err() != nil {
		return nil
	}
	if err := c.placeOf(v.round, v.sys, v.target, v.had); err != nil {
		return err
	}
	if err := v.putBackOld(inner); err != nil {
		return err
	}
	err := c.clockOf(inner, v.round, v.sys, v.target, v.had)
	if over(ctx, inner) != nil {
		return nil
	}
	if err != nil {
		return err
	}
	return c.askFellows(inner, v.round, v.sys, v.target)
}

// clockOf reads a system's clock, once in a round.
func (c *Collector) clockOf(ctx context.Context, r *round.Round, s *site.System, target reach.System, had state) error {
	if c.clocks.get(s.Name) != nil {
		return nil
	}
	if old, ok := had.clocks[s.Name]; ok {
		restoreZone(ctx, &old, s, c.Site, target)
		c.clocks.put(&old)
		return nil
	}
	k := readClock(ctx, s, c.Site, target)
	if err := ctx.Err(); err != nil {
		return err
	}
	c.clocks.put(k)
	c.event(Event{Kind: ClockRead, System: s.Name, Clock: k})
	if r == nil {
		return nil
	}
	if _, err := r.Record(round.Line{Clock: k}); err != nil {
		return &transfer.LocalError{Err: err}
	}
	return nil
}

func (c *Collector) reach(ctx context.Context, s *site.System) (reach.System, error) {
	c.event(Event{Kind: Connecting, System: s.Name})
	target, err := c.Open(ctx, s)
	if err != nil {
		return nil, err
	}
	e := Event{Kind: Connected, System: s.Name}
	if v, ok := target.(reach.Serving); ok {
		served := v.Served()
		e.Served = &served
	}
	c.event(e)
	return target, nil
}

// unreachable says in which state a system that cannot be reached leaves an item.
func unreachable(err error) (round.State, round.Code, string) {
	reason := err.Error()
	var f *fault.Error
	if errors.As(err, &f) {
		reason = f.Err.Error() // the table names the system already
	}
	if hint := fault.HintOf(err); hint != "" {
		reason += "; " + hint
	}
	switch {
	case errors.Is(err, reach.ErrHostKey):
		return round.Refused, round.CodeHostKey, reason
	case errors.Is(err, reach.ErrLogin):
		return round.Denied, round.CodeLogin, reason
	case silent(err):
		return round.TimedOut, round.CodeSilent, reason
	}
	return round.Failed, round.CodeUnreachable, reason
}

func (c *Collector) finishCell(r *round.Round, cell *round.Cell) error {
	r.Bound(cell)
	if _, err := r.Record(round.Line{Cell: cell}); err != nil {
		return &transfer.LocalError{Err: err}
	}
	c.event(Event{Kind: CellDone, System: cell.System, Item: cell.Item, Cell: cell})
	return nil
}

// takeCell takes one item. broke is set when the connection was lost in its middle.
func (v *visit) takeCell(ctx, inner context.Context, cell *round.Cell) (broke, err error) {
	c := v.c
	item := c.item(cell.Item)
	w := &work{req: &c.Request, sys: v.sys, item: item, target: v.target, round: v.round, report: v.event, parts: &c.parts,
		claims: v.claims, rates: &c.rates, clock: c.clocks.get(v.sys.Name),
		done: v.done[item.ID], tally: round.NewTally(item), seen: map[uint64]struct{}{}, budget: v.budget,
		changes: c.changes, facts: &v.facts, inbox: c.Inbox}
	w.fellows = func(ctx context.Context, spec *ask.Members) *round.Members {
		return c.fellows(ctx, v.sys, v.target, spec)
	}
	if _, begun := v.from[item.ID]; !begun {
		v.from[item.ID] = v.round.Length()
	}
	*cell = round.Cell{System: cell.System, Item: cell.Item, Required: cell.Required, Took: cell.Took, Unmet: unmet(inner, w)}
	if len(cell.Unmet) == 0 || item.Spec.Kind() == "files" { // what files hold may do all the same
		err = fault.Safely(func() error { return v.takeChanged(inner, w) })
	} else {
		w.add(round.Entry{Source: cell.Unmet[0], State: round.Missing, Reason: "not taken, since it would yield nothing"})
	}
	if kept := errors.Join(w.keepVanished(), v.keep(w, err)); kept != nil {
		return nil, &transfer.LocalError{Err: kept}
	}
	*cell = w.tally.Fill(*cell)
	var local *transfer.LocalError
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case errors.As(err, &local):
		return nil, err
	case over(ctx, inner) != nil:
		cell.State, cell.Code, cell.Reason = round.TimedOut, round.CodeTimeLimit, round.Join("stopped: "+over(ctx, inner).Error(),
			fmt.Sprintf("%d files were taken before", cell.Files))
	case errors.Is(err, reach.ErrLost):
		cell.State, cell.Code, cell.Reason = stateOf(err), round.CodeLost, round.Join(err.Error(),
			fmt.Sprintf("%d files were taken before", cell.Files))
		return err, nil
	case err != nil:
		cell.State, cell.Code, cell.Reason = stateOf(err), round.CodeBroken, transfer.Plain(err)
	}
	unmetReason(cell, item)
	return nil, nil
}

// keep remembers what was taken: for the next try where the connection broke, and for the second reading of a group.
func (v *visit) keep(w *work, broke error) (err error) {
	v.again[w.item.ID] = w.again
	if broke == nil && w.item.Together == "" {
		return nil
	}
	since, err := doneSince(v.round, v.from[w.item.ID], v.sys.Name, w.item.ID)
	if err != nil {
		return err
	}
	had := v.done[w.item.ID]
	if had == nil {
		v.done[w.item.ID] = since
		return nil
	}
	return since.each(func(e *round.Entry) error {
		had.at[maphash.String(had.seed, e.Source)] = since.at[maphash.String(since.seed, e.Source)]
		return nil
	})
}

func takeByKind(ctx context.Context, w *work) error {
	for _, k := range kinds {
		if k.Key == w.item.Spec.Kind() {
			return k.Take(ctx, w)
		}
	}
	return fmt.Errorf("%q is no kind of item", w.item.Spec.Kind())
}
