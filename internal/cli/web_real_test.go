//go:build !windows

package cli_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/md5"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/reach/reachtest"
)

// authority makes certificates for a test.
type authority struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	pem  []byte
}

func newAuthority(t *testing.T) *authority {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Tallow Pier"}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour)}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	cert, err := x509.ParseCertificate(raw)
	require.NoError(t, err)
	return &authority{cert, key, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: raw})}
}

// issue writes a certificate and its key to files, and gives the fingerprint.
func (a *authority) issue(t *testing.T, dir, name string, until time.Time) string {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name},
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, NotBefore: time.Now().Add(-2 * time.Hour), NotAfter: until,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	raw, err := x509.CreateCertificate(rand.Reader, template, a.cert, &key.PublicKey, a.key)
	require.NoError(t, err)
	der, err := x509.MarshalECPrivateKey(key)
	require.NoError(t, err)
	for file, block := range map[string]*pem.Block{".crt": {Type: "CERTIFICATE", Bytes: raw},
		".key": {Type: "EC PRIVATE KEY", Bytes: der}} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name+file), pem.EncodeToMemory(block), 0o600))
	}
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:])
}

// daemon starts a web server in the foreground, once it listens.
func daemon(t *testing.T, port int, name string, args ...string) {
	t.Helper()
	var log bytes.Buffer
	c := exec.Command(name, args...)
	c.Stdout, c.Stderr, c.WaitDelay = &log, &log, time.Second // its children keep them open
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
	for range 100 {
		if conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			conn.Close()
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatalf("%s did not start: %s", name, log.String())
}

func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// shelf makes a folder with a large file and a list of it.
func shelf(t *testing.T, dir string) []byte {
	t.Helper()
	root := filepath.Join(dir, "root")
	require.NoError(t, os.MkdirAll(root, 0o755))
	for _, d := range []string{dir, filepath.Dir(dir)} { // its processes have another account
		require.NoError(t, os.Chmod(d, 0o755))
	}
	large := bytes.Repeat([]byte("2026-03-14T06:12:00Z frame 0123456789 of the hub\n"), 40_000)
	require.NoError(t, os.WriteFile(filepath.Join(root, "large.log"), large, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "list.json"), []byte(fmt.Sprintf(`{"files": [{"href": "large.log", "size": %d}]}`,
		len(large))), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "index.html"), []byte("<!DOCTYPE html><html>hub</html>"), 0o644))
	return large
}

const shelfAsk = `ask: hub
vendor: Ostrevane Gate Systems
vitals: no
items:
  - {id: logs, of: [hub], required: true, steps: [{get: /list.json, each: '.files[].href', size: '.files[].size', download: yes}]}
`

// nginx with TLS: Basic, certificates of clients, and ranges where a connection breaks.
func TestWebBehindNginx(t *testing.T) {
	if _, err := os.Stat("/usr/sbin/nginx"); err != nil {
		require.Empty(t, os.Getenv("ENVASK_SERVERS"), "nginx should have been installed")
		t.Skip("SKIPPED: REAL SERVER: there is no nginx here (make test-servers installs it)")
	}
	t.Parallel()
	dir := t.TempDir()
	large := shelf(t, dir)
	ca := newAuthority(t)
	print := ca.issue(t, dir, "server", time.Now().Add(time.Hour))
	ca.issue(t, dir, "client", time.Now().Add(time.Hour))
	ca.issue(t, dir, "old", time.Now().Add(-time.Hour))
	basic, certs, expired := freePort(t), freePort(t), freePort(t)
	server := func(port int, cert, more string) string {
		return fmt.Sprintf("server { listen 127.0.0.1:%d ssl; ssl_certificate %[2]s/%[3]s.crt; ssl_certificate_key %[2]s/%[3]s.key; "+
			"root %[2]s/root; %[4]s }\n",
			port, dir, cert, more)
	}
	conf := fmt.Sprintf("daemon off; pid %[1]s/pid; error_log %[1]s/error.log; worker_processes 1; events {}\nhttp { access_log off;\n"+
		"client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;\n", dir) +
		server(basic, "server", "auth_basic hub; auth_basic_user_file "+dir+"/users;") +
		server(certs, "server", "ssl_client_certificate "+dir+"/ca.pem; ssl_verify_client on;") + server(expired, "old", "") + "}\n"
	for name, text := range map[string]string{"nginx.conf": conf, "users": "svc:{PLAIN}mole-Crane-55\n", "ca.pem": string(ca.pem),
		"login": "mole-Crane-55", "wrong": "not-the-one-0"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	daemon(t, basic, "/usr/sbin/nginx", "-p", dir, "-c", filepath.Join(dir, "nginx.conf"))
	proxy := reachtest.StartProxy(t, basic, reachtest.Cut, 600_000, 2)
	run := openDevices(t, dir, "site: tallow-pier\nsystems: [{name: hub, roles: [hub], folder: .}]\n", shelfAsk)
	collect := func(web string, code int) string {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "systems.yaml"),
			[]byte("site: tallow-pier\nsystems:\n  - {name: hub, roles: [hub], web: {"+web+"}}\n"), 0o600))
		said, got := run("collect")
		require.Equal(t, code, got, said)
		return said
	}
	newest := func() []byte {
		found, err := filepath.Glob(filepath.Join(dir, "home", "cases", "26031407", "rounds", "*", "raw", "hub",
			"web", "logs", "large.log"))
		require.NoError(t, err)
		require.NotEmpty(t, found)
		text, err := os.ReadFile(found[len(found)-1])
		require.NoError(t, err)
		return text
	}
	login := "login: {basic: yes, user: svc, password: file:login}"
	at := func(port int) string { return fmt.Sprintf("at: 'https://127.0.0.1:%d', ", port) }
	collect(at(proxy.Port)+"trust: 'sha256:"+print+"', "+login, 0)
	require.True(t, bytes.Equal(large, newest()), "continued where it broke, byte for byte")
	require.Contains(t, collect(at(basic)+"trust: 'sha256:"+print+"', "+strings.Replace(login, "file:login", "file:wrong", 1), 3),
		"login refused")
	require.Contains(t, collect(at(basic)+login, 4), "the certificate is not trusted")
	require.Contains(t, collect(at(basic)+"trust: 'sha256:"+strings.Repeat("0", 64)+"', "+login, 4), "not the one in the systems file")
	require.Contains(t, collect(at(basic)+"trust: 'sha256:"+print+"'", 3), "the device wants a login (Basic)")
	collect(at(certs)+"authority: ca.pem, certificate: client.crt, key: client.key", 0)
	require.True(t, bytes.Equal(large, newest()))
	require.Contains(t, collect(at(certs)+"authority: ca.pem", 3), "hub")
	require.Contains(t, collect(at(expired)+"authority: ca.pem", 4), "expired")
}

// Apache with Digest (RFC 7616).
func TestWebBehindApache(t *testing.T) {
	if _, err := os.Stat("/usr/lib/apache2/modules/mod_auth_digest.so"); err != nil {
		require.Empty(t, os.Getenv("ENVASK_SERVERS"), "apache2 should have been installed")
		t.Skip("SKIPPED: REAL SERVER: there is no Apache here (make test-servers installs it)")
	}
	t.Parallel()
	dir := t.TempDir()
	large := shelf(t, dir)
	port := freePort(t)
	conf := fmt.Sprintf("ServerName 127.0.0.1\nListen 127.0.0.1:%d\nPidFile %s/pid\nErrorLog %s/error.log\nDefaultRuntimeDir %s\n", port,
		dir, dir, dir)
	for _, m := range []string{"mpm_event", "authn_core", "authz_core", "authn_file", "authz_user", "auth_digest", "dir", "mime"} {
		conf += fmt.Sprintf("LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
	}
	if os.Getuid() == 0 {
		conf += "User www-data\nGroup www-data\n"
	}
	conf += fmt.Sprintf("TypesConfig /etc/mime.types\nDocumentRoot %[1]s/root\n<Directory %[1]s/root>\nAuthType Digest\nAuthName "+
		"hub\nAuthDigestProvider file\n"+
		"AuthUserFile %[1]s/users\nRequire valid-user\n</Directory>\n", dir)
	hash := md5.Sum([]byte("svc:hub:mole-Crane-55")) // as htdigest writes it
	for name, text := range map[string]string{"apache.conf": conf, "users": "svc:hub:" + hex.EncodeToString(hash[:]) + "\n",
		"login": "mole-Crane-55", "wrong": "not-the-one-0"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	daemon(t, port, "/usr/sbin/apache2", "-X", "-f", filepath.Join(dir, "apache.conf"))
	systems := fmt.Sprintf("site: tallow-pier\nsystems:\n  - {name: hub, roles: [hub], web: {at: 'http://127.0.0.1:%d', "+
		"login: {digest: yes, user: svc, password: file:login}}}\n", port)
	run := openDevices(t, dir, systems, shelfAsk)
	said, code := run("collect")
	require.Zero(t, code, said)
	text, err := os.ReadFile(filepath.Join(dir, "home", "cases", "26031407", "rounds", "r1", "raw", "hub", "web", "logs", "large.log"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(large, text))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "systems.yaml"),
		[]byte(strings.Replace(systems, "file:login", "file:wrong", 1)), 0o600))
	said, code = run("collect")
	require.Equal(t, 3, code, said)
	require.Contains(t, said, "login refused")
}
