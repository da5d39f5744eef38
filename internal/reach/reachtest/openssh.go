package reachtest

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// OpenSSH is a real OpenSSH server on a loopback port, with keys and a configuration of its own.
type OpenSSH struct {
	User       string
	Port       int
	Key        string // private key file that it lets in
	KnownHosts string // file with its host key
}

// Setting changes the server that a test wants.
type Setting struct {
	NoSFTP  bool
	Old     bool   // it speaks old algorithms alone
	Account string // whom it lets in; "" is the account of the test
	Lines   string // further lines of its configuration
}

// SudoAccount is an account that may use sudo without a password; make test-servers makes it.
const SudoAccount = "envask-test"

// StartOpenSSH starts a server for one test. Where none is installed the test is skipped, loudly; with ENVASK_SERVERS set
// it fails instead.
func StartOpenSSH(t *testing.T, settings ...Setting) OpenSSH {
	t.Helper()
	var want Setting
	if len(settings) > 0 {
		want = settings[0]
	}
	sshd := "/usr/sbin/sshd" // it refuses to start without a whole path
	if _, err := os.Stat(sshd); err != nil {
		require.Empty(t, os.Getenv("ENVASK_SERVERS"), "there is no OpenSSH server, though the servers should have been installed")
		t.Skip("SKIPPED: REAL SERVER: there is no OpenSSH server here (make test-servers installs it)")
	}
	dir := t.TempDir()
	write := func(name string, data []byte) string {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, data, 0o600))
		return file
	}
	if want.Account != "" { // its session reads the file as the account
		for d := dir; d != "/" && d != os.TempDir(); d = filepath.Dir(d) {
			require.NoError(t, os.Chmod(d, 0o755))
		}
		plain := write
		write = func(name string, data []byte) string {
			file := plain(name, data)
			if name == "authorized" {
				require.NoError(t, os.Chmod(file, 0o644))
			}
			return file
		}
	}
	login, public := newKey(t)
	host, hostPublic := newKey(t)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := OpenSSH{Port: listener.Addr().(*net.TCPAddr).Port, Key: write("key", login)}
	require.NoError(t, listener.Close())
	me, err := user.Current()
	require.NoError(t, err)
	s.User = me.Username
	if want.Account != "" {
		if _, err := user.Lookup(want.Account); err != nil || os.Getuid() != 0 {
			require.Empty(t, os.Getenv("ENVASK_SERVERS"), "the account %s should have been made, and the test run as root", want.Account)
			t.Skipf("SKIPPED: REAL SERVER: there is no account %s to log in to, or the test is not root (make test-servers makes it)",
				want.Account)
		}
		s.User = want.Account
	}
	s.KnownHosts = write("known_hosts", []byte(fmt.Sprintf("[127.0.0.1]:%d %s", s.Port, hostPublic)))
	config := fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey %s\nAuthorizedKeysFile %s\n"+
		"PidFile none\nStrictModes no\nUsePAM no\n%s%s",
		s.Port, write("host_key", host), write("authorized", public), map[bool]string{false: "Subsystem sftp internal-sftp\n",
			true: ""}[want.NoSFTP], want.Lines)
	if os.Getuid() == 0 {
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755)) // sshd wants it for privilege separation
	}
	log := filepath.Join(dir, "log")
	cmd := exec.Command(sshd, "-D", "-E", log, "-f", write("sshd_config", []byte(config)))
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	for range 100 {
		if conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.Port)); err == nil {
			conn.Close()
			s.mayLogIn(t, login, log, want.Old)
			return s
		}
		time.Sleep(50 * time.Millisecond)
	}
	text, _ := os.ReadFile(log)
	t.Fatalf("sshd did not start: %s", text)
	return s
}

// mayLogIn skips the test, loudly, where the server lets this account in by no means: service accounts and locked ones.
func (s OpenSSH) mayLogIn(t *testing.T, key []byte, log string, old bool) {
	t.Helper()
	signer, err := ssh.ParsePrivateKey(key)
	require.NoError(t, err)
	config := &ssh.ClientConfig{User: s.User, Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)},
		HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 10 * time.Second} // only a question; the tests check the key
	if old {
		algorithms := ssh.InsecureAlgorithms()
		config.KeyExchanges, config.Ciphers, config.MACs = algorithms.KeyExchanges, algorithms.Ciphers, algorithms.MACs
	}
	for try := 0; ; try++ {
		client, dialed := ssh.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.Port), config)
		if err = dialed; err == nil {
			client.Close()
			return
		}
		if try == 3 || !errors.Is(err, syscall.ECONNRESET) && !errors.Is(err, io.EOF) { // a busy machine's server hangs up before it greets
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	text, _ := os.ReadFile(log)
	if os.Getenv("ENVASK_SERVERS") == "" && strings.Contains(string(text), "not allowed because") {
		t.Skipf("SKIPPED: REAL SERVER: OpenSSH does not let the account %s in: %s", s.User, strings.TrimSpace(string(text)))
	}
	t.Fatalf("cannot log in to the test's own server: %v\n%s", err, text)
}

// newKey makes a key: the private half as a file, the public one as a line.
func newKey(t *testing.T) (file, line []byte) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return pem.EncodeToMemory(block), ssh.MarshalAuthorizedKey(signer.PublicKey())
}
