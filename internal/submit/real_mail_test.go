package submit

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/fault"
	"envask/internal/site"
	"envask/internal/standin"
)

// mailServer starts Exim, which takes mails of up to 8 MiB after STARTTLS and a login, and keeps them in its spool.
func mailServer(t *testing.T) (address, spool, authority string) {
	t.Helper()
	account, err := user.Lookup("Debian-exim")
	if err != nil {
		t.Skip("SKIPPED: no exim4 here (make test-servers installs it)")
	}
	if os.Getuid() != 0 {
		t.Skip("SKIPPED: exim4 is started as root only")
	}
	dir := openTo(t)
	cert, key, err := standin.SelfSigned()
	require.NoError(t, err)
	port := freePort(t)
	conf := fmt.Sprintf(`primary_hostname = mail.merrowick.example
spool_directory = %[1]s/spool
log_file_path = %[1]s/%%slog
pid_file_path = %[1]s/pid
local_interfaces = 127.0.0.1
daemon_smtp_ports = %[2]d
tls_advertise_hosts = *
tls_certificate = %[1]s/cert.pem
tls_privatekey = %[1]s/key.pem
auth_advertise_hosts = ${if eq{$tls_in_cipher}{}{}{*}}
message_size_limit = 8M
queue_only = true
acl_smtp_rcpt = recipient
keep_environment =
begin acl
recipient:
  accept authenticated = *
  deny
begin authenticators
plain:
  driver = plaintext
  public_name = PLAIN
  server_prompts = :
  server_condition = ${if and{{eq{$auth2}{svc@merrowick.example}}{eq{$auth3}{right}}}}
  server_set_id = $auth2
`, dir, port)
	uid, err := strconv.Atoi(account.Uid)
	require.NoError(t, err)
	for name, text := range map[string]string{"conf": conf, "cert.pem": string(cert), "key.pem": string(key)} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
		if name != "conf" { // which has to be root's
			require.NoError(t, os.Chown(filepath.Join(dir, name), uid, -1))
		}
	}
	require.NoError(t, os.Chown(dir, uid, -1))
	realServer(t, "exim4", port, "-C", filepath.Join(dir, "conf"), "-bdf")
	return fmt.Sprintf("127.0.0.1:%d", port), filepath.Join(dir, "spool", "input"), filepath.Join(dir, "cert.pem")
}

// Exim takes the mail whole, refuses wrong passwords and what is too large, and its certificate is checked.
func TestExim(t *testing.T) {
	address, spool, authority := mailServer(t)
	m := &Means{Changes: &changeLog{}, Secret: func(s site.Secret) (string, error) { return strings.TrimPrefix(string(s), "env:"), nil },
		Pause: func(context.Context, int) error { return nil },
		Text:  func(name string) string { return map[string]string{"case": "26031407", "brief": "Since 05:32."}[name] },
		Credentials: Credentials{{Route: "web", Host: "desk.ostrevane.example", Server: address, From: "svc@merrowick.example", User: "svc@merrowick.example",
			Password: "env:right", Authority: authority}}}
	const to = "mailto:evidence@desk.ostrevane.example"
	p := parcel(t, 2_000_000)
	rec, err := Send(context.Background(), over(to, m), p, m)
	require.NoError(t, err)
	require.Contains(t, rec.Cover, "TLS 1.3")
	require.Contains(t, rec.Answer, "id=")

	bodies, err := filepath.Glob(filepath.Join(spool, "*-D"))
	require.NoError(t, err)
	require.Len(t, bodies, 1)
	body, err := os.ReadFile(bodies[0])
	require.NoError(t, err)
	heads, err := os.ReadFile(strings.TrimSuffix(bodies[0], "-D") + "-H")
	require.NoError(t, err)
	require.Contains(t, string(heads), "\nevidence@desk.ostrevane.example\n")
	_, boundary, ok := strings.Cut(string(heads), "boundary=")
	require.True(t, ok)
	boundary, _, _ = strings.Cut(boundary, "\n")
	_, body, _ = bytes.Cut(body, []byte("\n")) // its own first line
	h, text, name, attached := readMail(t, append([]byte("Content-Type: multipart/mixed; boundary="+boundary+"\r\n\r\n"), body...))
	require.NotEmpty(t, h)
	require.Contains(t, text, "Since 05:32.")
	require.Equal(t, p.Name, name)
	want, err := os.ReadFile(p.File)
	require.NoError(t, err)
	require.True(t, bytes.Equal(want, attached))

	_, err = Send(context.Background(), over(to, m), parcel(t, 7<<20), m)
	require.ErrorContains(t, err, "size")
	require.NotErrorAs(t, err, new(passing), "what is too large is not tried again")
	m.Credentials[0].Password = "env:hunter2"
	_, err = Send(context.Background(), over(to, m), p, m)
	require.ErrorContains(t, err, "login refused")
	require.NotContains(t, err.Error()+fault.HintOf(err), "hunter2")
	m.Credentials[0].Authority = ""
	_, err = Send(context.Background(), over(to, m), p, m)
	require.ErrorContains(t, err, "certificate")
	bodies, err = filepath.Glob(filepath.Join(spool, "*-D"))
	require.NoError(t, err)
	require.Len(t, bodies, 1)
}
