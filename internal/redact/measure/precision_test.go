package measure

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What redaction replaces in the texts of this machine, which hold hardly any secret, stays below a bound for each kind of text: a rule
// that
// begins to hit by chance shows here. make precision prints samples to read.
func TestPrecisionOnRealText(t *testing.T) {
	if testing.Short() {
		t.Skip("it reads some 30 MB")
	}
	r, err := Precision(Kinds(), 0, false, 3<<20)
	require.NoError(t, err)
	var out strings.Builder
	r.Write(&out, false)
	t.Log("\n" + out.String())
	read := 0
	for _, k := range r.Kinds {
		read += k.Files
		if k.Kind.Most > 0 && k.Bytes > 200_000 {
			require.LessOrEqual(t, k.PerMB(), k.Kind.Most, "%s: replacements per MB", k.Kind.Name)
		}
	}
	require.NotZero(t, read, "Go's own sources are always there")
	if _, err := os.Stat("/usr/include"); err == nil {
		require.Greater(t, read, 200)
	}
}
