package reach_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"envask/internal/fault"
	"envask/internal/reach"
	"envask/internal/reach/reachtest"
	"envask/internal/site"
	"envask/internal/standin"
)

func TestLocal(t *testing.T) {
	root := t.TempDir()
	reachtest.MakeTree(t, root)
	reachtest.Test(t, reach.NewLocal(""), root)
	t.Run("below a root", func(t *testing.T) { reachtest.Test(t, reach.NewLocal(root), "/") })
}

// standIn starts a stand-in with the suite's tree and gives a dialer that trusts it.
func standIn(t *testing.T, change func(*standin.Server)) (*standin.Server, *reach.Dialer, *site.System) {
	t.Helper()
	tree := standin.NewTree()
	now := time.Now()
	big := make([]byte, reachtest.Big)
	for i := range big {
		big[i] = reachtest.BigByte(i)
	}
	for name, data := range map[string][]byte{"plain": []byte("hello\n"), "empty": nil, "dir/inner": []byte("in\n"), "dir/deeper/leaf": nil, reachtest.OddName: []byte("odd\n"), "big": big} {
		tree.File("/tree/"+name, data, now)
	}
	tree.Put("/tree/link", &standin.Node{Link: "plain", Mode: os.ModeSymlink, Time: now})
	tree.Put("/tree/dir-link", &standin.Node{Link: "dir", Mode: os.ModeSymlink, Time: now})
	tree.Put("/tree/dangling", &standin.Node{Link: "nowhere", Mode: os.ModeSymlink, Time: now})
	s := &standin.Server{Name: "gate-1", User: "svc", Password: "right", Tree: tree, Commands: map[string]standin.Command{
		"echo out; echo err >&2; exit 3": {Out: "out\n", Err: "err\n", Exit: 3}, "echo begun; sleep 60": {Out: "begun\n", Endless: false},
	}}
	s.Exec = nil
	if change != nil {
		change(s)
	}
	require.NoError(t, s.Start())
	t.Cleanup(func() { s.Close() })
	dir := t.TempDir()
	known := filepath.Join(dir, "known_hosts")
	require.NoError(t, os.WriteFile(known, []byte(s.KnownHost()+"\n"), 0o600))
	d := &reach.Dialer{HostKeys: &reach.HostKeys{Files: []string{known}, Own: filepath.Join(dir, "own")}, Secret: func(ref site.Secret) (string, error) {
		return strings.TrimPrefix(string(ref), "env:"), nil
	}}
	t.Cleanup(func() { d.Close() })
	return s, d, &site.System{Name: "gate-1", Ways: []string{"ssh"}, Stall: site.DefaultStall, SSH: site.SSH{User: "svc", Host: "127.0.0.1", Port: s.Port(), Password: "env:right"}}
}

func TestStandIn(t *testing.T) {
	_, d, s := standIn(t, func(s *standin.Server) {
		s.Commands["echo begun; sleep 60"] = standin.Command{Out: "begun\n", HangAfter: true}
	})
	sys, err := d.Open(context.Background(), s)
	require.NoError(t, err)
	defer sys.Close()
	reachtest.Test(t, sys, "/tree")
}

func TestUnknownAndChangedHostKeys(t *testing.T) {
	server, d, s := standIn(t, nil)
	other, _, _ := standIn(t, nil)
	known := d.HostKeys.Files[0]
	ctx := context.Background()

	require.NoError(t, os.WriteFile(known, nil, 0o600))
	_, err := d.Open(ctx, s)
	require.ErrorIs(t, err, reach.ErrHostKey)
	require.Equal(t, fault.Refused, fault.ClassOf(err))
	require.ErrorContains(t, err, server.Fingerprint())
	require.Contains(t, fault.HintOf(err), "--accept-key gate-1="+server.Fingerprint())

	d.HostKeys.Accept = map[string]string{"gate-1": other.Fingerprint()}
	_, err = d.Open(ctx, s)
	require.ErrorContains(t, err, "--accept-key names "+other.Fingerprint())

	d.HostKeys.Accept = map[string]string{"gate-1": server.Fingerprint()}
	sys, err := d.Open(ctx, s)
	require.NoError(t, err)
	sys.Close()
	d.HostKeys.Accept = nil
	sys, err = d.Open(ctx, s)
	require.NoError(t, err, "accepted once, it is known")
	sys.Close()
	require.Equal(t, server.Fingerprint(), d.Fingerprint("gate-1"))

	require.NoError(t, os.Remove(d.HostKeys.Own))
	_, key, _ := strings.Cut(other.KnownHost(), " ")
	require.NoError(t, os.WriteFile(known, []byte(fmt.Sprintf("# head\n[127.0.0.1]:%d %s\n", server.Port(), key)), 0o600))
	d.HostKeys.Accept = map[string]string{"gate-1": server.Fingerprint()}
	_, err = d.Open(ctx, s)
	require.ErrorContains(t, err, "CHANGED")
	require.ErrorContains(t, err, known+":2", "it says where the known key stands")

	require.NoError(t, os.WriteFile(known, []byte("broken line\n"), 0o600))
	_, err = d.Open(ctx, s)
	require.Equal(t, fault.Usage, fault.ClassOf(err))
}

func TestARefusedPasswordIsNotTriedAgain(t *testing.T) {
	server, d, s := standIn(t, nil)
	s.SSH.Password = "env:wrong"
	var wg sync.WaitGroup
	errs := make([]error, 20)
	for i := range errs {
		wg.Add(1)
		go func() {
			defer wg.Done()
			one := *s
			one.Name = fmt.Sprintf("gate-%d", i)
			_, errs[i] = d.Open(context.Background(), &one)
		}()
	}
	wg.Wait()
	again := 0
	for _, err := range errs {
		require.ErrorIs(t, err, reach.ErrLogin)
		require.NotContains(t, err.Error(), "wrong")
		if strings.Contains(err.Error(), "is not tried again") {
			again++
		}
	}
	require.Equal(t, len(errs)-1, again)
	_, refused := server.Logins()
	require.Equal(t, 1, refused, "20 systems must not lock one account")
}

func TestLoginsNeedSomething(t *testing.T) {
	_, d, s := standIn(t, nil)
	s.SSH.Password = ""
	_, err := d.Open(context.Background(), s)
	require.ErrorContains(t, err, "no key, agent or password")
	s.SSH.Key = filepath.Join(t.TempDir(), "none")
	_, err = d.Open(context.Background(), s)
	require.ErrorContains(t, err, "read the key")
	require.NoError(t, os.WriteFile(s.SSH.Key, []byte("no key"), 0o600))
	d2 := &reach.Dialer{HostKeys: d.HostKeys}
	_, err = d2.Open(context.Background(), s)
	require.ErrorContains(t, err, "is not a usable private key")
}

func TestSilentPeersAreGivenUp(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	_, d, s := standIn(t, nil)
	s.SSH.Port = listener.Addr().(*net.TCPAddr).Port
	begun := time.Now()
	_, err = d.Open(ctx, s)
	require.Error(t, err)
	require.Less(t, time.Since(begun), 3*time.Second)

	_, d, s = standIn(t, func(s *standin.Server) { s.StallAfter = 100_000 })
	s.Stall = time.Second
	sys, err := d.Open(context.Background(), s)
	require.NoError(t, err)
	defer sys.Close()
	f, err := sys.FS().Open("tree/big")
	require.NoError(t, err)
	begun = time.Now()
	_, err = f.Read(make([]byte, reachtest.Big))
	require.Error(t, err)
	require.Less(t, time.Since(begun), 5*time.Second)
	require.ErrorIs(t, sys.(reach.Health).Lost(), reach.ErrLost)
	require.ErrorContains(t, sys.(reach.Health).Lost(), "no sign of life for 1s")
}

func TestThroughAJumpHost(t *testing.T) {
	jump, d, js := standIn(t, func(s *standin.Server) { s.Forward = true })
	target, td, ts := standIn(t, nil)
	both, err := os.ReadFile(td.HostKeys.Files[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(d.HostKeys.Files[0], append(both, jump.KnownHost()+"\n"...), 0o600))
	js.Name = "jump"
	ts.Name, ts.Via = "gate-2", "jump"
	d.Site = &site.Site{Systems: []site.System{*js, *ts}}
	sys, err := d.Open(context.Background(), ts)
	require.NoError(t, err)
	defer sys.Close()
	entries, err := sys.FS().ReadDir("tree")
	require.NoError(t, err)
	require.Len(t, entries, 8)
	good, _ := jump.Logins()
	require.Equal(t, 1, good)
	good, _ = target.Logins()
	require.Equal(t, 1, good)
}

func TestWaysAgreeWithTheSystemsFile(t *testing.T) {
	require.Equal(t, site.Ways(), reach.Ways())
}

func TestName(t *testing.T) {
	for p, want := range map[string]string{"/var/log/x": "var/log/x", "/": ".", "": ".", `C:\gate\x.log`: "C/gate/x.log", "C:/gate": "C/gate", "/a//b/./c/../d": "a/b/d", "/../x": "x"} {
		require.Equal(t, want, reach.Name(p), p)
	}
	require.Equal(t, "/var/log", reach.Path("var/log"))
}

func TestParseAccept(t *testing.T) {
	m, err := reach.ParseAccept([]string{"gate-1=SHA256:abc", "desk=SHA256:def=", "gate-2"})
	require.NoError(t, err)
	require.Equal(t, map[string]string{"gate-1": "SHA256:abc", "desk": "SHA256:def=", "gate-2": reach.AskPerson}, m)
	for _, bad := range []string{"", "=SHA256:x", "gate-1=MD5:x", "gate-1=yes"} {
		_, err := reach.ParseAccept([]string{bad})
		require.Equal(t, fault.Usage, fault.ClassOf(err), bad)
	}
}

// TestOpenSSH runs the suite against a real OpenSSH server on loopback, with keys and a configuration of its own.
func TestOpenSSH(t *testing.T) {
	server := reachtest.StartOpenSSH(t)
	root := t.TempDir()
	reachtest.MakeTree(t, root)
	d := &reach.Dialer{HostKeys: &reach.HostKeys{Files: []string{server.KnownHosts}, Own: filepath.Join(t.TempDir(), "own")}}
	s := &site.System{Name: "real", Ways: []string{"ssh"}, Stall: site.DefaultStall, SSH: site.SSH{User: server.User, Host: "127.0.0.1", Port: server.Port, Key: server.Key}}
	sys, err := d.Open(context.Background(), s)
	require.NoError(t, err)
	defer sys.Close()
	reachtest.Test(t, sys, root)
	squeezes(t, sys, t.TempDir())
}

// squeezes reads stretches of a file with an odd name, compressed on the way.
func squeezes(t *testing.T, sys reach.System, dir string) {
	s, ok := sys.(reach.Squeezer)
	require.True(t, ok)
	require.True(t, s.CanSqueeze(context.Background()))
	text := strings.Repeat("2026-03-14 06:12:00 line with some words in it\n", 50000)
	file := filepath.Join(dir, "it's $(odd) name.log")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	for _, r := range [][2]int64{{0, int64(len(text))}, {1, 2}, {1000000, 1500000}, {int64(len(text)) - 5, int64(len(text))}} {
		in, err := s.Squeezed(context.Background(), reach.Name(file), r[0], r[1])
		require.NoError(t, err)
		data, err := io.ReadAll(in)
		require.NoError(t, err)
		require.Equal(t, text[r[0]:r[1]], string(data))
		require.NoError(t, in.Close())
	}
	in, err := s.Squeezed(context.Background(), reach.Name(file), 0, int64(len(text))+1)
	require.NoError(t, err)
	_, err = io.Copy(io.Discard, in)
	require.ErrorIs(t, err, io.ErrUnexpectedEOF, "less came than was asked for")
	in.Close()
	in, err = s.Squeezed(context.Background(), reach.Name(file+"absent"), 0, 10)
	require.NoError(t, err)
	_, err = io.Copy(io.Discard, in)
	require.Error(t, err)
	in.Close()
}

func TestKeysComeFromTheAgentToo(t *testing.T) {
	file, public, err := standin.NewKey()
	require.NoError(t, err)
	_, d, s := standIn(t, func(s *standin.Server) { s.Key, s.Password = public, "" })
	s.SSH.Password = ""
	private, err := ssh.ParseRawPrivateKey(file)
	require.NoError(t, err)
	ring := agent.NewKeyring()
	require.NoError(t, ring.Add(agent.AddedKey{PrivateKey: private}))
	d.Agent = ring.(agent.ExtendedAgent)
	sys, err := d.Open(context.Background(), s)
	require.NoError(t, err)
	sys.Close()
}

func TestAKeyWithAPassphraseIsAskedForOnce(t *testing.T) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte("open sesame"))
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	_, d, s := standIn(t, func(s *standin.Server) { s.Key, s.Password = signer.PublicKey(), "" })
	s.SSH.Password, s.SSH.Key = "", filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(s.SSH.Key, pem.EncodeToMemory(block), 0o600))
	asked := 0
	d.Passphrase = func(string) ([]byte, error) { asked++; return []byte("open sesame"), nil }
	for range 3 {
		sys, err := d.Open(context.Background(), s)
		require.NoError(t, err)
		sys.Close()
	}
	require.Equal(t, 1, asked)
	nobody := &reach.Dialer{HostKeys: d.HostKeys}
	_, err = nobody.Open(context.Background(), s)
	require.ErrorContains(t, err, "has a passphrase and nobody can be asked")
}
