//go:build !windows

package reach_test

import (
	"context"
	"io"
	"io/fs"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/reach"
)

// A hostile shell: each row is what a system's tools answer to one kind of script. Whatever they print, every call ends within bounds,
// with an error or with what is true. To add an attack, add a row.
func TestHostileShell(t *testing.T) {
	const stat = "/81a4 31 1773468720 17 x/\n"
	const names = "/81a4 31 1773468720 17 ./a.log/\n"
	for _, c := range []struct {
		name             string
		stat, list, read string // what it prints
		errs             string // on the other stream
		exit             int
		wantList, want   string // in what a listing gives, and in what reading gives, or in their errors; "" is anything but a hang
	}{
		{"honest", stat, names, "the log\n", "", 0, "a.log", "the log"},
		{"a size of -5", "/81a4 -5 1773468720 17 x/\n", names, "the log\n", "", 0, "a.log", "cannot be"},
		{"a size of 2^63", "/81a4 9223372036854775808 1773468720 17 x/\n", names, "the log\n", "", 0, "a.log", "cannot be"},
		{"sizes of -5 in a listing", stat, "/81a4 -5 1 1 ./a.log/\n", "the log\n", "", 0, "a.log", "the log"},
		{"names that lead elsewhere", stat, "/81a4 1 1 1 ./../../etc/passwd/\n/81a4 1 1 1 ./a.log/\n", "the log\n", "", 0, "", "the log"},
		{"an empty name and a dot", stat, "/81a4 1 1 1 .//\n/81a4 1 1 1 ././\n" + names, "the log\n", "", 0, "", "the log"},
		{"a listing that is none", stat, "welcome to gate-1\n", "the log\n", "", 0, "cannot be read", "the log"},
		{"a listing cut off", stat, names + "/81a4 31 17", "the log\n", "", 0, "cannot be read", "the log"},
		{"a name without end", stat, "/81a4 1 1 1 ./" + strings.Repeat("x", 1<<20) + "/\n", "the log\n", "", 0, "cannot be read", "the log"},
		{"a mode that is none", "/zz 31 1773468720 17 x/\n", names, "the log\n", "", 0, "a.log", "tells nothing that can be read"},
		{"two files where one was asked for", stat + stat, names, "the log\n", "", 0, "a.log", "tells nothing that can be read"},
		{"an answer without end", strings.Repeat(stat, 1<<17), names, "the log\n", "", 0, "a.log", ""},
		{"a link by now", "/a1ff 31 1773468720 17 x/\n", names, "the log\n", "", 0, "a.log", "exchanged"},
		{"a folder by now", "/41ed 31 1773468720 17 x/\n", names, "the log\n", "", 0, "a.log", "not a regular file"},
		{"complaints that draw", stat, names, "", "\x1b]0;owned\x07\x1b[2J", 1, "", ""},
		{"complaints without end", stat, names, "", strings.Repeat("x", 1<<20), 1, "", ""},
		{"it was exchanged", stat, names, "", "envask: it was exchanged", 1, "", "exchanged"},
	} {
		t.Run(c.name, func(t *testing.T) {
			run := func(_ context.Context, command string, out, errOut io.Writer) (int, error) {
				mark := command[strings.Index(command, "envask-"):][:len("envask-")+16] + "\n"
				_, _ = io.WriteString(out, "noise\n"+mark)
				_, _ = io.WriteString(errOut, mark)
				text, exit := c.read, c.exit
				switch {
				case strings.Contains(command, "echo tools"):
					text, exit = "tools\nstyle0\n", 0
				case strings.Contains(command, "find ."):
					text, exit = c.list, 0
				case strings.Contains(command, "stat -c"+" ") && !strings.Contains(command, "dd bs"):
					text, exit = c.stat, 0
				}
				_, _ = io.WriteString(out, text)
				if exit != 0 {
					_, _ = io.WriteString(errOut, c.errs)
				}
				return exit, nil
			}
			done := make(chan struct{})
			go func() {
				defer close(done)
				fsys := reach.ElevatedShell(t.Context(), run, "")
				var found []string
				err := reach.EachEntry(t.Context(), fsys, "log", func(e fs.DirEntry) error {
					found = append(found, e.Name())
					require.NotContains(t, e.Name(), "/")
					require.NotEmpty(t, e.Name())
					if info, err := e.Info(); err == nil {
						require.GreaterOrEqual(t, info.Size(), int64(0))
					}
					return nil
				})
				check(t, nil, c.wantList, strings.Join(found, " "), err)
				text, err := readResolved(fsys, "log/a.log")
				check(t, nil, c.want, text, err)
				if err != nil {
					require.Less(t, len(err.Error()), 1000)
				}
			}()
			select {
			case <-done:
			case <-time.After(60 * time.Second):
				t.Fatal("it does not end")
			}
		})
	}
}
