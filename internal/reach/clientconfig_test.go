package reach_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/reach"
	"envask/internal/site"
	"envask/internal/standin"
)

// TestMain lets the test's own program be a proxy command: it relays between its standard streams and an address.
func TestMain(m *testing.M) {
	if to := os.Getenv("ENVASK_TEST_RELAY"); to != "" {
		conn, err := net.Dial("tcp", to)
		if err != nil {
			os.Exit(1)
		}
		go func() { _, _ = io.Copy(conn, os.Stdin) }()
		_, _ = io.Copy(os.Stdout, conn)
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// configured makes a server with a key, and a dialer that knows it only through a client configuration.
func configured(t *testing.T, config string) (*standin.Server, *reach.Dialer) {
	t.Helper()
	dir := t.TempDir()
	keyFile, public, err := standin.NewKey()
	require.NoError(t, err)
	s := &standin.Server{Name: "gate-1", User: "svc", Key: public, Tree: standin.NewTree(), Forward: true}
	require.NoError(t, s.Start())
	t.Cleanup(func() { s.Close() })
	write := func(name, text string) string {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	write("pier.key", string(keyFile))
	write("pier.hosts", s.KnownHost()+"\n")
	config = strings.NewReplacer("PORT", fmt.Sprint(s.Port()), "DIR", dir).Replace(config)
	d := &reach.Dialer{Config: reach.LoadClientConfig(write("config", config), filepath.Join(dir, "absent")), HomeDir: dir,
		HostKeys: &reach.HostKeys{Own: filepath.Join(dir, "own")}}
	t.Cleanup(func() { d.Close() })
	return s, d
}

func system(host string) *site.System {
	return &site.System{Name: "gate-1", Ways: []string{"ssh"}, Stall: site.DefaultStall, SSH: site.SSH{Host: host, Port: 22}}
}

// The engineer's own client configuration says what the systems file leaves open.
func TestClientConfiguration(t *testing.T) {
	base := "Host gate-*\n  HostName 127.0.0.1\n  Port PORT\n  User svc\n  IdentityFile DIR/pier.key\n  IdentitiesOnly yes\n  UserKnownHostsFile DIR/pier.hosts\n"
	for name, config := range map[string]string{
		"an alias with user, port and key": base,
		"the first value counts":           "Host gate-one\n  User svc\n" + strings.Replace(base, "User svc", "User other", 1),
		"Match by host alone":              strings.Replace(base, "Host gate-*", "Match host gate-one,gate-two", 1),
		"an ending with tokens":            strings.Replace(base, "DIR/pier.key", "%d/pier.key", 1),
		"through itself as a jump host":    base + "Host gate-one\n  ProxyJump svc@gate-hop\n",
		"through two jump hosts":           base + "Host gate-one\n  ProxyJump gate-hop,svc@gate-next\n",
		"through a command":                base + "Host gate-one\n  ProxyCommand ENVASK_TEST_RELAY=127.0.0.1:%p exec " + os.Args[0] + "\n",
	} {
		t.Run(name, func(t *testing.T) {
			_, d := configured(t, config)
			require.Empty(t, d.Config.Remarks)
			sys, err := d.Open(context.Background(), system("gate-one"))
			require.NoError(t, err)
			require.NoError(t, sys.Close())
		})
	}
}

func TestWhatTheClientConfigurationCannotDo(t *testing.T) {
	_, d := configured(t, "Match exec \"true\"\n  User other\nMatch all\n  User svc\n")
	require.Len(t, d.Config.Remarks, 1)
	require.Contains(t, d.Config.Remarks[0], `config:1: "Match exec \"true\"" is not honoured`)

	_, d = configured(t, "Host a\n  HostName 127.0.0.1\n  ProxyJump b\nHost b\n  ProxyJump a\n")
	_, err := d.Open(context.Background(), system("a"))
	require.ErrorContains(t, err, "the jump hosts go round")

	_, d = configured(t, "Host a\n  ProxyCommand exit 1\n  IdentityFile DIR/pier.key\n")
	_, err = d.Open(context.Background(), system("a"))
	require.ErrorIs(t, err, reach.ErrConnection)

	// The systems file comes first.
	s, d := configured(t, "Host *\n  User other\n  Port 1\n  IdentityFile DIR/pier.key\n  UserKnownHostsFile DIR/pier.hosts\n")
	given := system("127.0.0.1")
	given.SSH.User, given.SSH.Port, given.SSH.PortGiven = "svc", s.Port(), true
	sys, err := d.Open(context.Background(), given)
	require.NoError(t, err)
	require.NoError(t, sys.Close())

	d.Config = reach.LoadClientConfig(t.TempDir())
	require.Len(t, d.Config.Remarks, 1, "a folder is no configuration")
}

func FuzzClientConfig(f *testing.F) {
	f.Add("Host a\n  HostName b\nMatch exec x\n User y\n")
	f.Add("Match host \"a,b\"\nInclude x\n")
	f.Add("Host\nMatch\n=\n")
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(strings.ToLower(text), "include") {
			return // it reads other files
		}
		file := filepath.Join(t.TempDir(), "config")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		reach.LoadClientConfig(file)
	})
}
