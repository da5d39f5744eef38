//go:build !windows

package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/cli"
)

const killedHub = `ask: hub
vendor: Ostrevane Gate Systems
vitals: no
items:
  - id: report
    of: [hub]
    steps:
      - {post: /api/jobs, json: {parts: [all]}, expect: {status: 201}, take: {job: .id}}
      - {poll: '/api/jobs/{job}', until: '.state == "done"', every: 10ms}
      - {get: /api/nodes, take: {node: '.nodes[]'}}
      - {get: '/api/jobs/{job}/files', query: {node: '{node}'}, each: '.files[].href', size: '.files[].size', download: yes}
`

// TestKilledWithAJob kills a collection at every step of a job on a device: at the request, in the middle of the wait, and in the middle of
// the downloads. The next try takes up the wait: once the job's name was known, no second one is started, and every file comes.
func TestKilledWithAJob(t *testing.T) {
	if !long() {
		t.Skip("SKIPPED: long (make test-long)")
	}
	t.Parallel()
	dir := t.TempDir()
	bin := filepath.Join(dir, "envask")
	build := exec.Command("go", "build", "-tags", "failpoints", "-o", bin, "envask/cmd/envask")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	must(t, build)
	h, err := startHub(dir)
	require.NoError(t, err)
	defer h.Close()
	home, saved := filepath.Join(dir, "home"), filepath.Join(dir, "saved")
	envask := func(extra string, args ...string) *exec.Cmd {
		c := exec.Command(bin, args...)
		c.Env = append(os.Environ(), "ENVASK_HOME="+home, "SSH_AUTH_SOCK=", extra)
		return c
	}
	askFile, systems := filepath.Join(dir, "ask.yaml"), filepath.Join(dir, "systems.yaml")
	require.NoError(t, os.WriteFile(askFile, []byte(killedHub), 0o600))
	require.NoError(t, os.WriteFile(systems, []byte(hubAt(h, blocks(t, "web.md")[0])), 0o600))
	sum, err := cli.AskDigest(askFile)
	require.NoError(t, err)
	must(t, envask("", "ask", "approve", askFile, "--digest", sum))
	must(t, envask("", "open", "26031407", "--ask", askFile, "--systems", systems, "--around", "2026-03-14 06:12Z", "--margin", "40m"))
	must(t, exec.Command("cp", "-a", home, saved))
	points := filepath.Join(dir, "points")
	must(t, envask("ENVASK_POINTS="+points, "collect"))
	data, err := os.ReadFile(points)
	require.NoError(t, err)
	names := strings.Split(strings.TrimSpace(string(data)), "\n")
	kills, twice := 0, 0
	for i := 1; i <= len(names); i++ {
		require.NoError(t, os.RemoveAll(home))
		must(t, exec.Command("cp", "-a", saved, home))
		before := h.Started()
		said, err := envask(fmt.Sprintf("ENVASK_KILL_AT=%d", i), "collect").CombinedOutput()
		if err == nil {
			continue
		}
		kills++
		where := fmt.Sprintf("killed at %d (%s): %s", i, names[i-1], said)
		said, err = envask("", "collect").CombinedOutput()
		require.NoError(t, err, "%s, and the next try: %s", where, said)
		if h.Started()-before > 1 {
			twice++ // between the device's answer and the disk
		}
		require.LessOrEqual(t, h.Started()-before, 2, where)
		found, err := filepath.Glob(filepath.Join(home, "cases", "26031407", "rounds", "r1", "raw", "hub-a", "web", "report", "kiosk-*", "*"))
		require.NoError(t, err)
		require.Len(t, found, 8, where)
		text, err := envask("", "show", "--json").CombinedOutput()
		require.NoError(t, err)
		require.Contains(t, string(text), `"pending": []`, where)
	}
	t.Logf("%d kills; %d times a second job, since the first one's name was not on the disk yet", kills, twice)
	require.Greater(t, kills, 30)
	require.LessOrEqual(t, twice, 4)
}
