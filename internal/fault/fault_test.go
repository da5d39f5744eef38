package fault

import (
	"context"
	"errors"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestClassesAndCodes(t *testing.T) {
	inner := New(Refused, "submit", "a.tar.gz", "it does not verify", "pack again")
	for _, c := range []struct {
		err  error
		code int
	}{
		{nil, 0}, {errors.New("x"), 1}, {&Error{Err: io.EOF}, 1}, {New(Usage, "", "", "x", ""), 2}, {New(Incomplete, "", "", "x", ""), 3}, {inner, 4},
		{Wrap("run", "", inner), 4}, {fmt.Errorf("round: %w", inner), 4}, {context.Canceled, 130}, {Wrap("collect", "", fmt.Errorf("x: %w", context.Canceled)), 130}, {New(Interrupted, "", "", "x", ""), 130},
	} {
		require.Equal(t, c.code, ExitCode(c.err), "%v", c.err)
	}
	require.NoError(t, Wrap("x", "y", nil))
}

func TestAnErrorSaysOnceWhatWhereAndWhy(t *testing.T) {
	require.EqualError(t, New(Failed, "open case", "26031407", "no room", ""), "open case 26031407: no room")
	require.EqualError(t, New(Failed, "", "gate-1", "no room", ""), "gate-1: no room")
	require.EqualError(t, New(Failed, "collect", "", "no room", ""), "collect: no room")
	require.EqualError(t, New(Failed, "", "", "no room", ""), "no room")
	err := Wrap("submit", "desk", New(Refused, "", "x", "why", "do this"))
	require.Equal(t, "do this", HintOf(err), "the hint of the cause comes through")
	require.Empty(t, HintOf(io.EOF))
	require.ErrorIs(t, Wrap("a", "b", io.EOF), io.EOF)
}
