package draft

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"
	"time"

	"envask/internal/late"
	"envask/internal/posix"
	"envask/internal/reach"
)

// Script is what is run on a system with a POSIX shell. It reads, and changes nothing: BusyBox has all that it needs. What is in
// the processes' command lines and environments is not looked at, since passwords may be.
const Script = `printf '== now ==\n'; date +%s; cat /proc/uptime
printf '== services ==\n'; systemctl list-units --type=service --state=running --no-legend --plain --no-pager 2>/dev/null
printf '== processes ==\n'; cat /proc/[0-9]*/stat 2>/dev/null
printf '== groups ==\n'; grep -H . /proc/[0-9]*/cgroup 2>/dev/null | grep -E 'docker|containerd|crio|libpod|lxc|kubepods'
printf '== files ==\n'; ls -l /proc/[0-9]*/fd 2>/dev/null | grep -E '^/proc/|^l.w.*-> /'
printf '== end ==\n'
`

// Bounds of what the script may answer.
const (
	scriptTimeout = 60 * time.Second
	maxAnswer     = 32 << 20 // bytes
)

// Process is one that runs on the system.
type Process struct {
	Name      string
	Since     time.Time // zero where it is not known
	Container string    // the beginning of the identifier of its container; "" for none
}

// Written is a file that a process holds open for writing.
type Written struct {
	Path    string
	By      *Process
	Deleted bool // its name is gone: only the process still has it
}

// running is what the script told.
type running struct {
	now       time.Time
	services  []string
	processes map[string]*Process // by number
	written   []Written
	partly    bool // it was not whole
}

// run runs the script on a system.
func run(ctx context.Context, r reach.Runner) (*running, error) {
	ctx, cancel := context.WithTimeout(ctx, scriptTimeout)
	defer cancel()
	pr, pw := io.Pipe()
	ended := make(chan error, 1)
	go func() {
		_, err := r.Run(ctx, posix.Shell(Script), pw, io.Discard)
		ended <- pw.CloseWithError(err) // nil is its end
	}()
	got, err := parse(io.LimitReader(pr, maxAnswer))
	pr.CloseWithError(io.ErrClosedPipe) // ends a command that prints more
	<-ended
	return got, err
}

var (
	sectionHead = late.Pattern(`^== ([a-z]+) ==$`)
	statLine    = late.Pattern(`^(\d+) \((.*)\) \S (.*)$`)
	containerID = late.Pattern(`(docker|containerd|crio|libpod|lxc|kubepods)[^/]*.*?([0-9a-f]{12})[0-9a-f]{52}|/lxc[./]([^/]+)`)
)

// ticks is how many the kernel counts in a second: fixed for what /proc tells (proc(5), USER_HZ).
const ticks = 100

// startField is where the start time stands in /proc/PID/stat behind the state (proc(5), field 22).
const startField = 18

// parse reads what the script printed. What cannot be understood is left out.
func parse(in io.Reader) (*running, error) {
	got := &running{processes: map[string]*Process{}, partly: true}
	lines := bufio.NewScanner(in)
	lines.Buffer(nil, 1<<20)
	section, pid, up := "", "", time.Duration(0)
	for n := 0; lines.Scan(); n++ {
		line := lines.Text()
		if m := sectionHead().FindStringSubmatch(line); m != nil {
			section = m[1]
			got.partly = section != "end"
			continue
		}
		switch section {
		case "now":
			got.readNow(line, &up)
		case "services":
			if name, _, _ := strings.Cut(strings.TrimSpace(line), " "); strings.HasSuffix(name, ".service") {
				got.services = append(got.services, name)
			}
		case "processes":
			got.readStat(line, up)
		case "groups":
			got.readGroup(line)
		case "files":
			if dir, ok := strings.CutPrefix(line, "/proc/"); ok {
				pid, _, _ = strings.Cut(dir, "/")
			} else {
				got.readFile(line, pid)
			}
		}
	}
	err := lines.Err()
	if section == "" && err == nil {
		err = errors.New("it has no shell that answers")
	}
	return got, err
}

func (r *running) readNow(line string, up *time.Duration) {
	first, _, _ := strings.Cut(line, " ")
	if s, err := strconv.ParseInt(first, 10, 64); err == nil && r.now.IsZero() {
		r.now = time.Unix(s, 0)
	} else if f, err := strconv.ParseFloat(first, 64); err == nil && f >= 0 && f < 1e10 {
		*up = time.Duration(f * float64(time.Second))
	}
}

func (r *running) readStat(line string, up time.Duration) {
	m := statLine().FindStringSubmatch(line)
	if m == nil {
		return
	}
	p := &Process{Name: m[2]}
	if f := strings.Fields(m[3]); len(f) > startField && up > 0 && !r.now.IsZero() {
		if n, err := strconv.ParseInt(f[startField], 10, 64); err == nil && n >= 0 && n < 1<<50 {
			p.Since = r.now.Add(-up + time.Duration(n)*(time.Second/ticks))
		}
	}
	r.processes[m[1]] = p
}

func (r *running) readGroup(line string) {
	rest, ok := strings.CutPrefix(line, "/proc/")
	if !ok {
		return
	}
	pid, _, _ := strings.Cut(rest, "/")
	if p := r.processes[pid]; p != nil && p.Container == "" {
		if m := containerID().FindStringSubmatch(line); m != nil {
			p.Container = m[2] + m[3]
		}
	}
}

// readFile reads a line of ls -l on the folder of a process's open files: a link that may be written through.
func (r *running) readFile(line, pid string) {
	_, target, ok := strings.Cut(line, " -> ")
	p := r.processes[pid]
	if !ok || p == nil || len(r.written) >= maxWritten || !path.IsAbs(target) {
		return
	}
	target, deleted := strings.CutSuffix(target, " (deleted)")
	for _, top := range []string{"/dev/", "/proc/", "/sys/", "/memfd:", "/SYSV", "/anon_", "/[", "/run/", "/tmp/.", "/var/run/"} {
		if strings.HasPrefix(target, top) {
			return
		}
	}
	r.written = append(r.written, Written{Path: path.Clean(target), By: p, Deleted: deleted})
}

// maxWritten bounds the files that are held open for writing.
const maxWritten = 20_000

// since says how long a process runs.
func (p *Process) since(now time.Time, zone *time.Location) string {
	if p.Since.IsZero() {
		return ""
	}
	return fmt.Sprintf("runs since %s", p.Since.In(zone).Format("2006-01-02 15:04"))
}
