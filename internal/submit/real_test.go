package submit

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/fault"
	"envask/internal/reach"
	"envask/internal/reach/reachtest"
	"envask/internal/site"
	"envask/internal/standin"
)

// realServer starts a server of Debian's on a loopback port, or skips the test.
func realServer(t *testing.T, program string, port int, args ...string) {
	t.Helper()
	path := program
	for _, dir := range []string{"/usr/sbin/", "/usr/bin/"} {
		if _, err := os.Stat(dir + program); err == nil {
			path = dir + program
		}
	}
	if path == program {
		t.Skipf("SKIPPED: no %s here (make test-servers installs it)", program)
	}
	if os.Getuid() != 0 {
		t.Skipf("SKIPPED: %s is started as root only", program)
	}
	cmd := exec.Command(path, args...)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 20*time.Second, 50*time.Millisecond, "%s does not answer", program)
}

func freePort(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// openTo makes folders that the server's own account may write to. The test's own temporary folder is closed to others.
func openTo(t *testing.T, names ...string) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "envask-test-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	for _, n := range names {
		require.NoError(t, os.Mkdir(filepath.Join(dir, n), 0o700))
		require.NoError(t, os.Chmod(filepath.Join(dir, n), 0o777))
	}
	return dir
}

// rightHash is crypt (SHA-256) of the word right.
const rightHash = "$5$tallowpier$xELCKUqieWfPvEsS8Y9Owre4s/aineLA7avB1Sp/o66"

// plainProFTPD is its configuration, for one account that sees nothing but its own folder.
func plainProFTPD(dir string, port int) string {
	return fmt.Sprintf(`ServerType standalone
DefaultAddress 127.0.0.1
Port %d
UseIPv6 off
User nobody
Group nogroup
PidFile %[2]s/pid
ScoreboardFile %[2]s/score
AuthOrder mod_auth_file.c
AuthUserFile %[2]s/users
RequireValidShell off
AllowOverwrite on
AllowStoreRestart on
DefaultRoot ~
WtmpLog off
TransferLog none
SystemLog %[2]s/log
`, port, dir)
}

// ftpServer starts ProFTPD. Over TLS it demands that data connections use the session of the control connection.
func ftpServer(t *testing.T, encrypted bool, digests string) (address, folder string, m *Means) {
	t.Helper()
	dir := openTo(t, "root", "root/incoming")
	cert, key, err := standin.SelfSigned()
	require.NoError(t, err)
	port := freePort(t)
	conf := plainProFTPD(dir, port)
	if encrypted {
		conf = "LoadModule mod_tls.c\n" + conf + fmt.Sprintf("TLSEngine on\nTLSRequired on\nTLSECCertificateFile %[1]s/cert.pem\nTLSECCertificateKeyFile %[1]s/key.pem\nTLSLog %[1]s/tls.log\n", dir)
	}
	if digests != "" {
		conf = "LoadModule mod_digest.c\n" + conf + "DigestEngine on\nDigestAlgorithms " + digests + "\n"
	}
	for name, text := range map[string]string{"conf": conf, "cert.pem": string(cert), "key.pem": string(key), "users": "intake:" + rightHash + ":65534:65534::" + dir + "/root:/bin/false\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	realServer(t, "proftpd", port, "-n", "-q", "-c", filepath.Join(dir, "conf"))
	m = &Means{Changes: &changeLog{}, Left: map[string]string{}, Secret: func(s site.Secret) (string, error) { return strings.TrimPrefix(string(s), "env:"), nil },
		Pause:       func(context.Context, int) error { return nil },
		Credentials: Credentials{{Route: "web", Host: "127.0.0.1", User: "intake", Password: "env:right", Authority: filepath.Join(dir, "cert.pem")}}}
	return fmt.Sprintf("127.0.0.1:%d", port), filepath.Join(dir, "root", "incoming"), m
}

func TestProFTPD(t *testing.T) {
	for _, scheme := range []string{"ftp", "ftps"} {
		t.Run(scheme, func(t *testing.T) {
			address, folder, m := ftpServer(t, scheme == "ftps", "")
			to := scheme + "://" + address + "/incoming"
			p := parcel(t, 6_000_000)

			// Interrupted, and gone on with (REST). What was sent may still be on the way: the cut waits for what the server has.
			ctx, cancel := context.WithCancel(context.Background())
			m.Progress = func(done int64) {
				if done < 4_000_000 {
					return
				}
				for range 300 {
					if i, err := os.Stat(filepath.Join(folder, p.Name+".part")); err == nil && i.Size() > 1_000_000 {
						break
					}
					time.Sleep(100 * time.Millisecond)
				}
				cancel()
			}
			_, err := Send(ctx, over(to, m), p, m)
			require.ErrorIs(t, err, context.Canceled)
			require.NoFileExists(t, filepath.Join(folder, p.Name))
			m.Progress = nil
			rec, err := Send(context.Background(), over(to, m), p, m)
			require.NoError(t, err)
			require.Greater(t, rec.Resumed, int64(1_000_000))
			require.True(t, rec.Proved, rec.Proof)
			require.Equal(t, scheme == "ftps", strings.HasPrefix(rec.Cover, "TLS"), rec.Cover)
			require.NoFileExists(t, filepath.Join(folder, p.Name+".part"))

			rec, err = Send(context.Background(), over(to, m), p, m)
			require.NoError(t, err)
			require.True(t, rec.Already && rec.Proved)
			_, err = Send(context.Background(), over(to, m), parcel(t, 10), m)
			require.Equal(t, fault.Refused, fault.ClassOf(err), "another file is never overwritten")

			_, err = Send(context.Background(), over(scheme+"://"+address+"/nowhere", m), p, m)
			require.ErrorContains(t, err, "the folder /nowhere is not there")
			m.Credentials[0].Password = "env:wrong"
			_, err = Send(context.Background(), over(to, m), p, m)
			require.ErrorContains(t, err, "login refused for intake")
			if scheme == "ftp" {
				return
			}
			m.Credentials[0].Fingerprint = "SHA256:" + strings.Repeat("0", 64)
			_, err = Send(context.Background(), over(to, m), p, m)
			require.ErrorContains(t, err, "not the one in credentials.yaml")
		})
	}
}

// ProFTPD with its module for digests computes them by HASH and the older commands.
func TestProFTPDDigests(t *testing.T) {
	for _, c := range []struct{ scheme, algorithms, proof string }{
		{"ftps", "sha256 md5", "size and SHA-256 agree (computed by the server)"},
		{"ftp", "md5", "size and MD5 agree (computed by the server)"},
		{"ftp", "sha1", "size and SHA-1 agree (computed by the server)"},
	} {
		t.Run(c.scheme+" "+c.algorithms, func(t *testing.T) {
			address, folder, m := ftpServer(t, c.scheme == "ftps", c.algorithms)
			p := parcel(t, 3_000_000)
			rec, err := Send(context.Background(), over(c.scheme+"://"+address+"/incoming", m), p, m)
			require.NoError(t, err)
			require.Equal(t, c.proof, rec.Proof)
			require.True(t, rec.Proved)
			rec, err = Send(context.Background(), over(c.scheme+"://"+address+"/incoming", m), p, m)
			require.NoError(t, err)
			require.True(t, rec.Already && rec.Proved, rec.Proof)
			// One byte is another: the same size, and the server's digest tells.
			file := filepath.Join(folder, p.Name)
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			data[7]++
			require.NoError(t, os.WriteFile(file, data, 0o644))
			_, err = Send(context.Background(), over(c.scheme+"://"+address+"/incoming", m), p, m)
			require.Equal(t, fault.Refused, fault.ClassOf(err), "%v", err)
		})
	}
}

// Over SSH, ProFTPD runs no commands, and computes digests by check-file.
func TestProFTPDOverSSH(t *testing.T) {
	dir := openTo(t, "root", "root/incoming")
	keygen, err := exec.LookPath("ssh-keygen")
	if err != nil {
		t.Skip("SKIPPED: no ssh-keygen here (make test-servers installs it)")
	}
	require.NoError(t, exec.Command(keygen, "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "host")).Run())
	public, err := os.ReadFile(filepath.Join(dir, "host.pub"))
	require.NoError(t, err)
	port := freePort(t)
	conf := "LoadModule mod_sftp.c\n" + plainProFTPD(dir, port) + fmt.Sprintf("SFTPEngine on\nSFTPHostKey %[1]s/host\nSFTPLog %[1]s/sftp.log\n", dir)
	for name, text := range map[string]string{"conf": conf, "users": "intake:" + rightHash + ":65534:65534::" + dir + "/root:/bin/false\n", "known": fmt.Sprintf("[127.0.0.1]:%d %s", port, public)} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	realServer(t, "proftpd", port, "-n", "-q", "-c", filepath.Join(dir, "conf"))
	m := &Means{Changes: &changeLog{}, Left: map[string]string{}, Pause: func(context.Context, int) error { return nil },
		Credentials: Credentials{{Route: "web", Host: "127.0.0.1", Password: "env:X"}},
		Dialer:      &reach.Dialer{HostKeys: &reach.HostKeys{Own: filepath.Join(dir, "known")}, Secret: func(site.Secret) (string, error) { return "right", nil }}}
	to := fmt.Sprintf("sftp://intake@127.0.0.1:%d/incoming", port)
	p := parcel(t, 3_000_000)
	for _, already := range []bool{false, true} {
		rec, err := Send(context.Background(), over(to, m), p, m)
		require.NoError(t, err)
		require.True(t, rec.Proved)
		require.Equal(t, already, rec.Already)
		require.Contains(t, rec.Proof, "size and SHA-256 agree (computed by the server)")
	}
	file := filepath.Join(dir, "root", "incoming", p.Name)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	data[7]++
	require.NoError(t, os.WriteFile(file, data, 0o644))
	_, err = Send(context.Background(), over(to, m), p, m)
	require.Equal(t, fault.Refused, fault.ClassOf(err), "%v", err)
}

// nginx takes files by PUT and as a WebDAV folder, and wants a client certificate.
func TestNginx(t *testing.T) {
	dir := openTo(t, "root", "root/put", "tmp")
	cert, key, err := standin.SelfSigned()
	require.NoError(t, err)
	client, clientKey, err := standin.SelfSigned()
	require.NoError(t, err)
	port := freePort(t)
	conf := fmt.Sprintf(`daemon off;
user root;
pid %[2]s/pid;
error_log %[2]s/log;
events {}
http {
  access_log off;
  client_body_temp_path %[2]s/tmp;
  client_max_body_size 20m;
  server {
    listen 127.0.0.1:%[1]d ssl;
    ssl_certificate %[2]s/cert.pem;
    ssl_certificate_key %[2]s/key.pem;
    ssl_client_certificate %[2]s/client.pem;
    ssl_verify_client on;
    location / { root %[2]s/root; dav_methods PUT DELETE MKCOL MOVE; }
  }
}
`, port, dir)
	for name, text := range map[string]string{"conf": conf, "cert.pem": string(cert), "key.pem": string(key), "client.pem": string(client), "client.key": string(clientKey)} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	realServer(t, "nginx", port, "-c", filepath.Join(dir, "conf"), "-e", filepath.Join(dir, "log"))
	credentials := Credentials{{Route: "web", Host: "127.0.0.1", Authority: filepath.Join(dir, "cert.pem"), Certificate: filepath.Join(dir, "client.pem"), Key: filepath.Join(dir, "client.key")}}
	m := &Means{Changes: &changeLog{}, Left: map[string]string{}, Credentials: credentials, Pause: func(context.Context, int) error { return nil }}
	host := fmt.Sprintf("127.0.0.1:%d", port)
	for to, file := range map[string]string{"https://" + host + "/put/": "put", "dav+https://" + host + "/cases/new/": "cases/new"} {
		p := parcel(t, 5_000_000)
		rec, err := Send(context.Background(), over(to, m), p, m)
		require.NoError(t, err, to)
		require.True(t, rec.Proved, rec.Proof)
		require.Contains(t, rec.Proof, "read back")
		entries, err := os.ReadDir(filepath.Join(dir, "root", file))
		require.NoError(t, err)
		require.Len(t, entries, 1, to)
		rec, err = Send(context.Background(), over(to, m), p, m)
		require.NoError(t, err, to)
		require.True(t, rec.Already, to)
		_, err = Send(context.Background(), over(to, m), parcel(t, 77), m)
		require.Equal(t, fault.Refused, fault.ClassOf(err), "%s: %v", to, err)
		big := parcel(t, 21<<20)
		big.Name = "big.tar.gz"
		_, err = Send(context.Background(), over(to, m), big, m)
		require.ErrorContains(t, err, "413", to)
	}
	m.Credentials[0].Certificate, m.Credentials[0].Key = "", ""
	_, err = Send(context.Background(), over("https://"+host+"/put/", m), parcel(t, 10), m)
	require.ErrorContains(t, err, "400")
}

// Against OpenSSH, whose packets are larger: what a cut left is a true beginning, and is resumed each time.
func TestCutOpenSSH(t *testing.T) {
	const size = 96 << 20
	server := reachtest.StartOpenSSH(t)
	dir := t.TempDir()
	r := rand.New(rand.NewPCG(9, 10))
	address, cuts := cutting(t, fmt.Sprintf("127.0.0.1:%d", server.Port), func() int64 { return 14<<20 + r.Int64N(4<<20) }, 6)
	_, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	known, err := os.ReadFile(server.KnownHosts)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "known_hosts")
	require.NoError(t, os.WriteFile(file, []byte(strings.ReplaceAll(string(known), fmt.Sprintf("]:%d ", server.Port), "]:"+port+" ")), 0o600))
	var notes []string
	m := &Means{Changes: &changeLog{}, Left: map[string]string{}, Pause: func(context.Context, int) error { return nil }, Note: func(text string) { notes = append(notes, text) },
		Credentials: Credentials{{Route: "web", Host: "127.0.0.1", Key: server.Key}},
		Dialer:      &reach.Dialer{HostKeys: &reach.HostKeys{Own: file}}}
	p := parcel(t, size)
	rec, err := Send(context.Background(), over("sftp://"+server.User+"@"+address+dir, m), p, m)
	require.NoError(t, err)
	require.True(t, rec.Proved, rec.Proof)
	require.Equal(t, int32(6), cuts.Load())
	require.NotContains(t, strings.Join(notes, "\n"), "all of it goes again")
	require.Greater(t, rec.Resumed, int64(16<<20))
	t.Logf("%d tries, the last from byte %d on", rec.Tries, rec.Resumed)
}
