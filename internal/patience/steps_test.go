package patience_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/patience"
)

func TestSteps(t *testing.T) {
	s := patience.Doubling(time.Second, 10*time.Second)
	require.Equal(t, patience.Steps{time.Second, 2 * time.Second, 4 * time.Second, 8 * time.Second, 10 * time.Second}, s)
	for failures, want := range map[int]time.Duration{0: time.Second, 1: time.Second, 3: 4 * time.Second, 5: 10 * time.Second, 99: 10 * time.Second} {
		require.Equal(t, want, s.At(failures), failures)
	}
	require.Zero(t, patience.Steps(nil).At(3))
	require.NoError(t, patience.Steps{time.Microsecond}.Wait(context.Background(), 1))
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(time.Millisecond, cancel)
	require.ErrorIs(t, patience.Steps{time.Hour}.Wait(ctx, 7), context.Canceled, "nobody waits for a step when all is over")
}
