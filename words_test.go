package envask

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// hardWords are phrases that tired readers had to read twice. They must not come back into messages, help, docs or comments of the front.
var hardWords = []string{
	"what is soon gone", "so long ago", "stand for it", "takes one back", "mend what can be mended", "is gone on with", "gone on with when",
	"fields of the table", "fields of systems", "beyond measure", "not of an earlier demo", "no beginning of it", "is another by now",
	"no file that a person wrote", "a place that cannot be", "What it could not take", "none can belong to the window", "came faster than redaction",
	"made-up values", "to be shown it and asked", "are said to have changed", "it is also looked whether", "or not with proof", "although it is guarded",
	"whose name holds this", "is there and is no plain file", "made ready", "mend both files", "mend the ask", "was cut short", "printed without end",
	"of two states; ", "it belongs to ", "nothing stands there", "lies at",
}

// What the program says, and what is written about it, is plain English.
func TestPlainWords(t *testing.T) {
	out, err := exec.Command("git", "ls-files").Output()
	if err != nil {
		t.Skip("not a git checkout")
	}
	for _, file := range strings.Fields(string(out)) {
		if ext := filepath.Ext(file); ext != ".go" && ext != ".md" && ext != ".yaml" || file == "words_test.go" || strings.HasPrefix(file, "internal/redact/") {
			continue
		}
		data, err := os.ReadFile(file)
		if os.IsNotExist(err) {
			continue // removed, and not committed yet
		}
		require.NoError(t, err)
		for n, line := range strings.Split(string(data), "\n") {
			for _, w := range hardWords {
				require.NotContains(t, line, w, "%s:%d", file, n+1)
			}
		}
	}
}
