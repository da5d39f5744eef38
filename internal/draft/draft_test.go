package draft

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/parts"
	"envask/internal/reach"
)

var now = time.Date(2026, 3, 14, 6, 12, 0, 0, time.UTC)

// machine is a made-up system: its files, and what its shell answers to the script.
type machine struct {
	fstest.MapFS
	answer  string
	noShell bool
	windows bool
	denied  []string // paths below which nothing can be read
	crowd   string   // a folder with a million files
	ran     []string
}

func (m *machine) FS() reach.FS { return m }
func (*machine) Close() error   { return nil }

func (m *machine) refuses(op, name string) error {
	for _, d := range m.denied {
		if strings.HasPrefix("/"+name, d) {
			return &fs.PathError{Op: op, Path: name, Err: fs.ErrPermission}
		}
	}
	return nil
}

func (m *machine) Open(name string) (fs.File, error) {
	if err := m.refuses("open", name); err != nil {
		return nil, err
	}
	return m.MapFS.Open(name)
}

func (m *machine) ReadDir(name string) ([]fs.DirEntry, error) {
	if err := m.refuses("readdir", name); err != nil {
		return nil, err
	}
	return m.MapFS.ReadDir(name)
}

func (m *machine) EachEntry(_ context.Context, name string, each func(fs.DirEntry) error) error {
	if "/"+name == m.crowd {
		for i := range 1_000_000 {
			if err := each(fs.FileInfoToDirEntry(fileInfo(fmt.Sprintf("pass-%06d.log", i)))); err != nil {
				return err
			}
		}
	}
	list, err := m.ReadDir(name)
	for _, e := range list {
		if err := each(e); err != nil {
			return err
		}
	}
	return err
}

type fileInfo string

func (f fileInfo) Name() string     { return string(f) }
func (fileInfo) Size() int64        { return 100 }
func (fileInfo) Mode() fs.FileMode  { return 0o644 }
func (fileInfo) ModTime() time.Time { return now }
func (fileInfo) IsDir() bool        { return false }
func (fileInfo) Sys() any           { return nil }

// runs is a machine that runs commands, too.
type runs struct{ *machine }

func (r runs) Run(_ context.Context, command string, stdout, _ io.Writer) (int, error) {
	r.ran = append(r.ran, command)
	_, err := io.WriteString(stdout, r.answer)
	return 0, err
}

func (r runs) Windows() bool { return r.windows }

// with adds a file that was written some time before now.
func (m *machine) with(name, text string, ago time.Duration) *machine {
	if m.MapFS == nil {
		m.MapFS = fstest.MapFS{}
	}
	m.MapFS[strings.TrimPrefix(name, "/")] = &fstest.MapFile{Data: []byte(text), ModTime: now.Add(-ago), Mode: 0o644}
	return m
}

// lines makes a log whose last line is of some time ago, one line a second.
func lines(n int, ago time.Duration) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "%s INFO lane %d open\n", now.Add(-ago-time.Duration(n-1-i)*time.Second).Format(time.RFC3339), i)
	}
	return b.String()
}

// answer makes what the script prints: of each process its name, and what it holds open ("w /path", "r /path", "in IDENTIFIER").
func answer(services []string, processes ...[]string) string {
	var stat, groups, files strings.Builder
	if len(processes) > 0 {
		stat.WriteString("1 (init) S 0 1 1 0 -1 4194560 0 0 0 0 1 1 0 0 20 0 1 0 1 1 1\n")
	}
	for i, p := range processes {
		pid := 100 + i
		fmt.Fprintf(&stat, "%d (%s) S 1 1 1 0 -1 4194560 0 0 0 0 1 1 0 0 20 0 1 0 %d 1 1\n", pid, p[0], 100*3600)
		fmt.Fprintf(&files, "/proc/%d/fd:\n", pid)
		for _, f := range p[1:] {
			kind, path, _ := strings.Cut(f, " ")
			switch kind {
			case "in":
				fmt.Fprintf(&groups, "/proc/%d/cgroup:0::/system.slice/docker-%s.scope\n", pid, path)
			case "w":
				fmt.Fprintf(&files, "l-wx------ 1 root root 64 Mar 14 06:00 3 -> %s\n", path)
			case "r": // grep leaves it out; what comes all the same is not taken
				fmt.Fprintf(&files, "lr-x------ 1 root root 64 Mar 14 06:00 4 - %s\n", path)
			}
		}
	}
	return fmt.Sprintf("== now ==\n%d\n7200.50 100.00\n== services ==\n%s\n== processes ==\n%s== groups ==\n%s== files ==\n%s== end ==\n",
		now.Unix(), strings.Join(services, " loaded active running A service\n"), stat.String(), groups.String(), files.String())
}

func drafted(t *testing.T, s reach.System) (*Found, string) {
	t.Helper()
	found, err := System(context.Background(), Look{System: s, Zone: time.UTC, Now: now})
	require.NoError(t, err)
	d := parts.Draft{Name: "draft", Vendor: "Ostrevane Gate Systems", LeftOut: found.LeftOut}
	for _, p := range found.Proposals {
		d.Blocks = append(d.Blocks, p.Block)
	}
	text := string(parts.Compose(d))
	if len(found.Proposals) > 0 {
		_, err = ask.Parse("draft.yaml", []byte(text))
		require.NoError(t, err, "%s", text)
	}
	return found, text
}

var id64 = "0123456789ab" + strings.Repeat("c", 52)

// Ten made-up systems and more: what is proposed of them, with its reason, and what is left out. Each draft passes the check.
func TestDrafts(t *testing.T) {
	host := func() *machine { return new(machine).with("/etc/os-release", "ID=debian\n", 0) }
	for _, c := range []struct {
		name    string
		system  *machine
		want    []string // in the draft, in this order
		never   []string
		left    []string
		remarks []string
		nothing bool
	}{
		{name: "a web server with a program of its own", system: func() *machine {
			m := host().with("/etc/nginx/nginx.conf", "x", 0).with("/var/log/nginx/access.log",
				lines(3601, 14*time.Second), 14*time.Second).
				with("/var/log/nginx/access.log.1", lines(10, 25*time.Hour), 25*time.Hour).
				with("/opt/gate/logs/gate.log", lines(3601, 2*time.Second), 2*time.Second).with("/opt/gate/logs/gate.log.1",
				lines(60, 3*time.Hour), 3*time.Hour).
				with("/opt/gate/logs/gate-2026-03-12.log.gz", "\x1f\x8b", 48*time.Hour).with("/opt/gate/conf/gate.toml", "x", 0).
				with("/opt/gate/conf/secrets.toml", "x", 0)
			m.answer = answer([]string{"nginx.service", "gate-agent.service", "dbus.service", ""},
				[]string{"nginx", "w /var/log/nginx/access.log"}, []string{"gate-agent", "w /opt/gate/logs/gate.log"})
			return m
		}(), want: []string{"nginx runs since 2026-03-14 05:11", "/var/log/nginx/access.log: written 14 s ago by nginx, 2 members",
			"id: nginx-log", "/opt/gate/logs/gate.log: written 2 s ago by gate-agent, 3 members", "an hour, lines from",
			"- id: gate-log", "files: ['/opt/gate/logs/gate*']", "gate-agent.service runs, and no part knows it", "id: gate-agent-journal"},
			never: []string{"dbus", "secrets.toml'", "/opt/gate/conf/*"},
			left:  []string{"/opt/gate/conf/secrets.toml: its name is that of a secret"}},
		{name: "a database", system: func() *machine {
			m := host().with("/etc/postgresql/15/main/postgresql.conf", "x", 0).with("/var/log/postgresql/postgresql-15-main.log",
				lines(5, time.Minute), time.Minute).
				with("/var/lib/postgresql/15/main/base/big", strings.Repeat("x", hugeUndated+1), 0)
			m.answer = answer(nil, []string{"postgres", "w /var/log/postgresql/postgresql-15-main.log",
				"w /var/lib/postgresql/15/main/base/big"})
			return m
		}(), want: []string{"postgres runs", "postgresql-15-main.log: written 60 s ago by postgres", "id: postgresql-log"},
			left: []string{"/var/lib/postgresql/15/main/base/big: held open by postgres, 64 MiB"}},
		{name: "nothing can be read", system: &machine{denied: []string{"/"}}, nothing: true,
			remarks: []string{"what runs is not known: it has no shell that answers", "/var/log cannot be listed"}},
		{name: "no /proc", system: func() *machine {
			m := host().with("/var/log/messages", lines(5, time.Minute), time.Minute)
			m.answer = answer(nil)
			return m
		}(), want: []string{"/var/log/messages: written 60 s ago"}, remarks: []string{"it has no /proc"}},
		{name: "no shell at all", system: func() *machine {
			m := host().with("/var/log/messages", lines(5, time.Minute), time.Minute)
			m.noShell = true
			return m
		}(), want: []string{"id: linux-syslog"}, remarks: []string{"it runs no commands"}},
		{name: "a server that does not run", system: func() *machine {
			m := host().with("/etc/nginx/nginx.conf", "x", 0).with("/etc/exim4/exim4.conf", "x", 0).
				with("/var/log/nginx/error.log", lines(3, 20*24*time.Hour), 20*24*time.Hour).
				with("/var/log/exim4/mainlog", lines(3, time.Hour), time.Hour)
			m.answer = answer(nil, []string{"init", "w /var/log/init.log"})
			return m
		}(), want: []string{"/etc/exim4 is there; it does not run now", "id: exim-log"}, never: []string{"id: nginx"},
			left: []string{"nginx: installed, it does not run, and no log of it is fresh; envask ask new --for nginx takes it"}},
		{name: "a service in a container", system: func() *machine {
			m := host().with("/var/log/redis/other.log", lines(3, time.Minute), time.Minute)
			m.answer = answer(nil, []string{"redis-server", "in " + id64, "w /data/redis.log"})
			return m
		}(), never: []string{"/data/redis.log'"}, left: []string{"Redis and Valkey runs within the container 0123456789ab",
			"/data/redis.log: written by redis-server within the container 0123456789ab"}},
		{name: "deleted files", system: func() *machine {
			m := host()
			m.answer = answer(nil, []string{"gate-agent", "w /var/log/gate/agent.log (deleted)"})
			return m
		}(), left: []string{"/var/log/gate/agent.log: deleted, and still held open by gate-agent"}},
		{name: "logs that root alone may read", system: func() *machine {
			m := host().with("/var/log/gate/agent.log", lines(3, time.Minute), time.Minute)
			m.denied = []string{"/var/log/gate/agent.log"}
			m.answer = answer(nil, []string{"gate-agent"})
			return m
		}(), want: []string{"/var/log/gate/agent.log: written 60 s ago, 114 B, the account may not read it", "id: gate-log"},
			remarks: []string{"the account sees no files that other accounts' processes hold open"}},
		{name: "a million logs", system: func() *machine {
			m := host().with("/var/log/passes/x.log", "x", 0)
			m.crowd = "/var/log/passes"
			return m
		}(), want: []string{"/var/log/passes: more than 5000 files", "files: ['/var/log/passes/*']", "max: 1GiB"}},
		{name: "Windows", system: func() *machine {
			m := new(machine).with("/C/ProgramData/Gate/logs/gate.log", lines(3, time.Minute), time.Minute)
			m.windows = true
			return m
		}(), want: []string{`files: ['C:\ProgramData\Gate\logs\gate.log*']`, "id: windows-events"}, never: []string{"linux"}},
		{name: "secrets, old and huge things", system: func() *machine {
			return host().with("/var/log/gate/token.log", "x", 0).with("/var/log/gate/old.log", "x", 400*24*time.Hour).
				with("/var/log/gate/core.bin", strings.Repeat("\x00\x01", hugeUndated/2+1), 0).with("/var/log/wtmp", "x", 0)
		}(), never: []string{"'/var/log/gate/", "wtmp"}, left: []string{"/var/log/gate/token.log: its name is that of a secret",
			"/var/log/gate/old.log: not written for 400 days", "/var/log/gate/core.bin: no text, 64 MiB"}},
		{name: "a secret beside a log of the same beginning", system: host().with("/var/log/gate/gate.log", lines(3, time.Minute), 0).
			with("/var/log/gate/gate.log.1", lines(3, time.Hour), time.Hour).with("/var/log/gate/gate.log-token.key", "x", 0),
			want:  []string{"files: ['/var/log/gate/gate.log', '/var/log/gate/gate.log.1']"},
			never: []string{"gate*'", "gate.log*'"}, left: []string{"gate.log-token.key: its name is that of a secret"}},
		{name: "processes that the account does not see", system: func() *machine {
			m := host().with("/etc/nginx/nginx.conf", "x", 0)
			m.answer = strings.Replace(answer(nil, []string{"sh"}), "1 (init)", "101 (init)", 1)
			return m
		}(), want: []string{"/etc/nginx/nginx.conf is there\n", "id: nginx-log"}, never: []string{"does not run"}},
		{name: "hostile names", system: func() *machine {
			m := host().with("/var/log/a/it's {x}[*]\n- id: evil\n.log", lines(3, time.Minute),
				0).with("/var/log/b\x1b[31m/x.log", lines(3, time.Minute), 0)
			m.answer = answer([]string{"ev'il; reboot.service", "x"}, []string{"a\nb) S", "w /var/log/a/../../etc/x.log"})
			return m
		}(), want: []string{`/var/log/a/it's {x}[*]\n- id: evil\n.log`}, never: []string{"\n- id: evil", "\x1b", "reboot"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var s reach.System = c.system
			if !c.system.noShell {
				s = runs{c.system}
			}
			found, text := drafted(t, s)
			if c.nothing {
				require.Error(t, found.Err())
			}
			at := 0
			for _, w := range c.want {
				i := strings.Index(text[at:], w)
				require.GreaterOrEqual(t, i, 0, "%q after what comes before it in\n%s", w, text)
				at += i
			}
			asked, _, _ := strings.Cut(text, "# Left out:")
			for _, w := range c.never {
				require.NotContains(t, asked, w)
			}
			for _, w := range c.left {
				require.Contains(t, strings.Join(found.LeftOut, "\n"), w)
			}
			for _, w := range c.remarks {
				require.Contains(t, strings.Join(found.Remarks, "\n"), w)
			}
			require.LessOrEqual(t, len(c.system.ran), 1, "one script is run, and nothing else")
		})
	}
}

// The same system is drafted the same each time.
func TestTheSameDraftEachTime(t *testing.T) {
	m := new(machine).with("/etc/os-release", "", 0)
	var processes [][]string
	for i := range 40 {
		name := fmt.Sprintf("/var/log/app%d/x.log", i%7)
		m.with(name, lines(3, time.Minute), time.Minute)
		processes = append(processes, []string{fmt.Sprintf("agent-%d", i%3), "w " + name})
	}
	m.answer = answer([]string{"a.service", "b.service", ""}, processes...)
	_, first := drafted(t, runs{m})
	for range 5 {
		_, again := drafted(t, runs{m})
		require.Equal(t, first, again)
	}
}

func TestACanceledLookEnds(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := System(ctx, Look{System: runs{new(machine).with("/etc/os-release", "", 0)}, Zone: time.UTC, Now: now})
	require.True(t, errors.Is(err, context.Canceled))
}

func FuzzScriptAnswer(f *testing.F) {
	f.Add(answer([]string{"a.service", ""}, []string{"nginx", "w /var/log/x.log", "in " + id64}))
	f.Add("== now ==\n-1\n9e99\n== processes ==\n1 (a) b) S\n== files ==\n/proc//fd:\nl-wx -> /\n")
	f.Fuzz(func(t *testing.T, text string) {
		got, err := parse(strings.NewReader(text))
		if err != nil {
			return
		}
		for _, w := range got.written {
			require.True(t, strings.HasPrefix(w.Path, "/"))
			require.NotNil(t, w.By)
		}
	})
}
