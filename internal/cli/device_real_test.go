//go:build !windows

package cli_test

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/cli"
	"envask/internal/reach/reachtest"
)

// deckScript is a device: the shell script that an account of a real server gets instead of a shell.
const deckScript = `#!/bin/sh
answer() {
	case $1 in
	'show release') echo 'Deck switch'; echo 'Release 3.1.4' ;;
	'show clock') date -u '+%H:%M:%S UTC %a %b %e %Y' ;;
	'show size') stty size ;;
	'show long') seq 1 700 | more ;;
	'show spool') ls -l FLASH | awk 'NR > 1 {print $5, "FLASH/" $9}' ;;
	'dump') seq 1 5000 > FLASH/core.txt; echo written ;;
	'privilege') printf 'Password: '; stty -echo; read -r word; stty echo; echo
		if [ "$word" = keel-Rope-88 ]; then sign='#'; else echo '% Bad password'; fi ;;
	'') ;;
	*) echo "% Unknown command: $1" ;;
	esac
}
case $SSH_ORIGINAL_COMMAND in
'') ;;
internal-sftp|*sftp-server) exec /usr/lib/openssh/sftp-server ;;
'scp '*) exec $SSH_ORIGINAL_COMMAND ;;
*) if [ "$DECK_EXEC" = 1 ]; then answer "$SSH_ORIGINAL_COMMAND"; exit 0; fi
	echo 'exec requests are not supported'; exit 1 ;;
esac
trap 'echo' INT
if [ "$DECK_LOGIN" = 1 ]; then
	printf '\r\ndeck login: '; read -r user
	printf 'Password: '; stty -echo; read -r word; stty echo; echo
	[ "$user/$word" = admin/lock-Buoy-12 ] || { echo 'Login incorrect'; exit 1; }
fi
echo 'Welcome to the deck.'
sign='>'
while printf 'deck%s ' "$sign"; do
	read -r line || exit 0
	[ "$line" = exit ] && exit 0
	answer "$line"
done
`

const deckAsk = `ask: deck
vendor: Ostrevane Gate Systems
items:
  - {id: release, of: [deck], run: show release, required: true}
  - {id: long, of: [deck], run: show long, required: true}
  - {id: typo, of: [deck], run: show releese}
  - {id: size, of: [deck], run: show size}
  - id: core
    of: [ssh]
    run: dump
    makes: ['FLASH/*']
  - id: core-by-scp
    of: [scp]
    run: dump
    makes: ['FLASH/*']
    list: {type: show spool, like: '(?m)^(?P<size>[0-9]+) (?P<name>/\S+)'}
`

const deckDevices = `devices:
  deck:
    privileged: {type: privilege, password: file:privilege, prompt: '# ?$'}
    vitals: {version: {type: show release, like: 'Release (\S+)'}, clock: {type: show clock, like: '(.*UTC.*)'}}
  plain:
    vitals: {version: {type: show release, like: 'Release (\S+)'}, clock: {type: show clock, like: '(.*UTC.*)'}}
`

// deck is a device on a real server.
type deck struct {
	dir, flash, script string
}

func newDeck(t *testing.T) deck {
	t.Helper()
	dir := t.TempDir()
	d := deck{dir: dir, flash: filepath.Join(dir, "flash"), script: filepath.Join(dir, "deck.sh")}
	require.NoError(t, os.MkdirAll(d.flash, 0o755))
	for name, text := range map[string]string{"deck.sh": deckScript, "ask.yaml": deckAsk, "login": "lock-Buoy-12",
		"privilege": privilegePassword} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(strings.ReplaceAll(text, "FLASH", d.flash)), 0o755))
	}
	return d
}

// collect collects from the device, and gives the cells by item.
func (d deck) collect(t *testing.T, systems string, code int) map[string]string {
	t.Helper()
	file, askFile := filepath.Join(d.dir, "systems.yaml"), filepath.Join(d.dir, "ask.yaml")
	require.NoError(t, os.WriteFile(file, []byte("site: tallow-pier\n"+systems+deckDevices), 0o600))
	home := filepath.Join(d.dir, "home")
	sum, err := cli.AskDigest(askFile)
	require.NoError(t, err)
	for _, args := range [][]string{{"ask", "approve", askFile, "--digest", sum},
		{"open", "26031407", "--ask", askFile, "--systems", file, "--around", "2026-03-14 06:12Z", "--margin", "40m"}} {
		said, code := inProcess(home, false, args...)
		require.Zero(t, code, said)
	}
	said, got := inProcess(home, false, "collect", "--json", "--quiet")
	require.Equal(t, code, got, said)
	var doc struct {
		Coverage []struct{ System, Item, State, Reason string }
	}
	require.NoError(t, json.NewDecoder(strings.NewReader(said[strings.Index(said, "{"):])).Decode(&doc), said)
	cells := map[string]string{}
	for _, c := range doc.Coverage {
		cells[c.Item] = c.State + " " + c.Reason
	}
	return cells
}

// check looks at what was taken of the device.
func (d deck) check(t *testing.T, cells map[string]string, tty bool) {
	t.Helper()
	require.Equal(t, "taken ", cells["release"])
	require.Equal(t, "taken ", cells["long"])
	require.Contains(t, cells["typo"], "failed show releese: the device refused the command: % Unknown command: show releese")
	require.Equal(t, "taken ", cells["vitals"])
	if size, err := os.ReadFile(filepath.Join(d.dir, "home", "cases", "26031407", "rounds", "r1", "raw", "deck", "commands", "size.txt")); tty {
		require.NoError(t, err)
		require.Contains(t, string(size), "250 511", "a terminal that breaks no lines")
	}
	found, err := filepath.Glob(filepath.Join(d.dir, "home", "cases", "26031407", "rounds", "*", "raw", "deck", "commands", "long.txt"))
	require.NoError(t, err)
	text, err := os.ReadFile(found[len(found)-1])
	require.NoError(t, err)
	_, lines, _ := strings.Cut(string(text), "\n\n")
	lines = strings.TrimPrefix(lines, "---- standard output ----\n")
	want := ""
	for i := range 700 {
		want += fmt.Sprintln(i + 1)
	}
	require.Equal(t, want, lines, "every line once, and nothing of the pager")
}

func (d deck) core(t *testing.T) {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(d.dir, "home", "cases", "26031407", "rounds", "*", "raw", "deck",
		"files") + d.flash + "/core.txt")
	require.NoError(t, err)
	require.Len(t, found, 1)
	got, err := os.ReadFile(found[0])
	require.NoError(t, err)
	want, err := os.ReadFile(filepath.Join(d.flash, "core.txt"))
	require.NoError(t, err)
	require.Equal(t, string(want), string(got))
}

// A real sshd, whose account has a device instead of a shell: exec requests refused and taken, files by SFTP and by scp, old algorithms.
func TestDeviceBehindOpenSSH(t *testing.T) {
	for name, c := range map[string]struct {
		roles, lines, env, console string
		noSFTP                     bool
	}{
		"exec refused": {roles: "deck, ssh"},
		"exec taken":   {roles: "deck, ssh", env: "DECK_EXEC=1 "},
		"scp":          {roles: "deck, scp", noSFTP: true},
		"old algorithms": {roles: "deck, ssh", console: ", legacy: yes",
			lines: "KexAlgorithms diffie-hellman-group1-sha1\nCiphers aes128-cbc\nMACs hmac-sha1-96\n"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := newDeck(t)
			s := reachtest.StartOpenSSH(t, reachtest.Setting{NoSFTP: c.noSFTP, Old: c.console != "",
				Lines: c.lines + "ForceCommand env " + c.env + d.script + "\n"})
			device := "deck"
			if c.env != "" { // a mode needs a conversation
				device = "plain"
			}
			systems := fmt.Sprintf("known-hosts: %s\nsystems:\n  - {name: deck, roles: [%s], device: %s, console: {ssh: "+
				"'%s@127.0.0.1:%d', key: %s%s}}\n",
				s.KnownHosts, c.roles, device, s.User, s.Port, s.Key, c.console)
			cells := d.collect(t, systems, 0)
			d.check(t, cells, c.env == "")
			d.core(t)
			if c.console != "" { // without the word in the systems file they are not spoken
				cells = d.collect(t, strings.Replace(systems, c.console, "", 1), 3)
				require.Contains(t, cells["release"], "no common algorithm")
			}
		})
	}
}

// A real telnetd, and a plain stream of bytes.
func TestDeviceBehindTelnetd(t *testing.T) {
	if _, err := os.Stat("/usr/sbin/telnetd"); err != nil || os.Getuid() != 0 {
		require.Empty(t, os.Getenv("ENVASK_SERVERS"), "inetutils-telnetd should have been installed")
		t.Skip("SKIPPED: REAL SERVER: there is no telnetd here, or the test is not root (make test-servers installs it)")
	}
	t.Parallel()
	d := newDeck(t)
	login := filepath.Join(d.dir, "login.sh")
	require.NoError(t, os.WriteFile(login, []byte("#!/bin/sh\nDECK_LOGIN=1 exec "+d.script+"\n"), 0o755))
	at := serveEach(t, func(conn *os.File) *exec.Cmd {
		c := exec.Command("/usr/sbin/telnetd", "-h", "-E", login)
		c.Stdin, c.Stdout = conn, conn
		return c
	})
	d.check(t, d.collect(t, "systems:\n  - {name: deck, roles: [deck], device: deck, console: {telnet: 'admin@"+at+
		"', password: file:login}}\n", 0), true)
}

func TestDeviceOnAStream(t *testing.T) {
	if _, err := exec.LookPath("socat"); err != nil {
		require.Empty(t, os.Getenv("ENVASK_SERVERS"), "socat should have been installed")
		t.Skip("SKIPPED: REAL SERVER: there is no socat here (make test-servers installs it)")
	}
	t.Parallel()
	d := newDeck(t)
	at := serveEach(t, func(conn *os.File) *exec.Cmd {
		c := exec.Command("socat", "-", "EXEC:"+d.script+",pty,stderr,ctty,setsid,echo")
		c.Env = append(os.Environ(), "DECK_LOGIN=1")
		c.Stdin, c.Stdout = conn, conn
		return c
	})
	d.check(t, d.collect(t, "systems:\n  - {name: deck, roles: [deck], device: deck, console: {tcp: '"+at+
		"', user: admin, password: file:login}}\n", 0), false)
}

// serveEach runs a program for each connection.
func serveEach(t *testing.T, program func(conn *os.File) *exec.Cmd) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			file, err := conn.(*net.TCPConn).File()
			conn.Close()
			if err != nil {
				return
			}
			c := program(file)
			go func() {
				defer file.Close()
				_ = c.Run() // it ends with the connection
			}()
		}
	}()
	return listener.Addr().String()
}
