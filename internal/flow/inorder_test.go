package flow

import (
	"context"
	"errors"
	"io"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// counting gives the numbers up to n.
func counting(n int) func() (*int, error) {
	i := 0
	return func() (*int, error) {
		if i == n {
			return nil, io.EOF
		}
		i++
		v := i
		return &v, nil
	}
}

// Results come in the order of what was given, whichever is ready first, and never far behind or ahead.
func TestInOrderKeepsOrder(t *testing.T) {
	var got []int
	require.NoError(t, inOrder(context.Background(), counting(200), func(_ context.Context, x *int) error {
		time.Sleep(time.Duration(*x%7) * 100 * time.Microsecond)
		*x *= 2
		return nil
	}, func(x *int) error {
		got = append(got, *x)
		return nil
	}))
	require.Len(t, got, 200)
	for i, x := range got {
		require.Equal(t, 2*(i+1), x)
	}
}

// The first error in order counts, whoever has it, and nothing is begun long after it.
func TestInOrderStopsAtTheFirstError(t *testing.T) {
	broken := errors.New("broken")
	nothing := func(context.Context, *int) error { return nil }
	for name, run := range map[string]func(begun *atomic.Int64) error{
		"work": func(begun *atomic.Int64) error {
			return inOrder(context.Background(), counting(100_000), func(_ context.Context, x *int) error {
				begun.Add(1)
				if *x == 10 {
					return broken
				}
				return nil
			}, func(x *int) error {
				require.Less(t, *x, 10)
				return nil
			})
		},
		"done": func(begun *atomic.Int64) error {
			return inOrder(context.Background(), counting(100_000), func(context.Context, *int) error { begun.Add(1); return nil },
				func(x *int) error {
					if *x == 10 {
						return broken
					}
					return nil
				})
		},
		"next": func(*atomic.Int64) error {
			return inOrder(context.Background(), func() (*int, error) { return nil, broken }, nothing, func(*int) error { return nil })
		},
	} {
		var begun atomic.Int64
		require.ErrorIs(t, run(&begun), broken, name)
		require.Less(t, begun.Load(), int64(100_000), name)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	require.ErrorIs(t, inOrder(ctx, counting(10), nothing, func(*int) error { return nil }), context.Canceled)
	require.ErrorContains(t, inOrder(context.Background(), counting(3), func(context.Context, *int) error { panic("lane 4") },
		func(*int) error { return nil }), "lane 4", "a mistake of ours is an error of that piece")
}
