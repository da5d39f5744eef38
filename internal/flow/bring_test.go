package flow

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/round"
)

// newBringing is a desk whose ask wants texts of a person, with two of them to bring.
func newBringing(t *testing.T) *desk {
	t.Helper()
	d := newDesk(t)
	text, err := os.ReadFile(filepath.Join(d.dir, "ask.yaml"))
	require.NoError(t, err)
	d.write(t, "ask.yaml", strings.Replace(string(text), "routes:", "  - {id: notes, of: case, person: Write down what you saw., "+
		"expect: {type: text}}\nroutes:", 1))
	o, err := d.app.Open(OpenRequest{Name: "26031407", Ask: filepath.Join(d.dir, "ask.yaml"),
		Systems: filepath.Join(d.dir, "systems.yaml")})
	require.NoError(t, err)
	require.NoError(t, d.app.PutApproval(o.Ask))
	d.c = o.Case
	d.collect(t)
	d.write(t, "bring/a.txt", strings.Repeat("lane 4 is red\n", 200_000))
	d.write(t, "bring/b.txt", "lane 5 is red\n")
	return d
}

// on does something when the first bytes of a file were copied.
func (d *desk) on(name string, do func()) {
	old, done := d.app.Report, false
	d.app.Report = func(e any) {
		old(e)
		if p, ok := e.(BringProgress); ok && p.Name == name && !done {
			done = true
			do()
		}
	}
}

// What becomes of a source while it is added is said, and never is half a file counted as taken.
func TestASourceThatGoesWhileItIsAdded(t *testing.T) {
	for _, c := range []struct {
		name   string
		during func(t *testing.T, dir string)
		states map[string]round.State
		fails  string
	}{
		{"removed, which its open file survives", func(t *testing.T, dir string) {
			require.NoError(t, os.Remove(filepath.Join(dir, "a.txt")))
		}, map[string]round.State{"a.txt": round.Taken, "b.txt": round.Taken}, ""},
		{"cut off", func(t *testing.T, dir string) {
			require.NoError(t, os.Truncate(filepath.Join(dir, "a.txt"), 1000))
		}, map[string]round.State{"a.txt": round.Failed, "b.txt": round.Taken}, ""},
		{"the whole folder removed", func(t *testing.T, dir string) {
			require.NoError(t, os.RemoveAll(dir))
		}, map[string]round.State{"a.txt": round.Taken}, "b.txt"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := newBringing(t)
			dir := filepath.Join(d.dir, "bring")
			d.on("a.txt", func() { c.during(t, dir) })
			got, err := d.app.Bring(context.Background(), d.c, BringRequest{Paths: []string{dir}, Item: "notes"})
			if c.fails == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, c.fails)
				require.ErrorContains(t, err, "no longer there")
			}
			rounds, err := round.List(d.c)
			require.NoError(t, err)
			list, err := rounds[0].Brought()
			require.NoError(t, err)
			states := map[string]round.State{}
			for _, e := range list {
				states[filepath.Base(e.Source)] = e.State
				if e.State == round.Failed {
					require.Contains(t, e.Reason, "it changed while it was added: add it again")
				}
			}
			require.Equal(t, c.states, states)
			if got != nil {
				require.Len(t, got.Files, len(c.states))
			}
		})
	}
}
