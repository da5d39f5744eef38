package redact

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Secrets and identities as some three hundred programs and people write them, which were written down before it was looked whether they
// are found. What is not found is printed, and the share has to stay.
func TestHowProgramsWrite(t *testing.T) {
	data, err := os.ReadFile("testdata/written.txt")
	require.NoError(t, err)
	plain := strings.NewReplacer(`\\`, `\`, `\n`, "\n", `\t`, "\t", `\r`, "\r", `\0`, "\x00", `\e`, "\x1b")
	all, found := map[string]int{}, map[string]int{}
	for _, line := range strings.Split(strings.TrimSpace(string(data)), "\n") {
		fields := strings.SplitN(line, "\t", 3)
		if strings.HasPrefix(line, "#") || len(fields) < 3 {
			continue
		}
		text := plain.Replace(fields[2])
		out, left := redactText(t, text), false
		for _, value := range []string{"Wn4-Brine!k2", "itostrund", "Ilvar", "Tostrund", "203.0.113.77",
			"2001:db8:7::77", "00:5e:00:53:77"} {
			left = left || strings.Contains(text, value) && strings.Contains(out, value)
		}
		if all[fields[0]]++; left {
			t.Logf("not found: %s %s", fields[0], fields[1])
			continue
		}
		found[fields[0]]++
	}
	for kind, floor := range map[string]float64{"secret": 0.97, "identity": 0.97} {
		share := float64(found[kind]) / float64(all[kind])
		t.Logf("%s: %d of %d, %.1f %%", kind, found[kind], all[kind], 100*share)
		require.GreaterOrEqual(t, share, floor, kind)
	}
	require.GreaterOrEqual(t, all["secret"], 300)
}
