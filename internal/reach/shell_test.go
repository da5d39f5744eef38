//go:build unix

package reach_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"envask/internal/reach"
	"envask/internal/reach/reachtest"
	"envask/internal/site"
)

func shellSystem(argv ...string) *site.System {
	return &site.System{Name: "app-1", Ways: []string{"shell"}, Shell: argv}
}

func shellDialer() *reach.Dialer { return &reach.Dialer{Getenv: os.Getenv} }

// Any program that gives a shell passes the suite that every way passes.
func TestShells(t *testing.T) {
	root := t.TempDir()
	reachtest.MakeTree(t, root)
	noisy := filepath.Join(root, "..", "noisy")
	require.NoError(t, os.WriteFile(noisy, []byte("#!/bin/sh\necho Welcome to the console; echo careful >&2; exec sh\n"), 0o700))
	for name, argv := range map[string][]string{
		"sh": {"sh"}, "with a banner": {noisy}, "busybox": {"busybox", "sh"}, "interactive": {"sh", "-i"},
		"bash": {"bash", "--norc", "-i"}, "a terminal": {"script", "-q", "-c", "sh", "/dev/null"},
		"through another": {"sh", "-c", "exec sh"},
	} {
		t.Run(name, func(t *testing.T) {
			if _, err := exec.LookPath(argv[0]); err != nil {
				t.Skip("needs " + argv[0])
			}
			system := open(t, shellDialer(), shellSystem(argv...))
			require.Equal(t, "shell", served(system).Way)
			require.Contains(t, served(system).Means, "in the shell that "+argv[0]+" gives")
			reachtest.Test(t, system, root)
			require.False(t, reach.Near(system))
			require.False(t, reach.Own(system))
		})
	}
}

func TestShellInAnotherRoot(t *testing.T) {
	busybox, err := exec.LookPath("busybox")
	if err != nil || os.Getuid() != 0 {
		t.Skip("needs BusyBox, and root for chroot")
	}
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "bin"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "dev"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "dev/null"), nil, 0o666))
	libraries, _ := exec.Command("ldd", busybox).Output() // a static one has none
	for _, file := range append(regexp.MustCompile(`/\S+`).FindAllString(string(libraries), -1), busybox) {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		to := filepath.Join(root, file)
		if file == busybox {
			to = filepath.Join(root, "bin/busybox")
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
		require.NoError(t, os.WriteFile(to, data, 0o755))
	}
	if err := exec.Command("chroot", root, "/bin/busybox", "true").Run(); err != nil {
		t.Skip("this BusyBox does not run in another root")
	}
	require.NoError(t, exec.Command("chroot", root, "/bin/busybox", "--install", "-s", "/bin").Run())
	require.NoError(t, os.Mkdir(filepath.Join(root, "tree"), 0o755))
	reachtest.MakeTree(t, filepath.Join(root, "tree"))
	system := open(t, shellDialer(), shellSystem("chroot", root, "/bin/sh"))
	reachtest.Test(t, system, "/tree")
}

// ssh itself, with options that we do not know, to a real server.
func TestShellOverSSH(t *testing.T) {
	server := reachtest.StartOpenSSH(t)
	root := t.TempDir()
	reachtest.MakeTree(t, root)
	system := open(t, shellDialer(), shellSystem("ssh", "-T", "-p", fmt.Sprint(server.Port), "-i", server.Key, "-o",
		"IdentitiesOnly=yes", "-o",
		"UserKnownHostsFile="+server.KnownHosts, "-o", "BatchMode=yes", "-F", "/dev/null", server.User+"@127.0.0.1", "sh"))
	reachtest.Test(t, system, root)
}

// What gives no shell, or one that changes what passes, says so in words that help.
func TestShellsThatAreNone(t *testing.T) {
	for name, c := range map[string]struct {
		argv []string
		want string
	}{
		"no program": {[]string{"/nowhere/podman", "exec"}, "start /nowhere/podman: no such file or directory"},
		"ends": {[]string{"sh", "-c", "echo 'no such container: app-1' >&2; exit 125"},
			"ended at once (exit code 125), and said: no such container: app-1"},
		"is cat":      {[]string{"sh", "-c", "cat >/dev/null & sleep 1; kill $!"}, "ended at once"},
		"drops bytes": {[]string{"sh", "-c", "sh 2>&1 | sed -u 's/c\\x01d/cd/'"}, "whose output is changed on its way"},
	} {
		_, err := shellDialer().Open(context.Background(), shellSystem(c.argv...))
		require.ErrorIs(t, err, reach.ErrConnection, name)
		require.ErrorContains(t, err, c.want, name)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 200*time.Millisecond)
	defer cancel()
	begun := time.Now()
	_, err := shellDialer().Open(ctx, shellSystem("sleep", "60"))
	require.ErrorIs(t, err, context.DeadlineExceeded)
	require.Less(t, time.Since(begun), 2*reach.StopWait)
}

// Both streams in one, as consoles give them.
func TestShellWithOneStream(t *testing.T) {
	system := open(t, shellDialer(), shellSystem("sh", "-c", "exec sh 2>&1"))
	var out, errOut bytes.Buffer
	exit, err := system.(reach.Runner).Run(context.Background(), "echo out; echo err >&2; exit 3", &out, &errOut)
	require.NoError(t, err)
	require.Equal(t, 3, exit)
	require.Equal(t, "out\n", out.String())
	require.Equal(t, "err\n", errOut.String())
	root := t.TempDir()
	reachtest.MakeTree(t, root)
	reachtest.Test(t, system, root)
}

func TestShellThatDies(t *testing.T) {
	dir := t.TempDir()
	once := filepath.Join(dir, "once")
	system := open(t, shellDialer(), shellSystem("sh", "-c", "[ -e "+once+" ] && exit 7; exec sh"))
	run := system.(reach.Runner)
	var out bytes.Buffer
	_, err := run.Run(context.Background(), "echo begun; kill -9 $PPID; sleep 5", &out, io.Discard)
	require.ErrorIs(t, err, reach.ErrLost)
	out.Reset()
	_, err = run.Run(context.Background(), "echo again", &out, io.Discard)
	require.NoError(t, err, "another one is started")
	require.Equal(t, "again\n", out.String())
	require.NoError(t, os.WriteFile(once, nil, 0o600))
	_, err = run.Run(context.Background(), "kill -9 $PPID; sleep 5", io.Discard, io.Discard)
	require.ErrorIs(t, err, reach.ErrLost)
	_, err = run.Run(context.Background(), "echo again", io.Discard, io.Discard)
	require.ErrorIs(t, err, reach.ErrLost)
	require.ErrorContains(t, system.(reach.Health).Lost(), "exit code 7")
}

// Several commands run at a time, each in a shell of its own; nothing of one is in the output of another, whatever the bytes.
func TestManyCommandsInShells(t *testing.T) {
	s := shellSystem("sh")
	s.Limits.Connections = 3
	system := open(t, shellDialer(), s)
	var g errgroup.Group
	for i := range 24 {
		g.Go(func() error {
			var out bytes.Buffer
			_, err := system.(reach.Runner).Run(context.Background(),
				fmt.Sprintf("i=0; while [ $i -lt 300 ]; do printf 'envask-%d-%%d\\n\\nenvask-' $i; i=$((i+1)); done", i), &out, io.Discard)
			if err != nil {
				return err
			}
			if n := strings.Count(out.String(), fmt.Sprintf("envask-%d-", i)); n != 300 || !strings.HasSuffix(out.String(), "\n\nenvask-") {
				return fmt.Errorf("command %d: %d lines of 300", i, n)
			}
			return nil
		})
	}
	require.NoError(t, g.Wait())
}
