//go:build !windows

package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/cli"
	"envask/internal/standin"
)

const killedSystems = `site: tallow-pier
known-hosts: known_hosts
secrets: {support: env:PIER_SUPPORT}
devices:
  deck-switch: {privileged: {type: privilege, password: env:PIER_PRIVILEGE, prompt: '# ?$'}}
systems:
  - {name: pier-switch, roles: [switch], console: {ssh: admin@192.0.2.2, password: env:PIER_SWITCH}, device: deck-switch}
`

const killedAsk = `ask: switches
vendor: Ostrevane Gate Systems
vitals: no
items:
  - id: dump
    of: [switch]
    before: [{type: account open support, answers: [{when: 'New password: $', give: 'secret:support'}, {when: 'Again: $', give: 'secret:support'}]}]
    afterwards: [{type: account close support, restored-when: {type: account list, like: 'support +closed'}}]
    run: [show release, show ports, show stack]
  - id: core
    of: [switch]
    after: [dump]
    run: dump write core-{case}
    makes: ['/flash/core-*']
    list: {type: dir flash, like: '(?m)^ *(?P<size>[0-9]+)  (?P<name>/\S+)'}
    remove-by: {type: 'delete {file}', answers: [{when: '\[confirm\] $', press: enter}]}
  - id: ports
    of: [switch]
    before: [{type: account open support, answers: [{when: 'New password: $', give: 'secret:support'}, {when: 'Again: $', give: 'secret:support'}]}]
    afterwards: [{type: account close support, restored-when: {type: account list, like: 'support +closed'}}]
    run: show ports
    into: ports.txt
`

// TestKilledWithAChange kills a collection that changes something on a device at every step. Whatever the step was: an account that is left
// open is in the ledger, the next try closes it and brings the round to its end, and nothing is lost.
func TestKilledWithAChange(t *testing.T) {
	if !long() {
		t.Skip("SKIPPED: long (make test-long)")
	}
	t.Parallel()
	dir := t.TempDir()
	bin := filepath.Join(dir, "envask")
	build := exec.Command("go", "build", "-tags", "failpoints", "-o", bin, "envask/cmd/envask")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	must(t, build)
	const shards = 4 // most of the time is waiting
	var kills, open atomic.Int32
	t.Run("all", func(t *testing.T) {
		for shard := range shards {
			t.Run(fmt.Sprint(shard), func(t *testing.T) {
				t.Parallel()
				killAll(t, bin, shard, shards, &kills, &open)
			})
		}
	})
	t.Logf("%d kills, %d of them with the account open", kills.Load(), open.Load())
	require.Greater(t, kills.Load(), int32(30))
	require.Greater(t, open.Load(), int32(5))
}

// killAll kills at every so-manieth step.
func killAll(t *testing.T, bin string, shard, shards int, kills, open *atomic.Int32) {
	dir := t.TempDir()
	d, err := startDevices(dir)
	require.NoError(t, err)
	defer d.close()
	home, saved := filepath.Join(dir, "home"), filepath.Join(dir, "saved")
	envask := func(extra string, args ...string) *exec.Cmd {
		c := exec.Command(bin, args...)
		c.Env = append(os.Environ(), "ENVASK_HOME="+home, "SSH_AUTH_SOCK=", extra)
		return c
	}
	askFile, systems := filepath.Join(dir, "ask.yaml"), filepath.Join(dir, "systems.yaml")
	require.NoError(t, os.WriteFile(askFile, []byte(killedAsk), 0o600))
	require.NoError(t, os.WriteFile(systems, []byte(d.at(killedSystems)), 0o600))
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
	for i := 1 + shard; i <= len(names); i += shards {
		require.NoError(t, os.RemoveAll(home))
		must(t, exec.Command("cp", "-a", saved, home))
		d.ssh.Device.Change(func(x *standin.Device) { x.Flash = standin.NewTree() })
		said, err := envask(fmt.Sprintf("ENVASK_KILL_AT=%d", i), "collect").CombinedOutput()
		if err == nil {
			continue // it came through with fewer points
		}
		kills.Add(1)
		where := fmt.Sprintf("killed at %d (%s): %s", i, names[i-1], said)
		if d.ssh.Device.Open("support") {
			open.Add(1)
			said, err := envask("", "show").CombinedOutput()
			require.NoError(t, err)
			require.Contains(t, string(said), "still to be changed back on pier-switch", where)
		}
		said, err = envask("", "collect").CombinedOutput()
		require.NoError(t, err, "%s, and the next try: %s", where, said)
		require.False(t, d.ssh.Device.Open("support"), where)
		require.Empty(t, d.ssh.Device.Flash.Names("/flash/"), where)
		for _, name := range []string{"commands/dump/03-show-stack.txt", "files/flash/core-26031407", "commands/ports/ports.txt"} {
			require.FileExists(t, filepath.Join(home, "cases", "26031407", "rounds", "r1", "raw", "pier-switch", name), where)
		}
		said, err = envask("", "show", "--json").CombinedOutput()
		require.NoError(t, err)
		require.Contains(t, string(said), `"pending": []`, where)
	}
}
