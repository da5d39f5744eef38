//go:build linux

package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/reach/reachtest"
)

// TestRealDrafts drafts an ask of this machine through a real OpenSSH server, and through BusyBox alone behind shell:. A process that
// holds a log open is found with the log.
func TestRealDrafts(t *testing.T) {
	t.Parallel()
	server := reachtest.StartOpenSSH(t)
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "logs"), 0o755))
	log := filepath.Join(dir, "logs", "gate.log")
	require.NoError(t, os.WriteFile(log, []byte("2026-03-14T06:12:00Z lane 4 is red\n2026-03-14T07:12:00Z lane 4 is green\n"), 0o600))
	require.NoError(t, os.WriteFile(log+".1", []byte("2026-03-13T06:12:00Z lane 4 is red\n"), 0o600))
	writer := exec.Command("sh", "-c", `exec 3>>"$1"; sleep 600 & wait`, "sh", log)
	require.NoError(t, writer.Start())
	t.Cleanup(func() {
		_ = exec.Command("pkill", "-P", fmt.Sprint(writer.Process.Pid)).Run()
		_ = writer.Process.Kill()
		_ = writer.Wait()
	})
	bb, err := exec.LookPath("busybox")
	if err != nil {
		require.Empty(t, os.Getenv("ENVASK_SERVERS"), "BusyBox should have been installed")
		t.Skip("SKIPPED: REAL SERVER: there is no BusyBox here (make test-servers installs it)")
	}
	tools := filepath.Join(dir, "tools")
	require.NoError(t, os.Mkdir(tools, 0o755))
	must(t, exec.Command(bb, "--install", "-s", tools))
	systems := filepath.Join(dir, "systems.yaml")
	require.NoError(t, os.WriteFile(systems, fmt.Appendf(nil, "site: real\nknown-hosts: %s\nsystems:\n"+
		"  - {name: one, ssh: '%s@127.0.0.1:%d', key: %s}\n"+
		"  - {name: box, shell: [%s/env, -i, PATH=%s, %s/sh]}\n",
		server.KnownHosts, server.User, server.Port, server.Key, tools, tools, tools), 0o600))
	envask := program(t, filepath.Join(dir, "home"))
	for _, name := range []string{"one", "box"} {
		file := filepath.Join(dir, name+".yaml")
		out := must(t, envask("ask", "draft", name, file, "--systems", systems))
		require.Regexp(t, log+
			`: written \d+ s ago by (sh|sleep)(, (sh|sleep))?, 2 members, .*lines from 2026-03-13 06:12 to 2026-03-14 07:12`, out, name)
		require.Contains(t, out, "part linux", name)
		must(t, envask("ask", "check", file))
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Contains(t, string(text), "files: ['"+filepath.Join(dir, "logs")+"/gate.log*']", name)
	}
}
