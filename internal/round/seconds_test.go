package round

import (
	"testing"
	"time"

	"github.com/go-json-experiment/json/v1"

	"github.com/stretchr/testify/require"
)

// Durations are seconds under keys that say so; what versions before wrote, in nanoseconds, is read.
func TestDurationsInJSON(t *testing.T) {
	for _, c := range []struct {
		value, empty any
		text, old    string
	}{
		{&Clock{System: "gate-1", Offset: 90 * time.Second, Uncertainty: 1500 * time.Microsecond}, &Clock{},
			`"offset_seconds":90,"uncertainty_seconds":0.0015`, `{"system":"gate-1","offset":90000000000,"uncertainty":1500000}`},
		{&Cell{System: "gate-1", Took: 2500 * time.Millisecond}, &Cell{}, `"took_seconds":2.5`, `{"system":"gate-1","took":2500000000}`},
		{&Ran{Line: "date", Took: 12 * time.Millisecond}, &Ran{}, `"took_seconds":0.012`, `{"line":"date","took":12000000}`},
	} {
		data, err := json.Marshal(c.value)
		require.NoError(t, err)
		require.Contains(t, string(data), c.text)
		require.NotContains(t, string(data), `"took":`)
		require.NotContains(t, string(data), `"offset":`)
		require.NoError(t, json.Unmarshal(data, c.empty))
		require.Equal(t, c.value, c.empty)
		require.NoError(t, json.Unmarshal([]byte(c.old), c.empty))
		require.Equal(t, c.value, c.empty)
	}
	data, err := json.Marshal(Cell{System: "gate-1"})
	require.NoError(t, err)
	require.NotContains(t, string(data), "took")
}
