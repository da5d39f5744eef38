//go:build !windows

package cli_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/cli"
	"envask/internal/reach/reachtest"
)

// realSite is a case of real OpenSSH servers on loopback.
type realSite struct {
	t      *testing.T
	dir    string
	home   string
	envask func(...string) *exec.Cmd
}

func newRealSite(t *testing.T, items, systems string, servers ...reachtest.OpenSSH) *realSite {
	t.Helper()
	r := &realSite{t: t, dir: t.TempDir()}
	r.home = filepath.Join(r.dir, "home")
	known := ""
	for _, s := range servers {
		data, err := os.ReadFile(s.KnownHosts)
		require.NoError(t, err)
		known += strings.TrimSpace(string(data)) + "\n"
	}
	write := func(name, text string) string {
		file := filepath.Join(r.dir, name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	ask := write("ask.yaml", "ask: real\nvendor: Ostrevane Gate Systems\nvitals: no\nitems:\n"+items)
	sys := write("systems.yaml", "site: real\nknown-hosts: "+write("known_hosts", known)+"\nsystems:\n"+systems)
	r.envask = program(t, r.home)
	sum, err := cli.AskDigest(ask)
	require.NoError(t, err)
	must(t, r.envask("ask", "approve", ask, "--digest", sum))
	must(t, r.envask("open", "26031407", "--ask", ask, "--systems", sys))
	return r
}

// collect runs a collection, whatever its exit code, and gives the fields by system and item.
func (r *realSite) collect(args ...string) map[string]string {
	r.t.Helper()
	out, err := r.envask(append([]string{"collect", "--json", "--quiet"}, args...)...).Output()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		require.NoError(r.t, err)
	}
	var doc struct {
		Coverage []struct{ System, Item, State, Reason string }
	}
	require.NoError(r.t, json.Unmarshal(out, &doc), string(out))
	m := map[string]string{}
	for _, c := range doc.Coverage {
		m[c.System+" "+c.Item] = strings.TrimSuffix(c.State+": "+c.Reason, ": ")
	}
	return m
}

func (r *realSite) raw(round, system, source string) string {
	return filepath.Join(r.home, "cases", "26031407", "rounds", round, "raw", system, "files", source)
}

func entry(name string, s reachtest.OpenSSH, more string) string {
	return fmt.Sprintf("  - {name: %s, ssh: '%s@127.0.0.1:%d', key: %s%s}\n", name, s.User, s.Port, s.Key, more)
}

// randomFile makes a file that does not compress.
func randomFile(t *testing.T, name string, size int) {
	t.Helper()
	data := make([]byte, size)
	r := rand.New(rand.NewPCG(uint64(size), 7))
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	require.NoError(t, os.WriteFile(name, data, 0o644))
}

// Through a real jump host, from a real server without SFTP, with a command that makes files.
func TestRealJumpHostAndNoSFTP(t *testing.T) {
	t.Parallel()
	jump, gate := reachtest.StartOpenSSH(t), reachtest.StartOpenSSH(t, reachtest.Setting{NoSFTP: true})
	tree := t.TempDir()
	reachtest.MakeTree(t, tree)
	r := newRealSite(t, fmt.Sprintf("  - {id: tree, of: [gate], files: ['%s/**'], cut: none, required: true}\n  - {id: made, of: "+
		"[gate], run: 'seq 1 1000 > {folder}/numbers', makes: '{folder}/*'}\n", tree),
		entry("jump", jump, "")+entry("gate", gate, ", roles: [gate], via: jump, limits: {nice: 5}"), jump, gate)
	got := r.collect()
	require.Contains(t, got["gate tree"], "taken")
	require.Equal(t, "taken", got["gate made"])
	data, err := os.ReadFile(r.raw("r1", "gate", filepath.Join(tree, "big")))
	require.NoError(t, err)
	require.Len(t, data, reachtest.Big)
	for i := 0; i < len(data); i += 997 {
		require.Equal(t, reachtest.BigByte(i), data[i])
	}
	require.FileExists(t, r.raw("r1", "gate", filepath.Join(tree, "odd %FF%0A name")))
	out := must(t, r.envask("show", "r1", "--verbose"))
	require.Contains(t, out, "gate was reached by ssh: files through stat and dd (the server offers no SFTP)")
	out = must(t, r.envask("show"))
	require.NotContains(t, out, "left there")
}

// A log that only root may read comes through a real sudo; the account alone is denied it.
func TestRealSudo(t *testing.T) {
	t.Parallel()
	gate := reachtest.StartOpenSSH(t, reachtest.Setting{Account: reachtest.SudoAccount})
	dir := t.TempDir()
	for d := dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	secret := filepath.Join(dir, "secure.log")
	text := strings.Repeat("2026-03-14T06:12:00Z element sealed\n", 5000)
	require.NoError(t, os.WriteFile(secret, []byte(text), 0o600))
	folder := filepath.Join(dir, "closed")
	require.NoError(t, os.Mkdir(folder, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "inner.log"), []byte("inner\n"), 0o600))
	items := fmt.Sprintf("  - {id: log, files: ['%s/*.log', '%s/closed/*.log'], cut: none}\n  - {id: who, run: id -u, elevated: true}\n "+
		" - {id: made, run: 'id -u > {folder}/who; chmod 600 {folder}/who', makes: '{folder}/*', elevated: true}\n", dir, dir)
	r := newRealSite(t, items, entry("plain", gate, "")+entry("high", gate, ", elevate: sudo"), gate)
	got := r.collect()
	require.Contains(t, got["plain log"], "permission denied; elevate: sudo in the systems file would help")
	require.Contains(t, got["plain who"], "failed: ")
	require.Equal(t, "taken", got["high log"])
	require.Equal(t, "taken", got["high who"])
	require.Equal(t, "taken", got["high made"])
	data, err := os.ReadFile(r.raw("r1", "high", secret))
	require.NoError(t, err)
	require.Equal(t, text, string(data))
	require.FileExists(t, r.raw("r1", "high", filepath.Join(folder, "inner.log")))
	who, err := os.ReadFile(filepath.Join(r.home, "cases/26031407/rounds/r1/raw/high/made/made/who"))
	require.NoError(t, err)
	require.Equal(t, "0\n", string(who))
	require.Eventually(t, func() bool { // those of tests beside this one go, too; what is left of ours stays
		left, err := filepath.Glob("/var/tmp/envask-*")
		return err == nil && len(left) == 0
	}, time.Minute, 200*time.Millisecond)
	out, err := r.envask("probe", "--verbose").CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "high elevation: works")
}

// However few sessions the server allows on one connection, all logs that only root may read come through sudo.
func TestRealFewSessions(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for d := dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	for i := range 12 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("secure-%02d.log", i)),
			[]byte(strings.Repeat("2026-03-14T06:12:00Z sealed\n", 4000)), 0o600))
	}
	for _, most := range []int{10, 4, 2, 1} {
		gate := reachtest.StartOpenSSH(t, reachtest.Setting{Account: reachtest.SudoAccount, Lines: fmt.Sprintf("MaxSessions %d\n", most)})
		r := newRealSite(t, fmt.Sprintf("  - {id: log, of: [gate], files: ['%s/*.log'], cut: none, required: true}\n  - {id: who, of: "+
			"[gate], run: id -u, elevated: true}\n", dir), entry("gate", gate, ", roles: [gate], elevate: sudo"), gate)
		begun := time.Now()
		require.Equal(t, map[string]string{"gate log": "taken", "gate who": "taken"}, r.collect(), "MaxSessions %d", most)
		files, err := filepath.Glob(filepath.Join(r.raw("r1", "gate", dir), "*.log"))
		require.NoError(t, err)
		require.Len(t, files, 12)
		t.Logf("MaxSessions %d: %s", most, time.Since(begun).Round(10*time.Millisecond))
	}
}

// Connections that are cut, reset, stalled and slow: the file is whole in the end, and little of it travels twice.
func TestRealFaults(t *testing.T) {
	t.Parallel()
	server := reachtest.StartOpenSSH(t)
	dir := t.TempDir()
	const size = 24 << 20
	file := filepath.Join(dir, "dump.bin")
	randomFile(t, file, size)
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, fault := range []reachtest.Fault{reachtest.Cut, reachtest.Reset, reachtest.Stall, reachtest.Slow} {
		t.Run(string(fault), func(t *testing.T) {
			times := 2
			if fault == reachtest.Slow {
				times = 9
			}
			proxy := reachtest.StartProxy(t, server.Port, fault, 10<<20, times)
			through := server
			through.Port = proxy.Port
			known, err := os.ReadFile(server.KnownHosts)
			require.NoError(t, err)
			through.KnownHosts = filepath.Join(t.TempDir(), "known")
			require.NoError(t, os.WriteFile(through.KnownHosts, []byte(strings.Replace(string(known), fmt.Sprint(server.Port),
				fmt.Sprint(proxy.Port), 1)), 0o600))
			r := newRealSite(t, "  - {id: dump, files: ['"+file+"'], cut: none, required: true}\n",
				entry("gate", through, ", stall: 6s"), through)
			begun := time.Now()
			got := r.collect()
			require.Equal(t, "taken", got["gate dump"])
			require.Less(t, time.Since(begun), time.Minute)
			data, err := os.ReadFile(r.raw("r1", "gate", file))
			require.NoError(t, err)
			require.Equal(t, len(want), len(data))
			require.True(t, string(want) == string(data))
			require.Less(t, proxy.Moved.Load(), int64(size+8<<20), "bytes that travelled")
			t.Logf("%s: %d connections, %.1f MiB travelled for %d MiB, %s", fault, proxy.Taken.Load(), float64(proxy.Moved.Load())/(1<<20),
				size>>20, time.Since(begun).Round(10*time.Millisecond))
		})
	}
}
