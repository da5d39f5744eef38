package reach

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"slices"

	"envask/internal/site"
)

// Local is the machine that Envask runs on.
type Local struct {
	serving
	elevation
	fsys localFS
	nice int
	env  []string // of commands: never all of our own, which may hold passwords
}

var (
	_ System   = (*Local)(nil)
	_ Runner   = (*Local)(nil)
	_ Elevator = (*Local)(nil)
)

func openLocal(_ context.Context, d *Dialer, s *site.System) (System, error) {
	l := NewLocal("")
	l.env = cleanEnv(d.Getenv, s.Environment)
	l.nice, l.elevation.prefix = s.Limits.Nice, s.Elevation()
	return l, nil
}

// NewLocal gives the local machine. With a root, all paths lie below that folder; "" means the real top.
func NewLocal(root string) *Local {
	l := &Local{fsys: localFS{root: root}}
	l.served = Served{Way: "local", Means: "files as they are"}
	l.elevation.run, l.env = l.Run, cleanEnv(nil, nil)
	return l
}

// WithEnv gives commands an environment, as "NAME=value", in the place of the usual one.
func (l *Local) WithEnv(env []string) *Local {
	l.env = env
	return l
}

// FS gives the local files.
func (l *Local) FS() FS { return l.over(l.fsys) }

// Close does nothing: there is no connection.
func (l *Local) Close() error { return nil }

// Run runs a command line in the system's shell, in a process group of its own, so that stopping it stops its children.
func (l *Local) Run(ctx context.Context, command string, stdout, stderr io.Writer) (int, error) {
	cmd := shellCommand(ctx, niced(l.nice, command))
	cmd.Stdout, cmd.Stderr, cmd.Env = stdout, stderr, l.env
	cmd.WaitDelay = StopWait
	err := cmd.Run()
	if ctx.Err() != nil {
		return -1, ctx.Err()
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return exit.ExitCode(), nil
	}
	if err != nil {
		return -1, err
	}
	return 0, nil
}

// cleanEnv gives the environment of commands on this machine: what every program needs, and what the systems file names.
func cleanEnv(getenv func(string) string, names []string) []string {
	env := []string{}
	for _, name := range slices.Concat(usualVariables, names) {
		value := ""
		if getenv != nil {
			value = getenv(name)
		}
		if value == "" && name == "PATH" {
			value = usualPath
		}
		if value != "" {
			env = append(env, name+"="+value)
		}
	}
	return env
}

type localFS struct{ root string }

func (l localFS) Open(name string) (fs.File, error) {
	if err := checkName("open", name); err != nil {
		return nil, err
	}
	return openNoWait(l.path(name))
}

// OpenResolved opens a name in which no link may be.
func (l localFS) OpenResolved(name string) (fs.File, error) {
	if err := checkName("open", name); err != nil {
		return nil, err
	}
	f, err := openResolved(cmp.Or(l.root, topFolder), name)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: l.path(name), Err: err}
	}
	return f, nil
}

func (l localFS) ReadDir(name string) ([]fs.DirEntry, error) {
	if err := checkName("readdir", name); err != nil {
		return nil, err
	}
	return os.ReadDir(l.path(name))
}

func (l localFS) Lstat(name string) (fs.FileInfo, error) {
	if err := checkName("lstat", name); err != nil {
		return nil, err
	}
	return os.Lstat(l.path(name))
}

func (l localFS) ReadLink(name string) (string, error) {
	if err := checkName("readlink", name); err != nil {
		return "", err
	}
	return os.Readlink(l.path(name))
}
