package judge

import (
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/redact/lexicon"
)

// Each row of the table of keys has keys that it announces and keys that only look like it.
func TestRowsOfKeys(t *testing.T) {
	for _, row := range lexicon.Keys {
		require.NotEmpty(t, row.Yes, row.Words)
		require.NotEmpty(t, row.No, row.Words)
		for _, yes := range row.Yes {
			require.Equal(t, row.Class, lexicon.KeyClass([]byte(yes), Parts), yes)
		}
		for _, no := range row.No {
			require.NotEqual(t, row.Class, lexicon.KeyClass([]byte(no), Parts), no)
		}
	}
}
