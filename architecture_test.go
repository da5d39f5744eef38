package envask_test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The page about the architecture names files that exist.
func TestArchitectureNamesWhatExists(t *testing.T) {
	page, err := os.ReadFile("docs/architecture.md")
	require.NoError(t, err)
	names := regexp.MustCompile("`((?:internal|cmd|docs)/[^` ]+|[a-z_]+_test\\.go)`").FindAllStringSubmatch(string(page), -1)
	require.Greater(t, len(names), 30)
	for _, n := range names {
		if !strings.Contains(n[1], "NAME") {
			_, err := os.Stat(n[1])
			require.NoError(t, err, n[1])
		}
	}
}
