//go:build !windows

package cli_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/cli"
	"envask/internal/standin"
)

// TestManySystems takes from 200 stand-in systems, of which a tenth misbehave, each in its own way: it ends in a bounded time,
// with a complete table in which every field has a state and a reason where it needs one.
func TestManySystems(t *testing.T) {
	t.Parallel()
	const systems = 200
	dir := t.TempDir()
	file, public, err := standin.NewKey()
	require.NoError(t, err)
	write := func(name, text string) string {
		p := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(p, []byte(text), 0o600))
		return p
	}
	write("key", string(file))
	wants := map[string]string{}
	var known, list strings.Builder
	var down []*standin.Server
	for i := range systems {
		tree := standin.NewTree()
		tree.File("/var/log/gate.log", []byte(strings.Repeat(fmt.Sprintf("2026-03-14T06:12:00Z INFO pass at gate %d\n", i), 4000)),
			standin.FaultAt)
		tree.Put("/tmp", &standin.Node{Mode: os.ModeDir, Time: standin.FaultAt})
		s := &standin.Server{Name: fmt.Sprintf("gate-%03d", i), User: "svc", Key: public, Tree: tree,
			Commands: map[string]standin.Command{"gatectl state": {Out: "open\n"}}}
		more, want := "", "taken"
		if i%10 == 7 {
			more, want = misbehave(s, i/10)
		}
		require.NoError(t, s.Start())
		defer s.Close()
		if want == "down" {
			down = append(down, s)
			want = "failed"
		}
		if !strings.Contains(more, "unknown") {
			known.WriteString(s.KnownHost() + "\n")
		}
		wants[s.Name] = want
		fmt.Fprintf(&list, "  - {name: %s, roles: [gate], ssh: '%s', key: key, stall: 6s%s}\n", s.Name, s.Address(),
			strings.TrimSuffix(more, " unknown"))
	}
	for _, s := range down {
		require.NoError(t, s.Down())
	}
	write("known", known.String())
	ask := write("ask.yaml", "ask: many\nvendor: Ostrevane Gate Systems\nitems:\n  - {id: log, of: [gate], files: [/var/log/*.log], "+
		"required: true}\n  - {id: state, of: [gate], run: gatectl state, timeout: 8s, required: true}\n")
	sys := write("systems.yaml", "site: tallow-pier\nknown-hosts: known\nsystems:\n"+list.String())
	envask := program(t, filepath.Join(dir, "home"))
	sum, err := cli.AskDigest(ask)
	require.NoError(t, err)
	must(t, envask("ask", "approve", ask, "--digest", sum))
	must(t, envask("open", "26031407", "--ask", ask, "--systems", sys))

	begun := time.Now()
	c := envask("collect", "--json", "--quiet")
	var out, errOut bytes.Buffer
	c.Stdout, c.Stderr = &out, &errOut
	err = c.Run()
	took := time.Since(begun)
	var exit *exec.ExitError
	require.True(t, errors.As(err, &exit), errOut.String())
	require.Equal(t, 3, exit.ExitCode(), errOut.String())
	require.Less(t, took, 90*time.Second)
	var doc struct {
		Coverage []struct {
			System, Item, State, Reason string
		}
	}
	require.NoError(t, json.Unmarshal(out.Bytes(), &doc))
	require.Len(t, doc.Coverage, 3*systems, "a field for every item and the vitals of every system")
	worst := map[string]string{}
	for _, cell := range doc.Coverage {
		require.NotEmpty(t, cell.State, cell)
		if cell.State != "taken" {
			require.NotEmpty(t, cell.Reason, cell)
			if cell.Item != "vitals" {
				worst[cell.System] += cell.State + " "
			}
		}
	}
	for name, want := range wants {
		if want == "taken" {
			require.Empty(t, worst[name], name)
		} else {
			require.Contains(t, worst[name], want, name)
		}
	}
	rss := c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss >> 10
	t.Logf("%d systems in %s, %d MiB resident", systems, took.Round(100*time.Millisecond), rss)
}

// misbehave lets a system misbehave in one of many ways. It gives further keys of its entry and the state that a field of it
// ends in.
func misbehave(s *standin.Server, kind int) (more, want string) {
	switch kind % 10 {
	case 0:
		return "", "down"
	case 1: // it drops every connection early on
		s.CutAfter = 2000
		return "", "failed"
	case 2: // it goes silent
		s.StallAfter = 20_000
		return "", "timed-out"
	case 3:
		return " unknown", "refused"
	case 4:
		s.User = "other"
		return "", "taken"
	case 5: // its command does not end
		s.Commands["gatectl state"] = standin.Command{Out: "waiting\n", HangAfter: true}
		return "", "timed-out"
	case 6:
		delete(s.Commands, "gatectl state")
		return "", "failed"
	case 7:
		s.Tree.Put("/var/log/gate.log", &standin.Node{Data: []byte("x"), Denied: true, Time: standin.FaultAt})
		return "", "denied"
	case 8: // no SFTP, and a shell that greets: no reason to lack anything
		s.NoSFTP, s.Banner = true, "Welcome\n"
		return "", "taken"
	}
	s.NoSFTP, s.NoShell = true, true
	return "", "failed"
}
