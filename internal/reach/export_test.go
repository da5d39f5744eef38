package reach

import (
	"context"
	"io"
	"io/fs"
)

// shellSystem is a system whose files are read through a shell alone.
type shellSystem struct {
	fsys *shellFS
	run  func(context.Context, string, io.Writer, io.Writer) (int, error)
}

func (s shellSystem) FS() FS       { return s.fsys }
func (s shellSystem) Close() error { return nil }
func (s shellSystem) Run(ctx context.Context, command string, stdout, stderr io.Writer) (int, error) {
	return s.run(ctx, command, stdout, stderr)
}

// NewShellSystem gives a system whose files are read through a shell; with a style, files are looked at in that way.
func NewShellSystem(run func(context.Context, string, io.Writer, io.Writer) (int, error), style string) (System, string, error) {
	f, err := newShellFS(context.Background(), run, "")
	if err != nil {
		return nil, "", err
	}
	for _, s := range styles {
		if s.name == style {
			f.style = s
			break
		}
	}
	return shellSystem{f, run}, f.means(), nil
}

// ParseStat reads a listing as the first style, or the last, gives it.
func ParseStat(text string, letters bool) (int, error) {
	s := styles[0]
	if letters {
		s = styles[len(styles)-1]
	}
	infos, err := s.parse(text)
	return len(infos), err
}

// Placed is how a pattern is placed on a system, for tests on every platform.
func Placed(pattern, home string, variables map[string]string) string {
	return placed(pattern, home, func(name string) string { return variables[name] })
}

// ElevatedShell gives the files as a shell with a prefix shows them.
func ElevatedShell(ctx context.Context, run func(context.Context, string, io.Writer, io.Writer) (int, error), prefix string) FS {
	f, err := newShellFS(ctx, run, prefix)
	if err != nil {
		panic(err)
	}
	return f
}

// EachSFTPName reads the body of a packet of names.
func EachSFTPName(body []byte, each func(fs.FileInfo) error) error { return eachSFTPName(body, each) }
