package round

import (
	"envask/internal/ask"
	"testing"

	"github.com/stretchr/testify/require"
)

func summarise(cell Cell, entries []Entry) Cell {
	t := NewTally(&ask.Item{})
	for i := range entries {
		t.Add(&entries[i])
	}
	return t.Fill(cell)
}

func TestSummarise(t *testing.T) {
	e := func(s State, name string) Entry {
		return Entry{Source: "/" + string(s), State: s, Reason: "why", Name: name, Bytes: 10}
	}
	for _, c := range []struct {
		entries []Entry
		state   State
		reason  string
	}{
		{nil, Missing, "nothing matches the patterns"},
		{[]Entry{e(Empty, ""), e(Empty, "")}, Empty, "2 files found, none in the window"},
		{[]Entry{e(Taken, "x"), e(Empty, "")}, Taken, "1 outside the window left"},
		{[]Entry{e(Taken, "x"), e(Denied, "")}, Denied, "1 denied: /denied: why"},
		{[]Entry{e(Taken, "x"), e(Refused, ""), e(Refused, "")}, Taken, "2 refused: /refused: why"},
		{[]Entry{e(Refused, "")}, Refused, "/refused: why"},
		{[]Entry{e(Taken, "x"), e(Cut, "y"), e(Failed, "")}, Failed, "1 failed: /failed: why; 1 cut: /cut: why"},
		{[]Entry{{State: Refused, Special: true, Reason: "a FIFO is never opened"}, e(Taken, "x")}, Taken, ""},
		{[]Entry{{State: Taken, Name: "c", Command: &Ran{Exit: 3}, Reason: "exit code 3"}}, Taken, "exit code 3"},
	} {
		got := summarise(Cell{Required: true}, c.entries)
		require.Equal(t, c.state, got.State, "%v", c.entries)
		require.Equal(t, c.reason, got.Reason, "%v", c.entries)
		require.Equal(t, c.state != Taken && c.state != Cut, got.Lacking())
	}
	many := make([]Entry, MaxNotes+5)
	for i := range many {
		many[i] = e(Denied, "")
	}
	require.Len(t, summarise(Cell{}, many).Notes, MaxNotes)
}
