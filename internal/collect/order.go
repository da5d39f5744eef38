package collect

import (
	"context"
	"sync"

	"envask/internal/round"
)

// order lets items wait for others: on all their systems. What waits gives its seat to another system, so that however few systems are
// visited at a time, none waits for one that cannot begin.
type order struct {
	after func(item string) []string

	mu      sync.Mutex
	open    map[string]int       // by item: on how many systems it is not finished
	counted map[*round.Cell]bool // cells of open
	changed chan struct{}        // is closed when something is finished
	seats   chan struct{}
}

// newOrder makes the order of what is to be taken.
func (c *Collector) newOrder(bySystem map[string][]*round.Cell) *order {
	o := &order{after: func(item string) []string { return c.item(item).After }, open: map[string]int{}, counted: map[*round.Cell]bool{},
		changed: make(chan struct{}), seats: make(chan struct{}, max(1, c.Jobs))}
	for _, cells := range bySystem {
		for _, cell := range cells {
			o.open[cell.Item]++
			o.counted[cell] = true
		}
	}
	return o
}

// enter takes a seat: so many systems are visited at a time.
func (o *order) enter(ctx context.Context) error {
	select {
	case o.seats <- struct{}{}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (o *order) leave() { <-o.seats }

// finished notes that an item is finished on a system.
func (o *order) finished(cell *round.Cell) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if !o.counted[cell] {
		return
	}
	delete(o.counted, cell)
	if o.open[cell.Item]--; o.open[cell.Item] == 0 {
		close(o.changed)
		o.changed = make(chan struct{})
	}
}

// gone notes that a system is left: nobody waits for it any more.
func (o *order) gone(cells []*round.Cell) {
	for _, cell := range cells {
		o.finished(cell)
	}
}

// ready reports whether nothing is waited for, or gives what is closed when that may have changed.
func (o *order) ready(cell *round.Cell) (bool, chan struct{}) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, id := range o.after(cell.Item) {
		if o.open[id] > 0 {
			return false, o.changed
		}
	}
	return true, nil
}

// next gives the first cell that waits for nothing, and the others. Where all wait, it waits without a seat.
func (o *order) next(ctx context.Context, cells []*round.Cell) (*round.Cell, []*round.Cell, error) {
	for {
		var changed chan struct{}
		for i, cell := range cells {
			ok, wait := o.ready(cell)
			if ok {
				return cell, append(cells[:i:i], cells[i+1:]...), nil
			}
			if changed == nil {
				changed = wait
			}
		}
		o.leave()
		select {
		case <-changed:
		case <-ctx.Done():
		}
		o.seats <- struct{}{} // others leave, or wait without a seat
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
	}
}
