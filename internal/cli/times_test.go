package cli

import (
	"encoding/json"
	"errors"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/flow"
	"envask/internal/logset"
	"envask/internal/stamp"
)

// The page about times explains every key of the JSON.
func TestDocsOfTimes(t *testing.T) {
	page, err := os.ReadFile("../../docs/times.md")
	require.NoError(t, err)
	s := &logset.Survey{Profile: stamp.Learn(stamp.Facts{Zone: time.UTC}, true, []byte("2026-03-14 06:12:00 up\n")), Packing: "gzip", Dated: 1, Broken: errors.New("x"),
		Jumps: []logset.Jump{{Kind: logset.JumpGap, Times: 2}}}
	data, err := json.Marshal(rowOf(flow.FileTimes{File: "x", Survey: s}))
	require.NoError(t, err)
	var row map[string]any
	require.NoError(t, json.Unmarshal(data, &row))
	keys := []string{"line", "kind", "from", "to", "times", "format", "lines_seen", "doubt", logset.JumpGap, logset.JumpBack, logset.JumpDST, logset.JumpRestart, logset.Sorted, logset.NearlySorted, logset.NotSorted}
	for k := range row {
		keys = append(keys, k)
	}
	require.Greater(t, len(keys), 25)
	for _, k := range keys {
		if k != "line" {
			require.Contains(t, string(page), "`"+k+"`")
		}
	}
}
