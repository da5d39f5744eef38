package collect

import (
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
)

// What a system's own configuration says leads nowhere but into the approved folders.
func TestValuesLeadWithinTheirBounds(t *testing.T) {
	bounds := []string{"/var/log", `C:\ProgramData\Gate`, "/opt/"}
	for _, good := range []string{"/var/log", "/var/log/boarding", "/opt/x", "/var/log//a",
		`C:\ProgramData\Gate\log`, "C:/ProgramData/Gate"} {
		require.True(t, leadsWithin(good, bounds), good)
	}
	for _, bad := range []string{"", "/", "/etc/shadow", "/var/logs", "/var/log/../../etc", "/var/log/..", "var/log",
		"../var/log", "~/log", `C:\Windows`,
		`C:\ProgramData\Gate\..\..\Windows`, `\\server\share`, "/optional"} {
		require.False(t, leadsWithin(bad, bounds), bad)
	}
}

// What stands for a pattern in a value does not in the path.
func TestValuesAreNoPatterns(t *testing.T) {
	for text, want := range map[string]string{"/var/log": "/var/log/*.log", "/x*": `/x\*/*.log`, "/{a,b}": `/\{a,b\}/*.log`,
		"/[ab]?": `/\[ab\]\?/*.log`} {
		got, err := ask.FillPath("{value.folder}/*.log", func(name string) (string, error) {
			require.Equal(t, "value.folder", name)
			return text, nil
		})
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	require.Equal(t, []string{"value.a", "system", "system.b-c"}, ask.PathFields("/{value.a}/{system}/{system.b-c}/{x}/{value.}"))
}
