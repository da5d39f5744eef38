package reach

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"envask/internal/site"
)

// FS is the file system of one system, rooted at its top. Names are as in io/fs (slash-separated, no leading slash), but
// may hold any byte except NUL, since file names on real systems do. On Windows the first element is the drive letter.
// Open does not wait on a FIFO or device; whether a thing is a regular file is for the caller to check.
type FS interface {
	fs.ReadDirFS
	fs.ReadLinkFS
}

// System is one reached system. Its methods may be called from several goroutines.
type System interface {
	FS() FS
	Close() error
}

// Runner is what a system offers that can run commands.
type Runner interface {
	// Run runs a shell command line and gives its exit code. When ctx ends, the command is told to stop and Run returns
	// within StopWait; the error is then ctx's. An exit code other than 0 is no error.
	Run(ctx context.Context, command string, stdout, stderr io.Writer) (exit int, err error)
}

// NoisyRunner is what a system offers whose shell may print something when it starts: for callers that step over that by
// themselves, and so save finding out.
type NoisyRunner interface {
	// RunNoisy is Run, but what the shell prints by itself is left in.
	RunNoisy(ctx context.Context, command string, stdout, stderr io.Writer) (exit int, err error)
}

// Health is what a system offers that can be lost in the middle.
type Health interface {
	// Lost gives the reason when the connection is gone, else nil.
	Lost() error
}

// StopWait bounds how long Run waits for a command that was told to stop.
const StopWait = 2 * time.Second

// ConnectTimeout bounds connecting and logging in.
const ConnectTimeout = 15 * time.Second

// What a caller may act on.
var (
	ErrNoLogin    = errors.New("there is no key, agent or password to log in with")
	ErrNotSSH     = errors.New("this is no SSH server")
	ErrHostKey    = errors.New("the host key is not trusted")
	ErrLogin      = errors.New("login refused")
	ErrConnection = errors.New("no connection")
	ErrLost       = errors.New("connection lost")
	ErrSilent     = errors.New("no sign of life") // the other side is there and does not answer in time
)

// way opens a system of one kind.
type way struct {
	Key  string
	Open func(ctx context.Context, d *Dialer, s *site.System) (System, error)
}

// ways is the table of ways to reach a system; its keys are those of the systems file.
var ways = []way{
	{"local", openLocal},
	{"ssh", openSSH},
	{"folder", openFolder},
	{"shell", openShell},
	{"console", openConsole},
	{"web", openWeb},
	{"pushes", openPushes},
}

// Ways lists the keys of the table.
func Ways() []string {
	var keys []string
	for _, w := range ways {
		keys = append(keys, w.Key)
	}
	return keys
}

// Name gives the io/fs name of a whole path on a system: "/var/log/x" is "var/log/x", `C:\x` is "C/x".
func Name(p string) string {
	if len(p) > 2 && p[0] == '/' && p[2] == ':' && (len(p) == 3 || p[3] == '/' || p[3] == '\\') && (p[1]|0x20 >= 'a' && p[1]|0x20 <= 'z') {
		p = p[1:] // /C:/x, as SFTP servers on Windows write it
	}
	if len(p) > 1 && p[1] == ':' {
		p = p[:1] + "/" + strings.ReplaceAll(p[2:], `\`, "/")
	}
	p = strings.TrimPrefix(path.Clean("/"+p), "/")
	if p == "" {
		return "."
	}
	return p
}

// Path gives the whole path of an io/fs name on a system with Unix paths.
func Path(name string) string { return path.Clean("/" + name) }

// validName says whether a name can be opened below a root.
func validName(name string) bool {
	if name == "." {
		return true
	}
	if name == "" || strings.ContainsRune(name, 0) || name[0] == '/' || name[len(name)-1] == '/' {
		return false
	}
	for _, part := range strings.Split(name, "/") {
		if part == "" || part == "." || part == ".." {
			return false
		}
	}
	return true
}

func checkName(op, name string) error {
	if !validName(name) {
		return &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	return nil
}
