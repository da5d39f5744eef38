package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// No table is built before it is used: what shows its help only waits for none. The runtime itself tells how much memory each package
// takes before the program begins, which load cannot move.
func TestNoTableIsBuiltBeforeItIsUsed(t *testing.T) {
	t.Parallel()
	self, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command(self, "-test.run=^$")
	cmd.Env = append(os.Environ(), "GODEBUG=inittrace=1")
	said, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", said)
	lines := regexp.MustCompile(`(?m)^init (envask/\S+) @\S+ ms, \S+ ms clock, (\d+) bytes`).FindAllStringSubmatch(string(said), -1)
	require.Greater(t, len(lines), 10, "%s", said)
	for _, line := range lines {
		var bytes int
		_, err := fmt.Sscan(line[2], &bytes)
		require.NoError(t, err)
		if !strings.HasSuffix(line[1], "_test") {
			require.Less(t, bytes, 16<<10, "%s builds what may never be asked for", line[1])
		}
	}
}
