package flow

import (
	"context"
	"io"
	"runtime"

	"envask/internal/fault"
)

// inOrder works on what next gives (io.EOF ends it), several at a time, and hands the results on in the order in which they came.
func inOrder[T any](ctx context.Context, next func() (*T, error), work func(context.Context, *T) error, done func(*T) error) error {
	type slot struct {
		x     *T
		err   error
		ready chan struct{}
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	workers := runtime.GOMAXPROCS(0)
	open, queue := make(chan *slot), make(chan *slot, 4*workers) // bounds how far working runs ahead
	for range workers {
		go func() {
			for s := range open {
				if s.err == nil {
					s.err = fault.Safely(func() error { return work(ctx, s.x) })
				}
				close(s.ready)
			}
		}()
	}
	go func() {
		defer close(queue)
		defer close(open)
		for ctx.Err() == nil {
			x, err := next()
			if err == io.EOF {
				return
			}
			s := &slot{x, err, make(chan struct{})}
			open <- s
			queue <- s // it is emptied to the end
			if err != nil {
				return
			}
		}
	}()
	var first error
	for s := range queue {
		<-s.ready
		if first != nil {
			continue
		}
		if first = s.err; first == nil {
			first = done(s.x)
		}
		if first != nil {
			cancel()
		}
	}
	if first == nil {
		first = ctx.Err()
	}
	return first
}
