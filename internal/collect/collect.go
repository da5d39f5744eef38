package collect

import (
	"context"
	"errors"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/collect/transfer"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/inbox"
	"envask/internal/patience"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/undo"
)

// EventKind says what an event is about.
type EventKind string

// What happens during a collection.
const (
	Connecting  EventKind = "connecting" // a system is being reached
	Connected   EventKind = "connected"
	ItemStart   EventKind = "item"         // an item begins
	ItemSize    EventKind = "item-size"    // Files says how many files or commands it has
	Progress    EventKind = "progress"     // Bytes more have arrived
	FileDone    EventKind = "file"         // Entry is done
	CellDone    EventKind = "cell"         // Cell is done
	ClockRead   EventKind = "clock"        // Clock is what was found out about a system's time
	SystemDone  EventKind = "system"       // nothing more comes from this system
	Retrying    EventKind = "retrying"     // the connection broke; it is tried again after a while. Reason says why
	Waiting     EventKind = "waiting"      // a command on the system is waited for; Took says how long already
	PuttingBack EventKind = "putting-back" // a change that an earlier run left was taken back; Reason says why not
	Resuming    EventKind = "resuming"     // an unfinished round is resumed; Files are already collected
)

// Event is one step of a collection. Events come from many goroutines, but one at a time.
type Event struct {
	Kind   EventKind
	System string
	Item   string
	Files  int
	Bytes  int64
	Entry  *round.Entry
	Cell   *round.Cell
	Clock  *round.Clock
	Served *reach.Served
	Reason string
	Took   time.Duration
}

// Collector runs requests. Open reaches a system; Report may be nil.
type Collector struct {
	Request
	Open   func(ctx context.Context, s *site.System) (reach.System, error)
	Report func(Event)
	Inbox  *inbox.Exchange    // for what devices push while a command runs; nil receives nothing
	Begun  func(*round.Round) // is told which round it is, before anything is taken; nil is allowed

	// Patience stands still while a person is asked; nil never does.
	Patience *patience.Clock

	// Pauses are the times between tries where the connection broke; nil means those of DefaultPauses.
	Pauses patience.Steps

	reportMu sync.Mutex
	parts    atomic.Int64
	clocks   clocks
	rates    rates
	changes  undo.Log
	places   places
	members  members
	within   context.Context // ends with the time for the whole round; nil is no limit
}

func (c *Collector) event(e Event) {
	if c.Report == nil {
		return
	}
	c.reportMu.Lock()
	defer c.reportMu.Unlock()
	c.Report(e)
}

// Ledger record kinds.
const (
	KindRoundBegun    = "round-begun"
	KindRoundResumed  = "round-resumed"
	KindRoundFinished = "round-finished"
)

type begun struct {
	Round string `json:"round"`
	Note  string `json:"note,omitempty"`
	Ask   string `json:"ask_sha256"`
	By    string `json:"by"`
}

// finished vouches for a round: what there is of each system stands in the round itself, and the ledger holds the digests of it, so
// that its records stay short however many systems there are.
type finished struct {
	Round   string              `json:"round"`
	Files   int                 `json:"files"`
	Bytes   int64               `json:"bytes"`
	Lacking int                 `json:"lacking"`
	Cells   map[round.State]int `json:"cells"`
	Entries string              `json:"entries_sha256"` // of the round's log
	Facts   string              `json:"facts_sha256"`   // of clocks, ways, groups and coverage, see Round.facts
}

// Run collects into the case: it goes on with the last round if that is unfinished and asks for the same, else begins a
// new one. The error is set only when the round could not be finished; what could not be taken is in the coverage.
func (c *Collector) Run(ctx context.Context, w *casefile.Writer, note, by string) (*round.Round, error) {
	rounds, err := round.List(w.Case)
	if err != nil {
		return nil, err
	}
	number, kindOf := 1, KindRoundBegun
	var r *round.Round
	if n := len(rounds); n > 0 {
		last := rounds[n-1]
		number = last.Number() + 1
		if c.goesOn(last) {
			r, kindOf = last, KindRoundResumed
		}
	}
	if r == nil {
		r = c.Request.newRound(w.Case, number, note)
	}
	c.changes = undo.Log{Ledger: w.Ledger}
	if c.Within > 0 {
		var cancel context.CancelFunc
		c.within, cancel = c.Patience.WithTimeout(ctx, c.Within, errWithin)
		defer cancel()
	}
	if err := w.Ledger.Append(kindOf, begun{Round: r.ID, Note: r.Note, Ask: c.Ask.Digest, By: by}); err != nil {
		return nil, err
	}
	if err := errors.Join(os.MkdirAll(r.Dir(), 0o700), r.Save()); err != nil {
		return nil, &transfer.LocalError{Err: err}
	}
	if c.Begun != nil {
		c.Begun(r)
	}
	return r, c.fill(ctx, w, r)
}

// goesOn says whether the collection goes on with a round: one that is unfinished and asks for the same.
func (c *Collector) goesOn(last *round.Round) bool {
	return !last.Finished() && (last.Same == c.Fingerprint() || last.Open && last.Base == c.base())
}

// fill takes all cells of a round and closes it.
func (c *Collector) fill(ctx context.Context, w *casefile.Writer, r *round.Round) error {
	err := r.OpenLog()
	if err == nil {
		err = transfer.DropParts(r.PartDir())
	}
	if err != nil {
		return &transfer.LocalError{Err: err}
	}
	had, err := c.resume(r)
	if err != nil {
		return errors.Join(err, r.CloseLog(true))
	}
	plan := c.Plan()
	err = c.take(ctx, r, plan, had)
	if e := r.CloseLog(ctx.Err() == nil); err == nil && e != nil {
		err = &transfer.LocalError{Err: e}
	}
	if err == nil && !c.LeaveOpen {
		if err = r.Arrange(ctx); err != nil && ctx.Err() == nil {
			err = &transfer.LocalError{Err: err}
		}
	}
	if err == nil && durable.RemoveAll(r.PartDir()) != nil {
		err = &transfer.LocalError{Err: errors.New("the folder of what is not whole cannot be removed")}
	}
	if err != nil {
		var local *transfer.LocalError
		if errors.As(err, &local) {
			err = &fault.Error{Op: "collect", Err: err, Hint: "free space or fix the folder, then resume with: envask collect"}
		}
		return err
	}
	brought, err := r.Brought()
	if err != nil {
		return err
	}
	round.FillBrought(c.Ask, plan, brought)
	r.Coverage = plan
	r.Clocks, r.Reached, r.Members = c.clocks.list(c.Site), c.places.list(c.Site), c.members.sorted(c.Site)
	if r.Groups, err = round.CheckGroups(c.Ask, plan, r.Entries); err != nil {
		return err
	}
	if r.Open = c.LeaveOpen; r.Open {
		return r.Save()
	}
	r.Ended = time.Now().UTC().Truncate(time.Second)
	digest, err := r.LogSum()
	if err != nil {
		return err
	}
	files, bytes := plan.Totals()
	facts, err := r.Facts()
	if err != nil {
		return err
	}
	err = w.Ledger.Append(KindRoundFinished, finished{r.ID, files, bytes, len(plan.Lacking()), plan.Count(), digest, facts})
	if err != nil {
		return err
	}
	return r.Save()
}

// state is what an interrupted run of a round left.
type state struct {
	cells  map[[2]string]round.Cell
	done   map[[2]string]*done
	clocks map[string]round.Clock
	places map[string]round.Place
	claims map[string]*claims // by system
}

// resume reads what an interrupted run has: whole cells, and of others the files that are whole.
func (c *Collector) resume(r *round.Round) (state, error) {
	s := state{cells: map[[2]string]round.Cell{}, done: map[[2]string]*done{}, clocks: map[string]round.Clock{},
		places: map[string]round.Place{}, claims: map[string]*claims{}}
	files := 0
	err := r.EachLine(func(l round.Line, at int64) error {
		if e := l.Entry; e != nil && e.Name != "" {
			if s.claims[e.System] == nil {
				s.claims[e.System] = newClaims(r)
			}
			s.claims[e.System].hold(e, at)
		}
		if again := l.System(); slices.Contains(c.Again, again) {
			return nil
		}
		if l.Cell != nil {
			s.cells[[2]string{l.Cell.System, l.Cell.Item}] = *l.Cell
		}
		if l.Clock != nil { // what was measured first holds for the whole round
			if _, ok := s.clocks[l.Clock.System]; !ok {
				s.clocks[l.Clock.System] = *l.Clock
			}
		}
		if l.Members != nil {
			c.members.put(*l.Members)
		}
		if l.Place != nil {
			s.places[l.Place.System] = *l.Place
		}
		if e := l.Entry; e != nil {
			k := [2]string{e.System, e.Item}
			if s.done[k] == nil {
				s.done[k] = newDone(r)
			}
			if s.done[k].hold(e, at) {
				files++
			}
		}
		return nil
	})
	if files > 0 || len(s.cells) > 0 {
		c.event(Event{Kind: Resuming, Files: files})
	}
	return s, err
}

// healed says whether a cell of an interrupted run need not be tried again.
func healed(cell round.Cell) bool {
	return cell.State == round.Taken || cell.State == round.Cut || cell.State == round.Empty
}

// take fills the cells of the plan, many systems at a time.
func (c *Collector) take(ctx context.Context, r *round.Round, plan round.Coverage, had state) error {
	bySystem := map[string][]*round.Cell{}
	c.breakGroups(plan, had)
	for i := range plan {
		cell := &plan[i]
		old, ok := had.cells[[2]string{cell.System, cell.Item}]
		if ok && (healed(old) && cell.State == "" || cell.NotChosen()) { // taken already, or in an earlier pass
			*cell = old
			continue
		}
		if cell.State == "" {
			bySystem[cell.System] = append(bySystem[cell.System], cell)
		}
	}
	owed, err := c.owed()
	if err != nil {
		return err
	}
	g, inner := errgroup.WithContext(ctx) // ends when one system meets a failure of ours
	order := c.newOrder(bySystem)
	for i := range c.Site.Systems {
		s := &c.Site.Systems[i]
		cells := bySystem[s.Name]
		if len(cells) == 0 && !owed[s.Name] {
			continue
		}
		if err := order.enter(inner); err != nil {
			break
		}
		g.Go(func() error {
			defer order.leave()
			return c.visitSafely(inner, r, s, cells, had, order)
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	return ctx.Err()
}

// visitSafely visits a system; a mistake of ours in its middle is the failure of what was not taken of that system.
func (c *Collector) visitSafely(ctx context.Context, r *round.Round, s *site.System, cells []*round.Cell, had state,
	order *order) error {
	defer order.gone(cells)
	err := fault.Safely(func() error { return c.visit(ctx, r, s, cells, had, order) })
	var broken *fault.PanicError
	if !errors.As(err, &broken) {
		return err
	}
	for _, cell := range cells {
		if cell.State == "" {
			cell.State, cell.Code, cell.Reason = round.Failed, round.CodeBroken, err.Error()
			if err := c.finishCell(r, cell); err != nil {
				return err
			}
		}
	}
	return nil
}

// breakGroups makes sure that of items which belong together all are taken again, when an interrupted run left one of them
// undone: they are to be of one state.
func (c *Collector) breakGroups(plan round.Coverage, had state) {
	type group struct{ system, name string }
	broken := map[group]bool{}
	each := func(do func(g group, k [2]string)) {
		for _, cell := range plan {
			if name := c.item(cell.Item).Together; name != "" && cell.State == "" {
				do(group{cell.System, name}, [2]string{cell.System, cell.Item})
			}
		}
	}
	each(func(g group, k [2]string) {
		old, ok := had.cells[k]
		broken[g] = broken[g] || !ok || !healed(old) || old.Together == ""
	})
	each(func(g group, k [2]string) {
		if broken[g] {
			delete(had.cells, k)
		}
	})
}

// DryRun finds out what would be taken, without taking it: the entries hold the sizes on the systems.
func (c *Collector) DryRun(ctx context.Context) (round.Coverage, []round.Entry, error) {
	plan := c.Plan()
	open := openCells(plan)
	var mu sync.Mutex
	var all []round.Entry
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(max(1, c.Jobs))
	for i := range c.Site.Systems {
		s := &c.Site.Systems[i]
		cells := open[s.Name]
		g.Go(func() error {
			var entries []round.Entry
			err := fault.Safely(func() (err error) { entries, err = c.drySystem(ctx, s, cells); return err })
			mu.Lock()
			defer mu.Unlock()
			all = append(all, entries...)
			return err
		})
	}
	err := g.Wait()
	round.Sort(all)
	return plan, all, err
}

// open gives the cells that are still to be filled, by system. It is called before several systems are worked on at once.
func openCells(c round.Coverage) map[string][]*round.Cell {
	out := map[string][]*round.Cell{}
	for i := range c {
		if c[i].State == "" {
			out[c[i].System] = append(out[c[i].System], &c[i])
		}
	}
	return out
}

func (c *Collector) drySystem(ctx context.Context, s *site.System, cells []*round.Cell) ([]round.Entry, error) {
	if len(cells) == 0 || ctx.Err() != nil {
		return nil, ctx.Err()
	}
	defer c.event(Event{Kind: SystemDone, System: s.Name})
	target, gone := c.reach(ctx, s)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if gone != nil {
		for _, cell := range cells {
			cell.State, cell.Code, cell.Reason = unreachable(gone)
		}
		return nil, nil
	}
	defer target.Close()
	if err := c.clockOf(ctx, nil, s, target, state{}); err != nil {
		return nil, err
	}
	return c.dryOn(ctx, s, target, cells, false)
}

// dryOn finds out what would be taken from a system that is reached. probing says that commands are looked for, too.
func (c *Collector) dryOn(ctx context.Context, s *site.System, target reach.System, cells []*round.Cell, probing bool) ([]round.Entry,
	error) {
	var all []round.Entry
	known := &facts{}
	for _, cell := range cells {
		if ctx.Err() != nil {
			return all, ctx.Err()
		}
		w := &work{req: &c.Request, sys: s, item: c.item(cell.Item), target: target, dryRun: true, probing: probing, report: c.event,
			parts: &c.parts, rates: &c.rates, tally: round.NewTally(c.item(cell.Item)), clock: c.clocks.get(s.Name), facts: known}
		w.fellows = func(ctx context.Context, spec *ask.Members) *round.Members { return c.fellows(ctx, s, target, spec) }
		if probing {
			cell.Unmet = unmet(ctx, w)
		}
		err := w.take(ctx)
		*cell = w.tally.Fill(*cell)
		if err != nil {
			cell.State, cell.Code, cell.Reason = stateOf(err), round.CodeBroken, transfer.Plain(err)
		}
		unmetReason(cell, w.item)
		all = append(all, w.entries...)
	}
	return all, ctx.Err()
}
