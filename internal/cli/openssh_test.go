//go:build !windows

package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/cli"
	"envask/internal/reach/reachtest"
)

// TestRealOpenSSH does the whole job with the built program against a real OpenSSH server: it collects from it and submits
// to it.
func TestRealOpenSSH(t *testing.T) {
	server := reachtest.StartOpenSSH(t)
	dir := t.TempDir()
	reachtest.MakeTree(t, filepath.Join(dir, "tree"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tree", "gate.log"), []byte("2026-03-14T06:12:00Z password=brass-Kelp-71!\n"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "incoming"), 0o700))
	write := func(name, text string) string {
		file := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	at := fmt.Sprintf("%s@127.0.0.1:%d", server.User, server.Port)
	ask := write("ask.yaml", fmt.Sprintf("ask: real\nvendor: Ostrevane Gate Systems\nitems:\n  - {id: tree, files: ['%s/tree/**'], cut: none, required: true}\n  - {id: state, run: 'echo fine; echo odd >&2; exit 4'}\nroutes:\n  - {name: desk, to: 'sftp://%s%s/incoming'}\n", dir, at, dir))
	systems := write("systems.yaml", fmt.Sprintf("site: real\nknown-hosts: %s\nsystems:\n  - {name: one, ssh: '%s', key: %s}\n", server.KnownHosts, at, server.Key))
	home := filepath.Join(dir, "home")
	write("home/credentials.yaml", fmt.Sprintf("credentials:\n  - {route: desk, host: 127.0.0.1, key: %s}\n", server.Key))
	known, err := os.ReadFile(server.KnownHosts)
	require.NoError(t, err)
	write("home/known_hosts", string(known))

	envask := program(t, home)
	sum, err := cli.AskDigest(ask)
	require.NoError(t, err)
	must(t, envask("ask", "approve", ask, "--digest", sum))
	must(t, envask("open", "26031407", "--ask", ask, "--systems", systems))
	out := must(t, envask("collect"))
	require.Regexp(t, `one +tree \* +taken +7 `, out)
	require.Contains(t, out, "exit code 4")
	raw := filepath.Join(home, "cases", "26031407", "rounds", "r1", "raw", "one", "files", dir, "tree")
	require.FileExists(t, filepath.Join(raw, "odd %FF%0A name"))
	info, err := os.Stat(filepath.Join(raw, "big"))
	require.NoError(t, err)
	require.Equal(t, int64(reachtest.Big), info.Size())
	out = must(t, envask("pack", "--opaque", "tree"))
	require.Contains(t, out, "1 keyed-secret")
	out = must(t, envask("submit", "--yes"))
	require.Contains(t, out, "size and SHA-256 agree (computed by the server)")
	require.Contains(t, out, "SSH-2.0-OpenSSH")
	must(t, envask("verify", filepath.Join(dir, "incoming", "26031407_real_r1.tar.gz")))
}
