package reach_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/reach"
	"envask/internal/reach/reachtest"
	"envask/internal/standin"
)

// shellOf runs commands with a program as the shell and nothing but what is in a folder as its tools.
func shellOf(shell []string, tools, before string) func(context.Context, string, io.Writer, io.Writer) (int, error) {
	return func(ctx context.Context, command string, stdout, stderr io.Writer) (int, error) {
		cmd := exec.CommandContext(ctx, shell[0], append(shell[1:], "-c", before+command)...)
		cmd.Stdout, cmd.Stderr, cmd.WaitDelay = stdout, stderr, reach.StopWait
		cmd.Env = []string{"PATH=" + tools}
		err := cmd.Run()
		if ctx.Err() != nil {
			return -1, ctx.Err()
		}
		if exit, ok := err.(*exec.ExitError); ok {
			return exit.ExitCode(), nil
		}
		return 0, err
	}
}

func busybox(t *testing.T, leaveOut ...string) (shell []string, tools string) {
	t.Helper()
	file, err := exec.LookPath("busybox")
	if err != nil {
		require.Empty(t, os.Getenv("ENVASK_SERVERS"), "BusyBox should have been installed")
		t.Skip("SKIPPED: REAL SERVER: there is no BusyBox here (make test-servers installs it)")
	}
	tools = t.TempDir()
	out, err := exec.Command(file, "--list").Output()
	require.NoError(t, err)
	for _, name := range strings.Fields(string(out)) {
		if !strings.Contains(" "+strings.Join(leaveOut, " ")+" ", " "+name+" ") {
			require.NoError(t, os.Symlink(file, filepath.Join(tools, name)))
		}
	}
	return []string{file, "sh"}, tools
}

// Files through a shell are as files over SFTP, with whatever tools are there, and whatever a shell prints when it starts.
func TestFilesThroughAShell(t *testing.T) {
	root := t.TempDir()
	reachtest.MakeTree(t, root)
	usual := "/usr/sbin:/usr/bin:/sbin:/bin"
	noise := "echo 'Welcome to gate 2'; echo 'mkdir: Permission denied' >&2; "
	for name, c := range map[string]struct {
		style, before string
		leaveOut      []string
		busybox       bool
		want          string
	}{
		"as usual":                {want: "files through stat and dd"},
		"a noisy shell":           {before: noise, want: "stat"},
		"without stat":            {style: "ls", want: "ls"},
		"BusyBox":                 {busybox: true, want: "stat"},
		"BusyBox without stat":    {busybox: true, leaveOut: []string{"stat"}, want: "files through ls and dd"},
		"BusyBox with few things": {busybox: true, leaveOut: []string{"stat", "find", "readlink", "tail", "head"}, before: noise, want: "ls"},
	} {
		t.Run(name, func(t *testing.T) {
			shell, tools := []string{"/bin/sh"}, usual
			if c.busybox {
				shell, tools = busybox(t, c.leaveOut...)
			}
			s, means, err := reach.NewShellSystem(shellOf(shell, tools, c.before), c.style)
			require.NoError(t, err)
			require.Contains(t, means, c.want)
			if c.before == "" {
				reachtest.Test(t, s, root)
			} else {
				reachtest.TestFiles(t, s, root)
			}
		})
	}
}

func TestAShellTellsWhyAFileCannotBeRead(t *testing.T) {
	if os.Getuid() == 0 {
		t.Log("as root nothing is denied; the stand-ins test it")
	}
	root := t.TempDir()
	reachtest.MakeTree(t, root)
	s, _, err := reach.NewShellSystem(shellOf([]string{"/bin/sh"}, "/usr/bin:/bin", ""), "")
	require.NoError(t, err)
	top := reach.Name(root)
	_, err = s.FS().ReadDir(path.Join(top, "plain"))
	require.Error(t, err)
	_, err = s.FS().Open(path.Join(top, "dir"))
	require.ErrorContains(t, err, "not a regular file")
	_, err = s.FS().ReadLink(path.Join(top, "plain"))
	require.ErrorContains(t, err, "not a link")
	if os.Getuid() != 0 {
		require.NoError(t, os.Chmod(filepath.Join(root, "plain"), 0))
		_, err = s.FS().Open(path.Join(top, "plain"))
		require.ErrorIs(t, err, fs.ErrPermission)
		require.NoError(t, os.Chmod(filepath.Join(root, "dir"), 0))
		_, err = s.FS().ReadDir(path.Join(top, "dir"))
		require.ErrorIs(t, err, fs.ErrPermission)
		require.NoError(t, os.Chmod(filepath.Join(root, "dir"), 0o755))
	}
	_, _, err = reach.NewShellSystem(func(_ context.Context, _ string, out, _ io.Writer) (int, error) {
		_, err := io.WriteString(out, "This device has its own command language.\n")
		return 1, err
	}, "")
	require.ErrorContains(t, err, "no POSIX shell")
}

// Pieces of a file that another replaced are not mixed with those of the first.
func TestAReplacedFileIsNotMixed(t *testing.T) {
	root := t.TempDir()
	reachtest.MakeTree(t, root)
	s, _, err := reach.NewShellSystem(shellOf([]string{"/bin/sh"}, "/usr/bin:/bin", ""), "")
	require.NoError(t, err)
	f, err := s.FS().Open(path.Join(reach.Name(root), "big"))
	require.NoError(t, err)
	defer f.Close()
	at := f.(io.ReaderAt)
	b := make([]byte, 70_000)
	n, err := at.ReadAt(b, 100_001)
	require.NoError(t, err)
	require.Equal(t, len(b), n)
	for i := range b {
		require.Equal(t, reachtest.BigByte(100_001+i), b[i])
	}
	n, err = at.ReadAt(b, reachtest.Big-10)
	require.ErrorIs(t, err, io.EOF)
	require.Equal(t, 10, n)
	other := filepath.Join(root, "other")
	require.NoError(t, os.WriteFile(other, bytes.Repeat([]byte("x"), 200_000), 0o600))
	require.NoError(t, os.Rename(other, filepath.Join(root, "big")))
	_, err = at.ReadAt(b, 0)
	require.ErrorContains(t, err, "replaced while it was read")
}

// With more rights a link is not followed: what was a log when it was found may be one to something else by now.
func TestElevationFollowsNoLink(t *testing.T) {
	_, d, s := standIn(t, func(s *standin.Server) {
		s.Tree.Put("/tree/closed.log", &standin.Node{Data: []byte("log\n"), Time: time.Now(), Denied: true})
		s.Tree.Put("/etc/shadow", &standin.Node{Data: []byte("secret\n"), Time: time.Now(), Denied: true})
		s.Tree.Put("/tree/swapped.log", &standin.Node{Link: "/etc/shadow", Mode: os.ModeSymlink, Time: time.Now()})
	})
	s.Elevate = "sudo"
	system := open(t, d, s)
	data, err := fs.ReadFile(system.FS(), "tree/closed.log")
	require.NoError(t, err)
	require.Equal(t, "log\n", string(data))
	_, err = system.FS().Open("tree/swapped.log")
	require.Error(t, err)
	require.NotErrorIs(t, err, fs.ErrNotExist)
}

func FuzzParseStat(f *testing.F) {
	f.Add("/81a4 6 1773468720 17 ./plain/\n/41ed 4096 1773468720 18 ./dir/\n", false)
	f.Add("/81a4 6 1773468720 17 ./a ./\n/\n", false)
	f.Add("/-rw-r--r-- 6 1773468720 - ./plain/\n/crw-rw---- 4, 0 - ./tty/\n", true)
	f.Add("/81a4 6 17 1 x/\n", false)
	f.Fuzz(func(t *testing.T, text string, letters bool) {
		n, err := reach.ParseStat(text, letters)
		if err == nil && n > strings.Count(text, "/\n") {
			t.Fatalf("%d files in %q", n, text)
		}
	})
}

func TestParseStat(t *testing.T) {
	for text, want := range map[string]int{"": 0, "/81a4 6 1773468720 17 ./plain/\n/41ed 0 0 1 ./d/\n": 2, "/81a4 1 2 3 ./two\nlines/\n": 1, "/a1ff 1 2 3 ./ends in a dot ./\n": 1} {
		n, err := reach.ParseStat(text, false)
		require.NoError(t, err, "%q", text)
		require.Equal(t, want, n, "%q", text)
	}
	for _, bad := range []string{"x", "/", "/81a4/\n", "/zz 1 2 3 ./x/\n", "/81a4 1 2 3 ./x", fmt.Sprint(1)} {
		_, err := reach.ParseStat(bad, false)
		require.Error(t, err, "%q", bad)
	}
}
