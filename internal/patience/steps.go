package patience

import (
	"context"
	"time"
)

// Wait waits so long, or until the context ends; then its error comes back.
func Wait(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Steps are the times between tries of what may heal: the first after the first failure, and the last one for all that are beyond.
type Steps []time.Duration

// Doubling gives steps that double from one to another.
func Doubling(from, to time.Duration) (s Steps) {
	for d := from; d < to; d *= 2 {
		s = append(s, d)
	}
	return append(s, to)
}

// At gives the time to wait after so many failures, from 1 on.
func (s Steps) At(failures int) time.Duration {
	if len(s) == 0 {
		return 0
	}
	return s[min(max(failures, 1), len(s))-1]
}

// Wait waits after so many failures.
func (s Steps) Wait(ctx context.Context, failures int) error { return Wait(ctx, s.At(failures)) }
