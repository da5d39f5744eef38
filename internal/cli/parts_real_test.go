//go:build linux

package cli_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/cli"
)

// realPart is a part that is tried on the real server: how that is started and made to log on an untouched system, and what has to come.
type realPart struct {
	part   string
	needs  string            // a program of the server
	start  string            // shell commands that start it and make it log lane4
	want   map[string]string // by place in the round: what its text has to hold
	except []string          // items that are not taken here, with the reason beside them
	writes string            // expression of paths that the server's own client may write while it only asks
}

var realParts = []realPart{
	{part: "nginx", needs: "/usr/sbin/nginx", start: "nginx; wait_for 'curl -s http://127.0.0.1/lane4 -o /dev/null'",
		want: map[string]string{"files/var/log/nginx/access.log": "lane4", "files/etc/nginx/nginx.conf": "http {",
			"commands/nginx-version.txt": "nginx version"}},
	{part: "apache", needs: "/usr/sbin/apache2", start: "apache2ctl start; wait_for 'curl -s http://127.0.0.1/lane4 -o /dev/null'",
		want: map[string]string{"files/var/log/apache2/access.log": "lane4", "files/etc/apache2/apache2.conf": "ErrorLog",
			"commands/apache-version.txt": "Server version: Apache"}},
	{part: "postgresql", needs: "/usr/bin/pg_ctlcluster", start: "pg_ctlcluster 15 main start; cd /; " +
		"wait_for 'runuser -u postgres -- psql -c \"select 1\"'; runuser -u postgres -- psql -c 'select lane4' || true",
		want: map[string]string{"files/var/log/postgresql/postgresql-15-main.log": `column "lane4" does not exist`,
			"files/etc/postgresql/15/main/postgresql.conf": "max_connections", "commands/postgresql-state.txt": "PostgreSQL 15"}},
	{part: "mariadb", needs: "/usr/sbin/mariadbd", start: "install -d -o mysql /run/mysqld /var/log/mysql; " +
		"mariadbd --user=mysql --log-error=/var/log/mysql/error.log --log-warnings=4 & wait_for 'mariadb -e \"select 1\"'",
		want: map[string]string{"files/var/log/mysql/error.log": "ready for connections", "files/etc/mysql/mariadb.cnf": "client",
			"commands/mariadb-state.txt": "Innodb_buffer_pool_reads"}, except: []string{"mariadb-journal"}},
	{part: "redis", needs: "/usr/bin/redis-server",
		start: "install -d -o redis /run/redis; redis-server /etc/redis/redis.conf; wait_for 'redis-cli ping'",
		want: map[string]string{"files/var/log/redis/redis-server.log": "Ready to accept connections",
			"files/etc/redis/redis.conf": "maxmemory",
			"commands/redis-state.txt":   "redis_version"}},
	{part: "haproxy", needs: "/usr/sbin/haproxy", start: "mkdir -p /run/haproxy /var/lib/haproxy/dev; " +
		"socat -u UNIX-RECV:/var/lib/haproxy/dev/log,mode=666 OPEN:/var/log/haproxy.log,creat,append & sleep 0.3; " +
		"printf 'listen lane4\\n bind 127.0.0.1:8404\\n server one 127.0.0.1:9\\n' >> /etc/haproxy/haproxy.cfg; " +
		"sed -i 's#log /dev/log.*local0#log /var/lib/haproxy/dev/log local0#; s#chroot .*##' /etc/haproxy/haproxy.cfg; " +
		"haproxy -D -f /etc/haproxy/haproxy.cfg; wait_for 'curl -s http://127.0.0.1:8404/ -o /dev/null'; wait_for 'grep -q lane4 " +
		"/var/log/haproxy.log'",
		want: map[string]string{"files/var/log/haproxy.log": "lane4", "files/etc/haproxy/haproxy.cfg": "listen lane4",
			"commands/haproxy-state.txt": "lane4,one", "commands/haproxy-version.txt": "HAProxy version"}},
	{part: "exim", needs: "/usr/sbin/exim4",
		start: "echo lane4 | exim4 -odi -f ops@pier.example root@localhost; wait_for 'test -s /var/log/exim4/mainlog'",
		want: map[string]string{"files/var/log/exim4/mainlog": "ops@pier.example", "commands/exim-version.txt": "Exim version",
			"commands/exim-queue.txt": "/var/spool/exim4/input"}, writes: `^/var/spool/exim4/db/`},
	{part: "bind", needs: "/usr/sbin/named", start: "install -d -o bind /run/named /var/log/named; " +
		"named -u bind -L /var/log/named/named.log; wait_for 'rndc status'",
		want: map[string]string{"files/var/log/named/named.log": "running", "files/etc/bind/named.conf": "include",
			"commands/bind-state.txt": "server is up and running", "commands/bind-version.txt": "BIND 9"},
		except: []string{"bind-journal"}},
	{part: "samba", needs: "/usr/sbin/smbd", start: "mkdir -p /run/samba; smbd -D; wait_for 'test -s /var/log/samba/log.smbd'",
		want: map[string]string{"files/var/log/samba/log.smbd": "smbd version", "files/etc/samba/smb.conf": "[global]",
			"commands/samba-build/02-usr-sbin-smbd-b.txt": "SBINDIR"}},
	{part: "chrony", needs: "/usr/sbin/chronyd", start: "printf 'local stratum 8\\nport 11123\\ncmdport 0\\nallow\\nbindcmdaddress " +
		"/\\npidfile /run/c2.pid\\ndriftfile /run/c2.drift\\n' " +
		"> /run/c2.conf; install -d -o _chrony -m 750 /run/chrony; chronyd -x -f /run/c2.conf; " +
		"printf 'server 127.0.0.1 port 11123 iburst minpoll -4 maxpoll -4\\nlog measurements tracking\\n' > " +
		"/etc/chrony/conf.d/lane4.conf; " +
		"sed -i '/^pool/d' /etc/chrony/chrony.conf; chronyd -x; wait_for 'test -s /var/log/chrony/measurements.log'",
		want: map[string]string{"files/var/log/chrony/measurements.log": "127.0.0.1", "files/etc/chrony/chrony.conf": "driftfile",
			"files/etc/chrony/conf.d/lane4.conf": "11123", "commands/chrony-state.txt": "Reference ID"}},
	{part: "openssh", needs: "/usr/sbin/sshd", start: "mkdir -p /run/sshd; /usr/sbin/sshd -E /var/log/auth.log; " +
		"wait_for 'ssh -o BatchMode=yes -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null lane4@127.0.0.1 true; grep -q lane4 " +
		"/var/log/auth.log'",
		want: map[string]string{"files/var/log/auth.log": "Invalid user lane4", "files/etc/ssh/sshd_config": "Subsystem",
			"commands/openssh-settings.txt": "permitrootlogin"}, except: []string{"openssh-journal"}},
}

// untouched runs commands on this machine's own system with the changes to /etc, /var and /run kept aside, in a network and with
// processes of its own: real servers run as Debian configures them, and nothing of them stays.
const untouched = `set -e
mount -t tmpfs aside "$ASIDE"
for d in etc var run; do
  mkdir -p "$ASIDE/$d/up" "$ASIDE/$d/work"
  mount -t overlay aside -o "lowerdir=/$d,upperdir=$ASIDE/$d/up,workdir=$ASIDE/$d/work" "/$d"
done
ip link set lo up
wait_for() { for _ in $(seq 150); do eval "$1" >/dev/null 2>&1 && return 0; sleep 0.1; done; echo "never: $1" >&2; return 1; }
set +e
`

// TestPartsOnRealServers starts each server as Debian has it, makes it log, and collects with its part: the right files come, every
// command answers, and no command writes anything.
func TestPartsOnRealServers(t *testing.T) {
	t.Parallel()
	if out, err := exec.Command("unshare", "-mnp", "--fork", "true").CombinedOutput(); err != nil {
		require.Empty(t, os.Getenv("ENVASK_SERVERS"), "%s", out)
		t.Skip("SKIPPED: REAL SERVER: namespaces need root on Linux")
	}
	for _, p := range realParts {
		t.Run(p.part, func(t *testing.T) {
			t.Parallel()
			for _, needed := range []string{p.needs, "/usr/bin/strace", "/usr/bin/socat", "/usr/bin/curl"} {
				if _, err := os.Stat(needed); err != nil {
					require.Empty(t, os.Getenv("ENVASK_SERVERS"), "%s should have been installed", needed)
					t.Skip("SKIPPED: REAL SERVER: " + needed + " is not here (make test-servers installs it)")
				}
			}
			p.try(t)
		})
	}
}

func (p realPart) try(t *testing.T) {
	dir := t.TempDir()
	home := filepath.Join(dir, "home")
	envask := program(t, home)
	ask, systems := filepath.Join(dir, "ask.yaml"), filepath.Join(dir, "systems.yaml")
	must(t, envask("ask", "new", ask, "--for", p.part))
	must(t, envask("site", "new", systems, "--name", "pier"))
	sum, err := cli.AskDigest(ask)
	require.NoError(t, err)
	must(t, envask("ask", "approve", ask, "--digest", sum))
	must(t, envask("open", "26031407", "--ask", ask, "--systems", systems, "--from", "2020-01-01 00:00", "--to", "2099-01-01 00:00"))
	aside := filepath.Join(dir, "aside")
	require.NoError(t, os.Mkdir(aside, 0o700))
	traces := func(file string) string {
		return "strace -f --seccomp-bpf -qq -y -s 4096 -o " + dir + "/" + file + " -e trace=%file,ftruncate " + built(t)
	}
	script := untouched + p.start + "\n" +
		traces("trace") + " collect --json > " + dir + "/out 2> " + dir + "/err\n" +
		traces("trace-draft") + " ask draft --local " + dir + "/draft.yaml > " + dir + "/draft.txt 2>&1\n" +
		"grep -v '^{' " + dir + "/err\n"
	cmd := exec.Command("unshare", "-mnp", "--fork", "--kill-child", "--mount-proc", "--propagation", "private", "sh", "-c", script)
	cmd.Env = append(os.Environ(), "ASIDE="+aside, "ENVASK_HOME="+home, "SSH_AUTH_SOCK=", "HOME="+dir)
	cmd.Dir = "/"
	said, err := cmd.CombinedOutput()
	t.Logf("%s", said)
	out, readErr := os.ReadFile(filepath.Join(dir, "out"))
	require.NoError(t, readErr)
	var got struct {
		Coverage []struct{ Item, State, Reason string }
	}
	last := strings.LastIndex(strings.TrimSpace(string(out)), "\n{\n")
	require.NoError(t, json.Unmarshal(out[max(last, 0):], &got), "%s\n%v", out, err)
	require.NotEmpty(t, got.Coverage)
	for _, c := range got.Coverage {
		if !slices.Contains(p.except, c.Item) {
			require.Equal(t, "taken", c.State, "%s: %s", c.Item, c.Reason)
		}
	}
	for name, holds := range p.want {
		text, err := os.ReadFile(filepath.Join(home, "cases/26031407/rounds/r1/raw/this", name))
		require.NoError(t, err)
		require.Contains(t, string(text), holds, name)
	}
	p.onlyRead(t, dir, "trace")
	p.onlyRead(t, dir, "trace-draft")
	drafted, err := os.ReadFile(filepath.Join(dir, "draft.txt"))
	require.NoError(t, err)
	require.Contains(t, string(drafted), "part "+p.part, "the draft sees that it is here")
	must(t, envask("ask", "check", filepath.Join(dir, "draft.yaml")))
}

// traced is a call of the kernel that names a path, and succeeded.
var traced = regexp.MustCompile(`^\d+ +(\w+)\((.*)\) += (\d+)`)

// onlyRead makes sure that nothing outside of our own home was opened for writing, made, changed or removed.
func (p realPart) onlyRead(t *testing.T, dir, trace string) {
	t.Helper()
	f, err := os.Open(filepath.Join(dir, trace))
	require.NoError(t, err)
	defer f.Close()
	opens, calls := regexp.MustCompile(`O_WRONLY|O_RDWR|O_CREAT|O_TRUNC|O_APPEND`), 0
	changes := []string{"creat", "mkdir", "mkdirat", "unlink", "unlinkat", "rmdir", "rename", "renameat", "renameat2",
		"link", "linkat", "symlink",
		"symlinkat", "truncate", "ftruncate", "chmod", "fchmodat", "chown", "lchown", "fchownat", "mknod",
		"mknodat", "utimensat", "setxattr"}
	allowed := regexp.MustCompile(`^(` + regexp.QuoteMeta(dir) + `/|/dev/(null|tty|pts)|/proc/self/)`)
	for lines := bufio.NewScanner(f); lines.Scan(); {
		m := traced.FindStringSubmatch(lines.Text())
		if m == nil {
			continue
		}
		calls++
		if !slices.Contains(changes, m[1]) && !(strings.HasPrefix(m[1], "open") && opens.MatchString(m[2])) {
			continue
		}
		if path := pathOf(m[2]); !allowed.MatchString(path) && (p.writes == "" || !regexp.MustCompile(p.writes).MatchString(path)) {
			require.Fail(t, "a command of the part writes", "%s", lines.Text())
		}
	}
	require.Greater(t, calls, 50, fmt.Sprintf("%s of %s was written", trace, p.part))
}

var (
	tracedFolder = regexp.MustCompile(`^(?:AT_FDCWD|\d+)<([^>]*)>`)
	tracedName   = regexp.MustCompile(`"([^"]*)"`)
)

// pathOf gives the path that a traced call is about.
func pathOf(args string) string {
	folder, name := tracedFolder.FindStringSubmatch(args), tracedName.FindStringSubmatch(args)
	switch {
	case name != nil && filepath.IsAbs(name[1]):
		return name[1]
	case name != nil && folder != nil:
		return filepath.Join(folder[1], name[1])
	case folder != nil:
		return folder[1]
	}
	return args
}
