//go:build !windows

package collect

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/posix"
)

// What runs that were killed sent may still be on its way when the next one has taken and removed everything.
func TestScriptsOfKilledRunsStartNothing(t *testing.T) {
	dir := t.TempDir()
	folder, count := filepath.Join(dir, "our folder"), filepath.Join(dir, "count")
	line := "echo run >> " + posix.Word(count) + "; echo done > it"
	sh := func(script string) *exec.Cmd { return exec.Command("sh", "-c", script) }

	require.NoError(t, os.MkdirAll(filepath.Join(folder, "ours"), 0o700)) // a run's script is in its middle
	late := sh(startInFolder(folder, line))
	var said strings.Builder
	late.Stderr = &said
	require.NoError(t, late.Start())
	time.Sleep(200 * time.Millisecond)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "ours", marker), nil, 0o600))
	out, err := sh(RemoveFolder(folder)).CombinedOutput()
	require.NoError(t, err, string(out))
	require.Error(t, late.Wait())
	require.Contains(t, said.String(), "removed meanwhile")
	require.NoFileExists(t, count)
	require.NoDirExists(t, folder)

	// Two at once: one runs it, and the other is content with that.
	both := []*exec.Cmd{sh(startInFolder(folder, line)), sh(startInFolder(folder, line))}
	for _, c := range both {
		require.NoError(t, c.Start())
	}
	for _, c := range both {
		require.NoError(t, c.Wait())
	}
	require.Eventually(t, func() bool { return os.Remove(filepath.Join(folder, "ours", "exit")) == nil }, 10*time.Second, 10*time.Millisecond)
	ran, err := os.ReadFile(count)
	require.NoError(t, err)
	require.Equal(t, "run\n", string(ran))

	// One that broke off before it was at its end is begun anew; a folder of somebody else is not touched.
	require.NoError(t, os.RemoveAll(folder))
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "made"), 0o700))
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "ours"), 0o700))
	out, err = sh(startInFolder(folder, line)).CombinedOutput()
	require.NoError(t, err, string(out))
	require.FileExists(t, filepath.Join(folder, "ours", "pid"))
	require.NoError(t, os.RemoveAll(folder))
	require.NoError(t, os.Mkdir(folder, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "theirs"), nil, 0o600))
	require.Error(t, sh(startInFolder(folder, line)).Run())
	require.FileExists(t, filepath.Join(folder, "theirs"))
}
