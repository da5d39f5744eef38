package patience

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var errLate = errors.New("late")

// A limit of time stands still while a question is open, and goes on when the last one is answered.
func TestLimitsStandStillWhileAPersonIsAsked(t *testing.T) {
	var c Clock
	ctx, cancel := c.WithTimeout(context.Background(), 20*time.Millisecond, errLate)
	defer cancel()
	one, two := c.Pause(), c.Pause()
	time.Sleep(60 * time.Millisecond)
	require.NoError(t, ctx.Err())
	one()
	one() // twice is once
	time.Sleep(60 * time.Millisecond)
	require.NoError(t, ctx.Err(), "another question is open")
	two()
	<-ctx.Done()
	require.ErrorIs(t, context.Cause(ctx), errLate)
}

func TestLimitsWithoutQuestions(t *testing.T) {
	var none *Clock
	none.Pause()()
	ctx, cancel := none.WithTimeout(context.Background(), time.Millisecond, errLate)
	<-ctx.Done()
	require.ErrorIs(t, context.Cause(ctx), errLate)
	cancel()
	ctx, cancel = none.WithTimeout(context.Background(), time.Hour, errLate)
	cancel()
	require.ErrorIs(t, ctx.Err(), context.Canceled)
	require.NotErrorIs(t, context.Cause(ctx), errLate)
}
