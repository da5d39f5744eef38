package cli

import (
	"fmt"
	"testing"

	"envask/internal/round"

	"github.com/stretchr/testify/require"
)

// 290 systems that are down for one reason are one row with the count and the first names; what was taken stays a row each.
func TestManySystemsWithOneReasonAreOneRow(t *testing.T) {
	var cov round.Coverage
	for i := range 300 {
		name := fmt.Sprintf("gate-%d", i)
		for _, item := range []string{"log", "config"} {
			c := round.Cell{System: name, Item: item, Required: item == "log", State: round.Taken, Files: 1}
			if i >= 10 {
				c.State, c.Code, c.Files = round.Failed, round.CodeUnreachable, 0
				c.Reason = fmt.Sprintf("no connection to 192.0.2.%d:22: refused; is %s up?", i%250, name)
			}
			cov = append(cov, c)
		}
	}
	cov = append(cov, round.Cell{System: "fare", Item: "log", State: round.Denied, Code: round.CodeLogin, Reason: "login refused"})
	rows := fold(cov)
	require.Len(t, rows, 22)
	r := rows[21]
	require.Equal(t, "290 systems", r.system())
	require.Equal(t, "2 items *", r.item())
	require.Equal(t, "no connection to …: refused; is NAME up? (gate-10, gate-11, gate-12, gate-13, gate-14, gate-15, gate-16, gate-17 and 282 more (--each lists them))", r.reason())
	require.Equal(t, "fare", rows[20].system())
	require.Len(t, (&session{each: true}).folded(cov), len(cov))
}
