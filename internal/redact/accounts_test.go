package redact

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The rows of a statement go on over blocks, whether each has a line of its own or all stand in one.
func TestRowsOfSQLGoOnOverBlocks(t *testing.T) {
	for _, between := range []string{",\n", ",", ", "} {
		var rows []string
		for i := range 30_000 {
			rows = append(rows, fmt.Sprintf("(%d,'q%dtavares','Kelp71-%d','lane')", i, i, i))
		}
		text := "INSERT INTO `staff` (`id`, `login`, `password`, `place`) VALUES\n" + strings.Join(rows, between) + ";\nlane opened (1),\n(2, 'north', 'q7x-south', 'x')\n"
		out := redactText(t, text)
		require.NotContains(t, out, "Kelp71", "%q", between)
		require.NotContains(t, out, "tavares", "%q", between)
		require.Contains(t, out, "'lane')", "what no head tells stays")
		require.Contains(t, out, "(2, 'north', 'q7x-south', 'x')", "no row of the statement")
	}
}

// What looks like rows and ends in the middle of something does no harm.
func TestHalvesBesideNames(t *testing.T) {
	for _, text := range []string{"Login incorrect: [itavares/\n", "Login OK: [itavares/]", "user itavares (Il", "INSERT INTO t (login) VALUES ('", "(1),\n(", "-u", "x --username ", "gate:x:7:itavares,", "MAC=00:00:5e:00:53:01:", "secret=[", "password = [[", "x='a', ("} {
		for n := range len(text) + 1 {
			redactText(t, text[:n])
		}
	}
	require.Equal(t, "Login incorrect: [user-2a/[redacted:worded-secret]] (from client ap-7)", redactText(t, "Login incorrect: [itavares/Kelp71brass] (from client ap-7)"))
}
