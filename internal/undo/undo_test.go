package undo

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/casefile"
)

func TestChangesStandInTheLedgerUntilTheyAreUndone(t *testing.T) {
	h := casefile.Home{Dir: t.TempDir()}
	c, err := h.Create("26031407", casefile.Info{Ask: "a", Systems: "s", Opened: time.Now()})
	require.NoError(t, err)
	w, err := c.Write("test")
	require.NoError(t, err)
	log := Log{w.Ledger}
	a, err := log.Begin("file", "route desk", "/in/a.part")
	require.NoError(t, err)
	b, err := log.Begin("file", "route desk", "/in/b.part")
	require.NoError(t, err)
	require.NotEqual(t, a.ID, b.ID)
	require.NoError(t, log.Done(a.ID, "removed"))
	require.NoError(t, log.Done("never-made", "removed"))
	require.NoError(t, w.Close()) // as after a crash: what is pending is known from the ledger alone

	open, err := Pending(c)
	require.NoError(t, err)
	require.Len(t, open, 1)
	require.Equal(t, b.ID, open[0].ID)
	require.Equal(t, "/in/b.part", open[0].Path)
}
