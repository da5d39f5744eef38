//go:build !windows

package cli_test

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/casefile"
)

const inboxSystems = `site: tallow-pier
systems:
  - {name: annex-switch, roles: [annex], pushes: {as: annex, from: 127.0.0.1}}
`

// inboxAsk wants so many files.
func inboxAsk(count int) string {
	return fmt.Sprintf(`ask: annex
vendor: Ostrevane Gate Systems
vitals: no
items:
  - {id: dump, of: [annex], required: true, arrives: {count: %d, quiet: 1s, type: ['{inbox.ftp}', '{inbox.sftp}', '{inbox.tftp}', '{inbox.http}']}}
`, count)
}

// pushing is a running inbox, with the words to type.
type pushing struct {
	urls map[string]*url.URL
	said bytes.Buffer
	out  bytes.Buffer
	end  chan error
}

// openInbox starts the built program's inbox and waits for its words.
func openInbox(t *testing.T, dir string, args ...string) *pushing {
	t.Helper()
	c := exec.Command(built(t), append([]string{"inbox", "--listen", "127.0.0.1", "--json"}, args...)...)
	c.Env = append(os.Environ(), "ENVASK_HOME="+filepath.Join(dir, "home"))
	stderr, err := c.StderrPipe()
	require.NoError(t, err)
	p := &pushing{urls: map[string]*url.URL{}, end: make(chan error, 1)}
	c.Stdout = &p.out
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Kill() })
	ready := make(chan bool, 1)
	go func() {
		lines := bufio.NewScanner(stderr)
		for lines.Scan() {
			p.said.WriteString(lines.Text() + "\n")
			if m := regexp.MustCompile(`^  ((sftp|ftp|tftp|http)://\S+)$`).FindStringSubmatch(lines.Text()); m != nil {
				if u, err := url.Parse(m[1]); err == nil {
					p.urls[m[2]] = u
				}
				if len(p.urls) == 4 {
					select {
					case ready <- true:
					default:
					}
				}
			}
		}
		p.end <- c.Wait()
	}()
	select {
	case <-ready:
	case err := <-p.end:
		t.Fatalf("the inbox ended: %v: %s", err, p.said.String())
	case <-time.After(20 * time.Second):
		t.Fatalf("no words: %s", p.said.String())
	}
	return p
}

func (p *pushing) wait(t *testing.T, code int) {
	t.Helper()
	select {
	case err := <-p.end:
		got := 0
		if exit, ok := err.(*exec.ExitError); ok {
			got = exit.ExitCode()
		}
		require.Equal(t, code, got, p.said.String())
	case <-time.After(60 * time.Second):
		t.Fatalf("it does not end: %s", p.said.String())
	}
}

func put(t *testing.T, u *url.URL, name string, body []byte) int {
	t.Helper()
	req, err := http.NewRequest(http.MethodPut, u.String()+name, bytes.NewReader(body))
	require.NoError(t, err)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	res.Body.Close()
	return res.StatusCode
}

// Whatever a device can send by comes in, whole, and joins the round; bad names are only names.
func TestInboxTakesWhatComes(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	run := openDevices(t, dir, inboxSystems, inboxAsk(3))
	p := openInbox(t, dir, "--for", "40s", "--most", "1MiB")
	u := p.urls["http"]
	require.Equal(t, 201, put(t, u, "../../../etc/passwd", []byte("one\n")))
	require.Equal(t, 201, put(t, u, "%1b%5b31mred%0a.txt", []byte("two\n")))
	require.Equal(t, 413, put(t, u, "large", make([]byte, 2<<20)))
	res, err := http.Get(u.String() + "x")
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, 405, res.StatusCode, "nothing is read back")
	wrong := *u
	wrong.User = url.UserPassword("annex", "wrong")
	require.Equal(t, 401, put(t, &wrong, "x", nil))
	require.Equal(t, 201, put(t, u, "passwd", []byte("three\n")), "one wrong login closes nothing")
	p.wait(t, 0)
	said := p.said.String()
	require.Contains(t, said, "arrived: annex-switch passwd: 4 B, pushed by HTTP from 127.0.0.1, which called it ")
	require.NotContains(t, said, "\x1b")
	var doc struct {
		Files []struct{ Name, Source, SHA256, State string }
	}
	require.NoError(t, json.Unmarshal(p.out.Bytes(), &doc), p.out.String())
	require.Len(t, doc.Files, 3)
	for i, text := range []string{"one\n", "two\n", "three\n"} {
		sum := sha256.Sum256([]byte(text))
		require.Equal(t, hex.EncodeToString(sum[:]), doc.Files[i].SHA256)
		require.True(t, strings.HasPrefix(doc.Files[i].Name, "added/dump/"), doc.Files[i].Name)
		got, err := os.ReadFile(filepath.Join(dir, "home", "cases", "26031407", "rounds", "r1", "raw", "annex-switch", doc.Files[i].Name))
		require.NoError(t, err)
		require.Equal(t, text, string(got))
	}
	found, err := filepath.Glob(filepath.Join(dir, "home", "tmp", "*", "*"))
	require.NoError(t, err)
	require.Empty(t, found)
	text, code := run("pack")
	require.Zero(t, code, text)
	text, code = run("show", "--todo")
	require.Zero(t, code, text)
}

// Three wrong logins close it for that device, also for the right one; what does not come is said.
func TestInboxClosesAfterWrongLogins(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	openDevices(t, dir, inboxSystems, inboxAsk(1))
	p := openInbox(t, dir, "--for", "4s")
	wrong := *p.urls["http"]
	wrong.User = url.UserPassword("annex", "wrong")
	for range 3 {
		require.Equal(t, 401, put(t, &wrong, "x", []byte("x")))
	}
	require.Equal(t, 401, put(t, p.urls["http"], "x", []byte("x")))
	p.wait(t, 3)
	require.Contains(t, p.said.String(), "annex-switch: three wrong passwords: nothing more is taken for it")
	require.Contains(t, p.said.String(), "did not arrive: dump of annex-switch (0 of 1)")
}

// Real clients: curl over FTP (active and passive), SFTP, TFTP and PUT, and OpenSSH's sftp and scp.
func TestInboxWithRealClients(t *testing.T) {
	for _, tool := range []string{"curl", "sftp", "scp"} {
		if _, err := exec.LookPath(tool); err != nil {
			require.Empty(t, os.Getenv("ENVASK_SERVERS"), "%s should have been installed", tool)
			t.Skipf("SKIPPED: REAL SERVER: there is no %s here (make test-servers installs it)", tool)
		}
	}
	t.Parallel()
	dir := t.TempDir()
	openDevices(t, dir, inboxSystems, inboxAsk(7))
	text := bytes.Repeat([]byte("0123456789abcdef of the dump\n"), 40_000)
	for i := range 7 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("dump-%d", i)), append(text, byte('0'+i)), 0o600))
	}
	p := openInbox(t, dir, "--for", "50s")
	password, _ := p.urls["sftp"].User.Password()
	ask := filepath.Join(dir, "askpass.sh")
	require.NoError(t, os.WriteFile(ask, []byte("#!/bin/sh\necho '"+password+"'\n"), 0o700))
	file := func(i int) string { return filepath.Join(dir, fmt.Sprintf("dump-%d", i)) }
	ssh := []string{"-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "PreferredAuthentications=password", "-o",
		"LogLevel=ERROR", "-P", p.urls["sftp"].Port()}
	for _, c := range []*exec.Cmd{
		exec.Command("curl", "-sS", "-T", file(0), p.urls["ftp"].String()),
		exec.Command("curl", "-sS", "--ftp-port", "-", "-T", file(1), p.urls["ftp"].String()),
		exec.Command("curl", "-sS", "--disable-epsv", "-T", file(2), p.urls["ftp"].String()),
		exec.Command("curl", "-sS", "--tftp-blksize", "1400", "-T", file(3), p.urls["tftp"].String()),
		exec.Command("curl", "-sS", "-f", "-T", file(4), p.urls["http"].String()),
		exec.Command("sftp", append(ssh, "-b", "-", "annex@127.0.0.1")...),
		exec.Command("scp", append(append([]string{"-O"}, ssh...), file(6), "annex@127.0.0.1:whatever")...),
	} {
		c.Env = append(os.Environ(), "SSH_ASKPASS="+ask, "SSH_ASKPASS_REQUIRE=force", "DISPLAY=:9")
		if c.Args[0] == "sftp" {
			c.Args = slicesWithout(c.Args, "-b", "-")
			c.Stdin = strings.NewReader("put " + file(5) + "\nls\nget dump-5\nbye\n")
		}
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%v: %s; %s", c.Args, out, p.said.String())
	}
	p.wait(t, 0)
	for i := range 7 {
		want := sha256.Sum256(append(bytes.Clone(text), byte('0'+i)))
		require.Contains(t, p.out.String(), hex.EncodeToString(want[:]), "%d: %s", i, p.said.String())
	}
}

func slicesWithout(list []string, drop ...string) (out []string) {
	for _, x := range list {
		keep := true
		for _, d := range drop {
			keep = keep && x != d
		}
		if keep {
			out = append(out, x)
		}
	}
	return out
}

// The worked example of the page does what the page says.
func TestExampleOfInbox(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	b := blocks(t, "inbox.md")
	openDevices(t, dir, b[0], strings.Replace(b[1], "type: ['dump write {inbox.ftp}dump-1']",
		"type: ['{inbox.ftp}', '{inbox.sftp}', '{inbox.tftp}', '{inbox.http}']", 1))
	p := openInbox(t, dir, "--for", "30s")
	require.Equal(t, 201, put(t, p.urls["http"], "dump-1", []byte("the dump\n")))
	p.wait(t, 0)
	require.Contains(t, p.said.String(), "arrived: annex-switch dump-1: 9 B, pushed by HTTP from 127.0.0.1, taken")
}

// A case that another process holds is waited for; what came and cannot be taken is kept, and said.
func TestInboxLosesNothing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	openDevices(t, dir, inboxSystems, inboxAsk(1))
	home := casefile.Home{Dir: filepath.Join(dir, "home")}
	c, err := home.Open("26031407")
	require.NoError(t, err)
	w, err := c.Write("another")
	require.NoError(t, err)
	p := openInbox(t, dir, "--for", "40s")
	require.Equal(t, 201, put(t, p.urls["http"], "dump", []byte("waits\n")))
	time.Sleep(1500 * time.Millisecond)
	require.NoError(t, w.Close())
	p.wait(t, 0)
	require.Contains(t, p.said.String(), "arrived: annex-switch dump")

	w, err = c.Write("another")
	require.NoError(t, err)
	defer w.Close()
	p = openInbox(t, dir, "--for", "4s")
	require.Equal(t, 201, put(t, p.urls["http"], "second", []byte("kept\n")))
	p.wait(t, 1)
	kept := regexp.MustCompile(`what came is kept in (\S+)`).FindStringSubmatch(p.said.String())
	require.NotNil(t, kept, p.said.String())
	text, err := os.ReadFile(kept[1])
	require.NoError(t, err)
	require.Equal(t, "kept\n", string(text))
}
