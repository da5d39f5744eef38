package casefile

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestRepairGoesOnAndNamesTheBreak(t *testing.T) {
	for name, damage := range map[string]struct {
		do             func(lines []string) string
		from, keep     int // records
		taken, dropped int
	}{
		"one in the middle changed": {func(l []string) string { return l[0] + strings.Replace(l[1], "gate-1", "gate-9", 1) + l[2] + l[3] }, 2, 1, 2, 1},
		"one in the middle removed": {func(l []string) string { return l[0] + l[2] + l[3] }, 2, 1, 1, 1},
		"the last one changed":      {func(l []string) string { return l[0] + l[1] + l[2] + strings.Replace(l[3], "arrived", "nowhere", 1) }, 4, 3, 0, 1},
		"the last two lost":         {func(l []string) string { return l[0] + l[1] }, 3, 2, 0, 0},
		"garbage":                   {func(l []string) string { return "\x00\x00\x00\n" + l[0] + l[2] }, 1, 0, 1, 2},
		"all lost":                  {func([]string) string { return "" }, 1, 0, 0, 0},
	} {
		t.Run(name, func(t *testing.T) {
			_, c := newCase(t)
			w, err := c.Write("test")
			require.NoError(t, err)
			for _, r := range [][2]string{{"begun", "r1"}, {"made", "gate-1"}, {"made", "gate-2"}, {"sent", "arrived"}} {
				require.NoError(t, w.Ledger.Append(r[0], r[1]))
			}
			require.NoError(t, w.Close())
			good, err := os.ReadFile(ledgerFile(c.Dir))
			require.NoError(t, err)
			bad := damage.do(strings.SplitAfter(string(good), "\n"))
			require.NoError(t, os.WriteFile(ledgerFile(c.Dir), []byte(bad), 0o600))
			_, err = c.Write("test")
			var chain *ChainError
			require.ErrorAs(t, err, &chain)

			rep, err := c.Repair("envask repair", "ilka", []string{"made"})
			require.NoError(t, err)
			require.Equal(t, []int{damage.from, damage.keep, damage.taken, damage.dropped}, []int{rep.From, rep.Good, rep.Taken, rep.Dropped})
			kept, err := os.ReadFile(filepath.Join(c.Dir, rep.Kept))
			require.NoError(t, err)
			require.Equal(t, bad, string(kept), "the damaged file is kept as it was")

			w, err = c.Write("test")
			require.NoError(t, err)
			require.NoError(t, w.Ledger.Append("more", nil))
			require.NoError(t, w.Close())
			all := records(t, c)
			require.Equal(t, KindRepaired, all[damage.keep].Kind)
			var named Repaired
			require.NoError(t, json.Unmarshal(all[damage.keep].Data, &named))
			require.Equal(t, damage.from, named.From)
			require.Len(t, all, damage.keep+1+damage.taken+1)
		})
	}
}

func TestRepairOfAnIntactLedgerDoesNothing(t *testing.T) {
	_, c := newCase(t)
	w, err := c.Write("test")
	require.NoError(t, err)
	require.NoError(t, w.Ledger.Append("thing", 1))
	require.NoError(t, w.Close())
	rep, err := c.Repair("envask repair", "ilka", nil)
	require.NoError(t, err)
	require.Nil(t, rep)
	require.Len(t, records(t, c), 1)
}

func TestACrashBetweenRecordAndHeadIsNoDamage(t *testing.T) {
	_, c := newCase(t)
	w, err := c.Write("test")
	require.NoError(t, err)
	require.NoError(t, w.Ledger.Append("thing", 1))
	before, err := os.ReadFile(headFile(ledgerFile(c.Dir)))
	require.NoError(t, err)
	require.NoError(t, w.Ledger.Append("thing", 2))
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(headFile(ledgerFile(c.Dir)), before, 0o600))
	require.Len(t, records(t, c), 2)
	w, err = c.Write("test")
	require.NoError(t, err)
	require.NoError(t, w.Close())
}

func TestWhatAKilledRunLeftAsideIsSwept(t *testing.T) {
	_, c := newCase(t)
	w, err := c.Write("test")
	require.NoError(t, err)
	tmp, err := w.Temp()
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(tmp, "member"), []byte("evidence"), 0o600))
	require.NoError(t, w.lock.Unlock()) // killed
	aside := filepath.Join(c.Dir, ".case.yaml.123.tmp")
	require.NoError(t, os.WriteFile(aside, nil, 0o600))
	w, err = c.Write("test")
	require.NoError(t, err)
	require.NoFileExists(t, aside)
	require.NoDirExists(t, tmp)
	require.FileExists(t, c.spareFile())
	require.NoError(t, w.Close())
	w, err = c.WriteToFree("envask tidy")
	require.NoError(t, err)
	require.NoFileExists(t, c.spareFile())
	require.NoError(t, w.Close())
}
