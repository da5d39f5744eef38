package term

import (
	"bytes"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// A pause holds what is said until it is over; without a terminal lines are plain.
func TestABoardGivesWayToAQuestion(t *testing.T) {
	var out bytes.Buffer
	s := &Screen{Err: &out, Width: 80}
	b := s.NewBoard()
	require.False(t, b.Live())
	b.Set("x", "a live line")
	b.Above("before")
	b.Pause()
	var wg sync.WaitGroup
	for range 3 {
		wg.Add(1)
		go func() { defer wg.Done(); b.Above("%d %% meanwhile", 50); b.Set("x", "still") }()
	}
	wg.Wait()
	require.Equal(t, "before\n", out.String(), "nothing is said while a person is asked")
	b.Resume()
	b.Above("after")
	b.Close()
	require.Equal(t, "before\n50 % meanwhile\n50 % meanwhile\n50 % meanwhile\nafter\n", out.String())
	s.Quiet = true
	quiet := s.NewBoard()
	quiet.Above("nothing")
	quiet.Close()
	require.NotContains(t, out.String(), "nothing")
}

// Live lines come and go; drawing them ends with the board.
func TestALiveBoard(t *testing.T) {
	var out safeBuffer
	s := &Screen{Err: &out, Width: 30, Live: true}
	b := s.NewBoard()
	require.True(t, b.Live())
	b.Set("", "total of a line that is longer than the terminal is wide")
	b.Set("gate-1", "gate-1 log")
	b.Above("a message")
	b.Pause()
	b.Resume()
	b.Set("gate-1", "gate-1 state")
	b.Drop("gate-1")
	b.Drop("never there")
	b.Close()
	b.Set("late", "nothing comes of it")
	require.Contains(t, out.String(), "a message")
	require.NotContains(t, out.String(), "terminal is wide", "what would wrap is cut")
}

type safeBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *safeBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safeBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}
