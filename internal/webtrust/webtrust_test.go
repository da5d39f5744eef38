package webtrust_test

import (
	"errors"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/webtrust"
)

// An answer that drips ends, whoever asks: each byte is a sign of life, but no progress.
func TestABodyThatDripsEnds(t *testing.T) {
	read, write := io.Pipe()
	go func() {
		for {
			if _, err := write.Write([]byte(".")); err != nil {
				return
			}
			time.Sleep(time.Millisecond)
		}
	}()
	slow, closed := errors.New("too slow"), 0
	body := webtrust.Steady(read, 200*time.Millisecond, func() error { return slow }, func() { closed++ })
	_, err := io.ReadAll(body)
	require.ErrorIs(t, err, slow)
	require.NoError(t, body.Close())
	require.Positive(t, closed)
}

// One that is long and moves is read to its end, and the end of a short one is no failure.
func TestABodyThatMovesIsReadWhole(t *testing.T) {
	read, write := io.Pipe()
	go func() {
		for range 100 {
			if _, err := write.Write(make([]byte, 8<<10)); err != nil {
				return
			}
			time.Sleep(5 * time.Millisecond)
		}
		write.Close()
	}()
	body := webtrust.Steady(read, 30*time.Second, func() error { return errors.New("too slow") }, func() {})
	n, err := io.Copy(io.Discard, body)
	require.NoError(t, err)
	require.EqualValues(t, 100*8<<10, n)
	require.NoError(t, body.Close())
}
