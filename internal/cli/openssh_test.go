//go:build !windows

package cli_test

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/cli"
	"envask/internal/reach/reachtest"
)

// TestRealOpenSSH does the whole job with the built program against a real OpenSSH server: it collects from it and submits
// to it.
func TestRealOpenSSH(t *testing.T) {
	t.Parallel()
	server := reachtest.StartOpenSSH(t)
	dir := t.TempDir()
	reachtest.MakeTree(t, filepath.Join(dir, "tree"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tree", "gate.log"),
		[]byte("2026-03-14T06:12:00Z password=brass-Kelp-71!\n"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "incoming"), 0o700))
	write := func(name, text string) string {
		file := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	at := fmt.Sprintf("%s@127.0.0.1:%d", server.User, server.Port)
	ask := write("ask.yaml", fmt.Sprintf("ask: real\nvendor: Ostrevane Gate Systems\nvitals: no\nitems:\n  - {id: tree, files: "+
		"['%s/tree/**'], cut: none, required: true}\n  - {id: state, run: 'echo fine; echo odd >&2; exit 4'}\nroutes:\n  - {name: desk, "+
		"to: 'sftp://%s%s/incoming'}\n", dir, at, dir))
	systems := write("systems.yaml", fmt.Sprintf("site: real\nknown-hosts: %s\nsystems:\n  - {name: one, ssh: '%s', key: %s}\n",
		server.KnownHosts, at, server.Key))
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

// TestRealOpenSSHCuts cuts ten minutes out of a log and its compressed member on a real OpenSSH server, through a link that
// is counted: of the sorted log little more than the window travels.
func TestRealOpenSSHCuts(t *testing.T) {
	t.Parallel()
	server := reachtest.StartOpenSSH(t)
	dir := t.TempDir()
	link := countedLink(t, fmt.Sprintf("127.0.0.1:%d", server.Port))
	start := time.Date(2026, 3, 14, 0, 0, 0, 0, time.UTC)
	lines := func(from, to time.Duration) []byte {
		var b bytes.Buffer
		for at := from; at < to; at += 100 * time.Millisecond {
			fmt.Fprintf(&b, "%s INFO pass %012d accepted, with some text that makes the line as long as lines are\n",
				start.Add(at).Format("2006-01-02T15:04:05.000Z"), at*7919)
		}
		return b.Bytes()
	}
	log := lines(6*time.Hour, 18*time.Hour)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "gate.log"), log, 0o600))
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	_, err := z.Write(lines(5*time.Hour, 6*time.Hour))
	require.NoError(t, errors.Join(err, z.Close()))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "gate.log.1.gz"), packed.Bytes(), 0o600))
	known, err := os.ReadFile(server.KnownHosts)
	require.NoError(t, err)
	port := link.addr[strings.LastIndexByte(link.addr, ':')+1:]
	for name, text := range map[string]string{
		"ask.yaml": fmt.Sprintf("ask: real\nvendor: Ostrevane Gate Systems\nvitals: no\nitems:\n  - {id: log, files: "+
			"['%s/gate.log*'], required: true}\n", dir),
		"systems.yaml": fmt.Sprintf("site: real\nknown-hosts: %s/known\nsystems:\n  - {name: one, ssh: '%s@%s', key: %s}\n", dir,
			server.User, link.addr, server.Key),
		"known": strings.ReplaceAll(string(known), fmt.Sprintf("]:%d ", server.Port), "]:"+port+" "),
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	home := filepath.Join(dir, "home")
	envask := program(t, home)
	sum, err := cli.AskDigest(filepath.Join(dir, "ask.yaml"))
	require.NoError(t, err)
	must(t, envask("ask", "approve", filepath.Join(dir, "ask.yaml"), "--digest", sum))
	raw := func(round, name string) []byte {
		data, err := os.ReadFile(filepath.Join(home, "cases", "26031407", "rounds", round, "raw", "one", "files", dir, name))
		require.NoError(t, err)
		return data
	}
	collect := func(from, to string) {
		must(t, envask("open", "26031407", "--ask", filepath.Join(dir, "ask.yaml"), "--systems", filepath.Join(dir, "systems.yaml"),
			"--from", from, "--to", to))
		must(t, envask("collect"))
	}
	collect("2026-03-14T12:00:00Z", "2026-03-14T12:09:59Z")
	want := lines(12*time.Hour, 12*time.Hour+9*time.Minute+59*time.Second+time.Millisecond)
	require.Equal(t, string(want), string(raw("r1", "gate.log")))
	travelled := link.bytes.Load()
	t.Logf("%d KiB of %d KiB kept, %d KiB travelled", len(want)>>10, len(log)>>10, travelled>>10)
	require.Less(t, travelled, int64(2*len(want)+1<<20))

	collect("2026-03-14T05:50:00Z", "2026-03-14T06:00:00Z")
	require.Equal(t, string(lines(5*time.Hour+50*time.Minute, 6*time.Hour)), string(raw("r2", "gate.log.1")), "unpacked and cut")
	require.Equal(t, string(lines(6*time.Hour, 6*time.Hour+time.Millisecond)), string(raw("r2", "gate.log")))
}

// link is a TCP relay that counts what comes from the server.
type link struct {
	addr  string
	bytes atomic.Int64
}

func countedLink(t *testing.T, to string) *link {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	k := &link{addr: l.Addr().String()}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("tcp", to)
			if err != nil {
				in.Close()
				return
			}
			go func() { _, _ = io.Copy(out, in); out.Close() }()
			go func() {
				buf := make([]byte, 64<<10)
				for {
					n, err := out.Read(buf)
					k.bytes.Add(int64(n))
					if _, e := in.Write(buf[:n]); err != nil || e != nil {
						in.Close()
						return
					}
				}
			}()
		}
	}()
	return k
}
