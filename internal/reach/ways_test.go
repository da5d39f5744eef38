package reach_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"envask/internal/reach"
	"envask/internal/reach/reachtest"
	"envask/internal/site"
	"envask/internal/standin"
)

func open(t *testing.T, d *reach.Dialer, s *site.System) reach.System {
	t.Helper()
	system, err := d.Open(context.Background(), s)
	require.NoError(t, err)
	t.Cleanup(func() { system.Close() })
	return system
}

func served(s reach.System) reach.Served { return s.(reach.Serving).Served() }

func TestFolder(t *testing.T) {
	root := t.TempDir()
	reachtest.MakeTree(t, root)
	reachtest.Test(t, reach.NewFolder(root), "/")
}

// A server without SFTP is read through its shell, and passes the same suite; a noisy one too.
func TestWithoutSFTP(t *testing.T) {
	for name, banner := range map[string]string{"quiet": "", "noisy": "Welcome to gate 1.\nLast login: never\n"} {
		t.Run(name, func(t *testing.T) {
			_, d, s := standIn(t, func(s *standin.Server) { s.NoSFTP, s.Banner = true, banner })
			system := open(t, d, s)
			require.Equal(t, "ssh", served(system).Way)
			require.Contains(t, served(system).Means, "files through stat and dd (the server offers no SFTP)")
			require.Equal(t, banner != "", served(system).Noisy)
			reachtest.TestFiles(t, system, "/tree")
			var out, errOut bytes.Buffer
			exit, err := system.(reach.Runner).Run(context.Background(), "uname; nothing-there", &out, &errOut)
			require.NoError(t, err)
			require.Equal(t, 127, exit)
			require.Equal(t, "Linux 6.1.0-pier armv7l\n", out.String(), "what the shell says when it starts is left out")
			require.Equal(t, "nothing-there: not found\n", errOut.String())
		})
	}
	_, d, s := standIn(t, func(s *standin.Server) { s.NoSFTP, s.NoShell = true, true })
	_, err := d.Open(context.Background(), s)
	require.ErrorContains(t, err, "the server offers no SFTP, and it has no POSIX shell")
}

// What the account may not read is read through the elevation of the systems file, and only that.
func TestElevation(t *testing.T) {
	secret := func(s *standin.Server) {
		s.Tree.Put("/tree/secret", &standin.Node{Data: []byte("for root\n"), Time: time.Now(), Denied: true})
	}
	for _, elevate := range []string{"", "sudo", "/usr/bin/sudo -n"} {
		_, d, s := standIn(t, secret)
		s.Elevate = elevate
		system := open(t, d, s)
		f, err := system.FS().Open("tree/secret")
		if elevate == "" { // SFTP tells when it is opened
			require.ErrorIs(t, err, fs.ErrPermission)
			continue
		}
		require.NoError(t, err)
		data, err := io.ReadAll(f)
		require.NoError(t, err)
		require.Equal(t, "for root\n", string(data))
		require.Equal(t, s.Elevation(), f.(reach.Elevated).ThroughElevation())
		_, plain := must(system.FS().Open("tree/plain")).(reach.Elevated)
		require.False(t, plain, "what the account may read is read by it alone")
		var out bytes.Buffer
		exit, err := system.(reach.Elevator).RunElevated(context.Background(), "id", &out, io.Discard)
		require.NoError(t, err)
		require.Zero(t, exit)
		require.Contains(t, out.String(), "uid=0")
		require.NoError(t, system.(reach.Elevator).TryElevation(context.Background()))
	}
	_, d, s := standIn(t, func(s *standin.Server) { secret(s); s.NoSudo = true })
	s.Elevate = "sudo"
	system := open(t, d, s)
	require.ErrorContains(t, system.(reach.Elevator).TryElevation(context.Background()),
		"sudo -n does not work here: sudo: a password is required")
	_, err := system.FS().Open("tree/secret")
	require.ErrorIs(t, err, fs.ErrPermission)
	require.ErrorContains(t, err, "a password is required")
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// The next way is tried where the first does not serve, and it is said why; an untrusted key leads to no other way.
func TestSeveralWays(t *testing.T) {
	root := t.TempDir()
	reachtest.MakeTree(t, root)
	server, d, s := standIn(t, nil)
	s.Ways, s.Folder = []string{"ssh", "folder"}, root
	require.Equal(t, "ssh", served(open(t, d, s)).Way)
	require.NoError(t, server.Close())
	system := open(t, d, s)
	require.Equal(t, "folder", served(system).Way)
	require.Contains(t, served(system).After, "ssh: no connection to 127.0.0.1")
	require.False(t, func() bool { _, ok := system.(reach.Runner); return ok }(), "a copy runs nothing")
	s.Folder = filepath.Join(root, "plain")
	_, err := d.Open(context.Background(), s)
	require.ErrorContains(t, err, "it is no archive (tar or zip)")
	require.ErrorContains(t, err, "ssh: no connection")

	_, d, s = standIn(t, nil)
	s.Ways, s.Folder = []string{"ssh", "folder"}, root
	require.NoError(t, os.WriteFile(d.HostKeys.Files[0], nil, 0o600))
	_, err = d.Open(context.Background(), s)
	require.ErrorIs(t, err, reach.ErrHostKey)
}

// Commands give way to others where the systems file says so.
func TestNice(t *testing.T) {
	var line atomic.Value
	_, d, s := standIn(t, func(s *standin.Server) {
		s.Exec = func(command string, _ io.Writer) (int, bool) { line.Store(command); return 0, true }
	})
	s.Limits.Nice = 15
	_, err := open(t, d, s).(reach.Runner).Run(context.Background(), "echo it's fine", io.Discard, io.Discard)
	require.NoError(t, err)
	require.Equal(t, `nice -n 15 sh -c 'echo it'\''s fine'`, line.Load())
}

// No more connections go through a jump host at a time than its limit says, and one that ends makes room.
func TestAJumpHostsLimit(t *testing.T) {
	jump, d, gate := standIn(t, func(s *standin.Server) { s.Forward = true })
	through := *gate
	through.Name, through.Via = "gate-2", "gate-1"
	gate.Limits.Connections = 2
	d.Site = &site.Site{Systems: []site.System{*gate}}
	first, second := open(t, d, &through), open(t, d, &through)
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	_, err := d.Open(ctx, &through)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	require.NoError(t, first.Close())
	open(t, d, &through)
	require.NoError(t, second.Close())
	good, _ := jump.Logins()
	require.Equal(t, 4, good, "the jump host itself once, and three through it")
}

func TestBandwidth(t *testing.T) {
	_, d, s := standIn(t, nil)
	s.Limits.Bandwidth = 2 << 20
	system := open(t, d, s)
	begun := time.Now()
	data, err := fs.ReadFile(system.FS(), "tree/big")
	require.NoError(t, err)
	require.Len(t, data, reachtest.Big)
	require.Greater(t, time.Since(begun), time.Second, "3 MB at 2 MiB a second")
}

func TestMayHeal(t *testing.T) {
	for err, want := range map[error]bool{
		reach.ErrConnection: true, reach.ErrLost: true, io.EOF: true, reach.ErrLogin: false,
		reach.ErrHostKey: false, context.Canceled: false,
		&net.DNSError{IsNotFound: true}: false, &net.DNSError{IsTimeout: true}: true, fs.ErrNotExist: false,
	} {
		require.Equal(t, want, reach.MayHeal(err), "%v", err)
	}
}

// A jump host that is lost is dialled again; one that stays away is not tried for every system anew.
func TestALostJumpHost(t *testing.T) {
	jump, d, gate := standIn(t, func(s *standin.Server) { s.Forward = true })
	through := *gate
	through.Name, through.Via = "gate-2", "gate-1"
	d.Site = &site.Site{Systems: []site.System{*gate}}
	open(t, d, &through)
	jump.Drop()
	require.Eventually(t, func() bool {
		system, err := d.Open(context.Background(), &through)
		if err == nil {
			system.Close()
		}
		return err == nil
	}, 5*time.Second, 50*time.Millisecond)
	require.NoError(t, jump.Close())
	for range 6 {
		_, err := d.Open(context.Background(), &through)
		require.Error(t, err)
		require.True(t, strings.Contains(err.Error(), "gate-1"), err)
	}
}

// Whatever number of sessions a server allows on one connection: everything arrives, and nothing passes for a right that is not there.
func TestFewSessions(t *testing.T) {
	for _, most := range []int{10, 4, 2, 1} {
		_, d, s := standIn(t, func(s *standin.Server) {
			s.Sessions, s.Linger = most, 20*time.Millisecond
			for i := range 12 {
				s.Tree.Put(fmt.Sprintf("/tree/root-%d.log", i), &standin.Node{Data: []byte(strings.Repeat("for root\n", 1000)),
					Time: time.Now(), Denied: true})
			}
		})
		s.Elevate = "sudo"
		system := open(t, d, s)
		var g errgroup.Group
		for i := range 12 {
			g.Go(func() error {
				f, err := reach.OpenResolved(system.FS(), fmt.Sprintf("tree/root-%d.log", i))
				if err != nil {
					return err
				}
				defer f.Close()
				data, err := io.ReadAll(f)
				if err == nil && len(data) != 9000 {
					err = fmt.Errorf("%d bytes", len(data))
				}
				return err
			})
			g.Go(func() error {
				var out bytes.Buffer
				_, err := system.(reach.Runner).Run(t.Context(), "echo here", &out, io.Discard)
				if err == nil && out.String() != "here\n" {
					err = fmt.Errorf("it said %q", out.String())
				}
				return err
			})
		}
		require.NoError(t, g.Wait(), "%d sessions", most)
	}
}
