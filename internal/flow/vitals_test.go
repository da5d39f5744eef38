package flow

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/collect"
	"envask/internal/round"
)

func TestComparingVitals(t *testing.T) {
	gate := func(name, agent string, load float64, free int64, ahead time.Duration) collect.Vitals {
		return collect.Vitals{System: name, OS: "Debian 12", Kernel: "Linux 6.1", Uptime: 90000, Load: []float64{load}, Processors: 2, Memory: &collect.Memory{Total: 1 << 30, Available: free},
			Disks: []collect.Disk{{Mount: "/", Total: 100 << 30, Free: 50 << 30}, {Mount: "/var", Total: 10 << 30, Free: 1 << 20}}, Locale: "C",
			Clock: &round.Clock{Measured: true, Offset: ahead, Uncertainty: time.Millisecond, Synchronised: "yes"}, Values: map[string]string{"agent": agent},
			Top: []collect.Process{{Name: "agent", CPU: load * 40}}}
	}
	v := &VitalsView{Systems: []collect.Vitals{gate("gate-1", "4.3.1", 0.2, 1<<29, 0), gate("gate-2", "4.2.9", 3.9, 1<<20, 90*time.Second), {System: "switch", OS: "Debian 12"}}}
	v.compare()
	facts := map[string]Fact{}
	for _, f := range v.Facts {
		require.Len(t, f.Values, 3, f.Name)
		facts[f.Name] = f
	}
	require.Equal(t, []string{"4.3.1", "4.2.9", ""}, facts["agent"].Values)
	require.True(t, facts["agent"].Differs)
	require.False(t, facts["system"].Differs)
	require.False(t, facts["kernel"].Differs, "what one does not tell is no difference")
	for name, heeded := range map[string][]bool{"load": {false, true, false}, "memory free": {false, true, false}, "free on /var": {true, true, false}, "free on /": {false, false, false},
		"clock": {false, true, false}, "busiest": {false, true, false}, "synchronised": {false, false, false}} {
		require.Equal(t, heeded, facts[name].Heeds, name)
	}
	require.Equal(t, "25h0m", facts["up for"].Values[0])
	require.NotContains(t, facts, "last package", "a fact that nobody tells has no row")
	for seconds, want := range map[int64]string{0: "", 59 * 60: "59m", 3 * 86400: "3 days"} {
		require.Equal(t, want, upFor(seconds))
	}
}
