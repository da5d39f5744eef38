//go:build linux

package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// drawn is a terminal with a program on it.
type drawn struct {
	t      *testing.T
	socket string
}

// startDrawn starts a shell on a terminal of some columns.
func startDrawn(t *testing.T, columns int, home string) *drawn {
	t.Helper()
	if _, err := exec.LookPath("tmux"); err != nil {
		require.Empty(t, os.Getenv("ENVASK_SERVERS"), "tmux should have been installed")
		t.Skip("SKIPPED: REAL SERVER: there is no tmux here (make test-servers installs it)")
	}
	d := &drawn{t, filepath.Join(t.TempDir(), "s")}
	start := exec.Command("tmux", "-S", d.socket, "-f", "/dev/null", "new-session", "-d", "-x", fmt.Sprint(columns), "-y", "50", "sh")
	start.Env = append(os.Environ(), "ENVASK_HOME="+home, "SSH_AUTH_SOCK=", "PS1=> ", "LC_ALL=C.UTF-8", "ACCESSIBLE=")
	must(t, start)
	t.Cleanup(func() { _ = exec.Command("tmux", "-S", d.socket, "kill-server").Run() })
	return d
}

// types presses keys, which are named as tmux names them; text in one argument is typed as it is.
func (d *drawn) types(keys ...string) {
	d.t.Helper()
	must(d.t, exec.Command("tmux", append([]string{"-S", d.socket, "send-keys"}, keys...)...))
}

// sees waits until something stands on the screen, and gives all that stands there.
func (d *drawn) sees(want string) string {
	d.t.Helper()
	var screen string
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		screen = must(d.t, exec.Command("tmux", "-S", d.socket, "capture-pane", "-p"))
		if strings.Contains(screen, want) {
			return screen
		}
	}
	require.Fail(d.t, want+" is not on the screen", screen)
	return screen
}

// The write-up is asked for on a real terminal: typed, chosen, offered, gone back to, left, and taken up again; wide and narrow.
func TestQuestionsOnATerminal(t *testing.T) {
	t.Parallel()
	site, dir, home := startSite(t)
	require.NoError(t, site.WriteFiles(filepath.Join(dir, "files"), home))
	envask := program(t, home)
	openSite(t, envask, dir)
	must(t, envask("collect", "--quiet", "--system", "gate-1,gate-2,fare-1"))
	must(t, envask("brief", "--set", "title=gate 2 rejects every pass", "--set", "happens=it is red", "--set", "serial="))

	d := startDrawn(t, 100, home)
	d.types(built(t)+" brief", "Enter")
	d.sees("What should happen instead?")
	d.types("it opens", "Enter", "and stays open", "Enter", "Enter")
	screen := d.sees("Since when?")
	require.Regexp(t, `offered, from gate-2's gate.log, line \d+`, screen)
	d.types("Enter") // takes it
	d.sees("How often?")
	d.types("alwys", "Enter")
	d.sees("When did it last work?")
	d.types("BTab")
	d.sees("alwys")
	d.types("BSpace", "BSpace", "ays", "Enter")
	d.sees("When did it last work?")
	d.types("yesterday, I th", "Escape") // what is half typed stays, too
	screen = d.sees("to add or to correct")
	require.NotContains(t, screen, "When did it last work", "the form does not stay behind")
	fields := must(t, envask("brief", "--as", "fields"))
	for _, want := range []string{`expected: it opens\nand stays open`, "since: 2026-03-14 06:12:00 Europe/Lisbon", "how-often: always",
		"last-worked: yesterday, I th"} {
		require.Contains(t, fields, want)
	}

	// on a narrow terminal and without colours: choices with their meaning, one of several finds, and what is wrong said at once
	must(t, envask("brief", "--set", "changed=nothing", "--set", "steps=hold a pass -> red", "--set", "affected=all", "--set",
		"category=gates"))
	d = startDrawn(t, 44, home)
	d.types(built(t)+" brief --no-color", "Enter")
	screen = d.sees("How bad is it")
	require.Contains(t, strings.Join(strings.Fields(strings.ReplaceAll(screen, "┃", " ")), " "),
		"halted: no passenger can board at one terminal; not for a terminal with another gate that works")
	d.types("Down", "Enter")
	d.sees("Why is it that bad?")
	d.types("nobody can board", "Enter")
	for n := 3; !strings.Contains(d.sees(fmt.Sprintf("%d/12 ", n)), "Gateway serial"); n++ {
		d.types("Enter") // left out, or what is offered
	}
	d.sees("OG410772: from gate-2's gate.toml")
	d.types("Down", "Down", "Down", "Enter") // something else
	d.types("4417", "Enter")
	d.sees("not as the vendor wants")
	d.types("C-u", "OG441722", "Enter")
	d.sees("What stands on the screen")
	d.types("C-c")
	d.sees("error: interrupted")
	fields = must(t, envask("brief", "--as", "fields"))
	for _, want := range []string{"severity: halted", "severity-why: nobody can board", "serial: OG441722"} {
		require.Contains(t, fields, want)
	}
	d.types("stty -a", "Enter")
	d.sees(" icanon") // the terminal is as it was
}
