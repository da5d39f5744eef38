package casefile

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"

	"envask/internal/window"
)

func newCase(t *testing.T) (Home, *Case) {
	t.Helper()
	h := Home{Dir: t.TempDir()}
	c, err := h.Create("26031407", Info{Number: "26031407", Vendor: "Ostrevane Gate Systems", Site: "tallow-pier", Ask: "/a.yaml", Systems: "/s.yaml", Opened: time.Now()})
	require.NoError(t, err)
	return h, c
}

func TestCaseFileKeepsAll(t *testing.T) {
	h, c := newCase(t)
	zone, err := window.ParseZone("Europe/Lisbon")
	require.NoError(t, err)
	at := time.Date(2026, 7, 14, 6, 12, 0, 500, zone)
	c.Window, err = window.New([]window.Span{{From: at, To: at.Add(time.Hour)}}, zone)
	require.NoError(t, err)
	c.Title = "gate 2: \"closed\"\n# not a comment"
	c.Brief = map[string]string{"serial": "OG410772"}
	require.NoError(t, c.Save())
	got, err := h.Open("26031407")
	require.NoError(t, err)
	require.Equal(t, c.Title, got.Title)
	require.Equal(t, c.Brief, got.Brief)
	require.True(t, got.Window.Spans[0].From.Equal(at))
	require.Equal(t, "Europe/Lisbon", got.Window.ZoneName())

	file := filepath.Join(c.Dir, caseFile)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(data), "vendor:", "vender:", 1)), 0o600))
	_, err = h.Open("26031407")
	require.ErrorContains(t, err, `unknown key "vender"; did you mean "vendor"?`)
}

func TestCheckName(t *testing.T) {
	for _, good := range []string{"26031407", "gates-down", "A.b_c-1"} {
		require.NoError(t, CheckName(good))
	}
	for _, bad := range []string{"", ".", "..", "a..b", "a/b", `a\b`, ".hidden", "-flag", "a b", "a\n", "a.", strings.Repeat("x", 65), "ä"} {
		require.Error(t, CheckName(bad), bad)
	}
}

func TestRename(t *testing.T) {
	h, c := newCase(t)
	_, err := h.Create("other", Info{Ask: "a", Systems: "s", Opened: time.Now()})
	require.NoError(t, err)
	_, err = h.Rename(c, "other")
	require.ErrorContains(t, err, "there is a case \"other\" already")
	moved, err := h.Rename(c, "26031408")
	require.NoError(t, err)
	require.Equal(t, "26031408", moved.Name)
	require.False(t, h.Exists("26031407"))
	_, err = h.Open("26031407")
	require.ErrorIs(t, err, ErrNoCase)
}

func TestOneWriter(t *testing.T) {
	_, c := newCase(t)
	w, err := c.Write("envask collect")
	require.NoError(t, err)
	_, err = c.Write("envask pack")
	var locked *LockedError
	require.ErrorAs(t, err, &locked)
	require.ErrorContains(t, err, `in use by "envask collect" (process `)
	require.NoError(t, w.Close())
	w, err = c.Write("envask pack")
	require.NoError(t, err)
	require.NoError(t, w.Close())
}

func records(t *testing.T, c *Case) []Record {
	t.Helper()
	var all []Record
	require.NoError(t, c.ReadLedger(func(r Record) error { all = append(all, r); return nil }))
	return all
}

func TestLedgerGoesOnAfterATornLine(t *testing.T) {
	_, c := newCase(t)
	for i := range 3 {
		w, err := c.Write("test")
		require.NoError(t, err)
		require.Equal(t, i > 0, w.Ledger.Dropped)
		require.NoError(t, w.Ledger.Append("thing", map[string]int{"n": i}))
		require.NoError(t, w.Close())
		f, err := os.OpenFile(ledgerFile(c.Dir), os.O_APPEND|os.O_WRONLY, 0o600)
		require.NoError(t, err)
		_, err = f.WriteString(`{"seq":99,"torn`)
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}
	all := records(t, c)
	require.Len(t, all, 3)
	require.Equal(t, 3, all[2].Seq)
}

func TestLedgerNoticesEveryChange(t *testing.T) {
	_, c := newCase(t)
	w, err := c.Write("test")
	require.NoError(t, err)
	for i := range 4 {
		require.NoError(t, w.Ledger.Append("thing", i))
	}
	require.NoError(t, w.Close())
	good, err := os.ReadFile(ledgerFile(c.Dir))
	require.NoError(t, err)
	lines := strings.SplitAfter(string(good), "\n")
	for name, text := range map[string]string{
		"changed":              strings.Replace(string(good), `"data":1`, `"data":7`, 1),
		"removed":              lines[0] + lines[2] + lines[3],
		"swapped":              lines[0] + lines[2] + lines[1] + lines[3],
		"added":                lines[0] + lines[0] + lines[1] + lines[2] + lines[3],
		"no JSON":              lines[0] + "what\n" + lines[1],
		"the last one changed": strings.Replace(string(good), `"data":3`, `"data":7`, 1),
		"the last one lost":    lines[0] + lines[1] + lines[2],
		"the last one torn":    lines[0] + lines[1] + lines[2] + lines[3][:20],
		"all lost":             "",
		"endless":              lines[0] + strings.Repeat("x", MaxRecord+1) + "\n",
	} {
		require.NoError(t, os.WriteFile(ledgerFile(c.Dir), []byte(text), 0o600))
		_, err := c.Write("test")
		var chain *ChainError
		require.ErrorAs(t, err, &chain, name)
		require.ErrorContains(t, err, "the ledger was damaged or changed from outside")
		require.ErrorAs(t, c.ReadLedger(nil), &chain, name)
	}
}

func TestLedgerRecordsHaveALimit(t *testing.T) {
	_, c := newCase(t)
	w, err := c.Write("test")
	require.NoError(t, err)
	defer w.Close()
	require.ErrorContains(t, w.Ledger.Append("thing", strings.Repeat("x", MaxRecord)), "longer than")
	require.NoError(t, w.Ledger.Append("thing", strings.Repeat("x", MaxRecord/2)))
	require.Len(t, records(t, c), 1)
}

func FuzzLedger(f *testing.F) {
	f.Add([]byte("{}\n"))
	f.Add([]byte(`{"seq":1,"at":"2026-03-14T06:12:00Z","prev":"` + noHash + `","kind":"x"}` + "\n"))
	f.Add([]byte(`{"seq":1`))
	f.Fuzz(func(t *testing.T, data []byte) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(ledgerFile(dir), data, 0o600))
		l, err := openLedger(dir)
		if err != nil {
			return
		}
		// What could be opened can be written on, and read again.
		require.NoError(t, l.Append("more", nil))
		require.NoError(t, l.Close())
		n := 0
		c := &Case{Dir: dir}
		require.NoError(t, c.ReadLedger(func(r Record) error { n++; _, err := json.Marshal(r); return err }))
		require.Positive(t, n, fmt.Sprintf("%q", data))
	})
}

func TestSameContent(t *testing.T) {
	dir := t.TempDir()
	write := func(name string, data []byte) string {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
		return filepath.Join(dir, name)
	}
	long := bytes.Repeat([]byte("gate "), 200_000)
	other := bytes.Clone(long)
	other[len(other)-1] = '!'
	a := write("a", long)
	require.True(t, SameContent(a, write("same", long)))
	require.False(t, SameContent(a, write("last byte", other)))
	require.False(t, SameContent(a, write("shorter", long[:len(long)-1])))
	require.False(t, SameContent(write("whole blocks", long[:512<<10]), write("more", long)))
	require.False(t, SameContent(a, filepath.Join(dir, "none")))
	require.True(t, SameContent(write("empty", nil), write("empty too", nil)))
}

// A case whose removal was interrupted is removed by whoever comes next, and each terminal has its own current case.
func TestRemovedCasesAndTerminals(t *testing.T) {
	h := Home{Dir: t.TempDir()}
	for _, name := range []string{"1", "2"} {
		_, err := h.Create(name, Info{Ask: "/a.yaml", Systems: "/s.yaml", Vendor: "v", Site: "s"})
		require.NoError(t, err)
	}
	one, two := Home{h.Dir, "100-1"}, Home{h.Dir, "200-1"}
	require.NoError(t, one.Use("1"))
	require.NoError(t, two.Use("2"))
	for home, want := range map[Home]string{one: "1", two: "2", h: "2", {h.Dir, "300-1"}: "2"} {
		c, err := home.Open("")
		require.NoError(t, err)
		require.Equal(t, want, c.Name, home.Terminal)
	}
	c, err := h.Open("1")
	require.NoError(t, err)
	require.NoError(t, h.Remove(c))
	require.False(t, h.Exists("1"))
	left := filepath.Join(h.Dir, removedPrefix+"3")
	require.NoError(t, os.MkdirAll(filepath.Join(left, "rounds"), 0o700))
	require.NoError(t, h.Sweep())
	require.NoDirExists(t, left)
	for i := range 2 * mostTerminals {
		require.NoError(t, Home{h.Dir, fmt.Sprint(i)}.Use("2"))
	}
	list, err := os.ReadDir(filepath.Join(h.Dir, "terminals"))
	require.NoError(t, err)
	require.Len(t, list, mostTerminals)
}
