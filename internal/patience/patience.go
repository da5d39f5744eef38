package patience

import (
	"context"
	"sync"
	"time"
)

// Clock knows how long a person was being asked. The zero value is ready; a nil one never stands still.
type Clock struct {
	mu    sync.Mutex
	open  int // questions
	since time.Time
	total time.Duration
	moved chan struct{} // is closed when the last question was answered
}

// Pause says that a question is open, until the function that it gives is called.
func (c *Clock) Pause() (resume func()) {
	if c == nil {
		return func() {}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.open++; c.open == 1 {
		c.since, c.moved = time.Now(), make(chan struct{})
	}
	return sync.OnceFunc(func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		if c.open--; c.open == 0 {
			c.total += time.Since(c.since)
			close(c.moved)
		}
	})
}

// asked gives how long questions were open so far, and what is closed when those that are open now are answered; nil when there is none.
func (c *Clock) asked() (time.Duration, chan struct{}) {
	if c == nil {
		return 0, nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.open > 0 {
		return c.total + time.Since(c.since), c.moved
	}
	return c.total, nil
}

// WithTimeout gives a context that ends with a cause after some time, in which nobody was asked anything. The cause is what
// context.Cause gives; Err gives context.Canceled.
func (c *Clock) WithTimeout(ctx context.Context, d time.Duration, cause error) (context.Context, context.CancelFunc) {
	inner, cancel := context.WithCancelCause(ctx)
	before, _ := c.asked()
	begun := time.Now()
	go func() {
		timer := time.NewTimer(d)
		defer timer.Stop()
		for {
			select {
			case <-inner.Done():
				return
			case <-timer.C:
			}
			asked, open := c.asked()
			left := d + asked - before - time.Since(begun)
			if open == nil && left <= 0 {
				cancel(cause)
				return
			}
			if open != nil {
				select {
				case <-inner.Done():
					return
				case <-open:
				}
				asked, _ = c.asked()
				left = d + asked - before - time.Since(begun)
			}
			timer.Reset(max(left, 0))
		}
	}()
	return inner, func() { cancel(context.Canceled) }
}
