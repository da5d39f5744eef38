package find

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Each row of keys has some that it announces and some that only look like it.
func TestRowsOfKeys(t *testing.T) {
	for _, row := range KeyRows {
		require.NotEmpty(t, row.Yes, row.Words)
		require.NotEmpty(t, row.No, row.Words)
		for _, yes := range row.Yes {
			require.NotZero(t, KindOf([]byte(yes))&row.Kind, yes)
		}
		for _, no := range row.No {
			require.Zero(t, KindOf([]byte(no))&row.Kind, no)
		}
	}
}
