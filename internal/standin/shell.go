package standin

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"
	"unicode/utf8"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// Call is one command that a simulated system's shell runs.
type Call struct {
	Ctx      context.Context
	Server   *Server
	Args     []string // with the command itself
	Dir      string
	Root     bool // with all rights
	In       io.Reader
	opened   *Node // what was opened last for reading: /dev/stdin
	Out, Err io.Writer
}

// Tool is one program of a simulated system; it gives its exit code.
type Tool func(c *Call) int

func (c *Call) fail(exit int, format string, args ...any) int {
	fmt.Fprintf(c.Err, "%s: "+format+"\n", append([]any{c.Args[0]}, args...)...)
	return exit
}

// path makes a whole path of an argument.
func (c *Call) path(p string) string {
	if !strings.HasPrefix(p, "/") {
		p = path.Join(c.Dir, p)
	}
	return path.Clean(p)
}

// whyNot gives the words of the system for an error.
func whyNot(err error) string {
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "Permission denied"
	case errors.Is(err, fs.ErrNotExist):
		return "No such file or directory"
	}
	return "Input/output error"
}

// rooted marks a context in which commands have all rights.
type rooted struct{}

// shell runs a command line as a POSIX shell does, on the simulated system's files and with its tools alone: nothing of this
// machine is seen or touched.
func (s *Server) shell(ctx context.Context, line string, dir string, in io.Reader, out, errOut io.Writer) int {
	decode := func(s string) string { return s }
	if !utf8.ValidString(line) { // the parser wants UTF-8, names on real systems are what they are
		line, decode = widen(line), narrow
	}
	program, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).Parse(strings.NewReader(line), "sh")
	if err != nil {
		fmt.Fprintln(errOut, "sh: syntax error")
		return 2
	}
	root, _ := ctx.Value(rooted{}).(bool)
	r, err := interp.New(append(s.handlers(root, decode),
		interp.Env(expand.ListEnviron("PATH=/usr/bin:/bin", "HOME=/home/"+s.User, "LANG=C.UTF-8", "USER="+s.User)),
		interp.Dir("/"), interp.StdIO(in, out, errOut))...)
	if err != nil {
		fmt.Fprintln(errOut, "sh:", err)
		return 2
	}
	r.Dir = dir
	err = r.Run(ctx, program)
	var status interp.ExitStatus
	if errors.As(err, &status) {
		return int(status)
	}
	if err != nil {
		return 137 // it was stopped
	}
	return 0
}

// handlers let a shell see the simulated system alone. decode takes back what was done to a line that is no UTF-8.
func (s *Server) handlers(root bool, decode func(string) string) []interp.RunnerOption {
	sees := func(p string) (*Node, error) {
		_, n, err := s.Tree.follow(p)
		if err == nil && n.Denied && !root {
			err = fs.ErrPermission
		}
		return n, err
	}
	whole := func(ctx context.Context, p string) string {
		if !strings.HasPrefix(p, "/") {
			p = path.Join(interp.HandlerCtx(ctx).Dir, p)
		}
		return decode(path.Clean(p))
	}
	var opened *Node
	return []interp.RunnerOption{
		interp.StatHandler(func(ctx context.Context, name string, follow bool) (fs.FileInfo, error) {
			name = whole(ctx, name)
			n, err := s.Tree.node(name)
			if follow {
				_, n, err = s.Tree.follow(name)
			}
			if err != nil {
				return nil, err
			}
			return nodeInfo{path.Base(name), n}, nil
		}),
		interp.AccessHandler(func(ctx context.Context, name string, _ interp.AccessMode) error {
			_, err := sees(whole(ctx, name))
			return err
		}),
		interp.ReadDirHandler2(func(ctx context.Context, name string) ([]fs.DirEntry, error) {
			return s.Tree.list(whole(ctx, name))
		}),
		interp.OpenHandler(func(ctx context.Context, name string, flags int, _ os.FileMode) (io.ReadWriteCloser, error) {
			name = whole(ctx, name)
			switch {
			case name == "/dev/null":
				return nothing{}, nil
			case flags&(os.O_WRONLY|os.O_RDWR) != 0:
				return s.Tree.writer(name, flags&os.O_APPEND != 0)
			}
			n, err := sees(name)
			if err != nil {
				return nil, err
			}
			opened = n
			return readOnly{bytes.NewReader(n.Data)}, nil
		}),
		interp.CallHandler(s.words(whole)),
		interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc {
			return func(ctx context.Context, args []string) error {
				h := interp.HandlerCtx(ctx)
				given := make([]string, len(args))
				for i, a := range args {
					given[i] = decode(a)
				}
				exit := s.tool(&Call{Ctx: ctx, Server: s, Args: given, Dir: decode(h.Dir), Root: root, opened: opened, In: h.Stdin,
					Out: h.Stdout, Err: h.Stderr})
				if exit != 0 {
					return interp.ExitStatus(exit)
				}
				return nil
			}
		}),
	}
}

// words gives the words that the shell runs in the place of others, which would look at this machine.
func (s *Server) words(whole func(context.Context, string) string) interp.CallHandlerFunc {
	return func(ctx context.Context, args []string) ([]string, error) {
		switch {
		case args[0] == "cd" && len(args) == 3 && args[1] == "-P":
			if real, _, err := s.Tree.follow(whole(ctx, args[2])); err == nil {
				return []string{"cd", real}, nil
			}
			return []string{"cd", args[2]}, nil
		case args[0] == "pwd" && len(args) == 2:
			return []string{"pwd"}, nil
		case args[0] == "kill": // the shell's own knows other processes
			return append([]string{"/bin/kill"}, args[1:]...), nil
		case args[0] == "command" && len(args) == 3 && args[1] == "-v" && s.knows(args[2]):
			return []string{"echo", args[2]}, nil
		case args[0] == "command" && len(args) == 3 && args[1] == "-v":
			return []string{"false"}, nil
		}
		return args, nil
	}
}

// widen makes a character of every byte; narrow takes it back.
func widen(s string) string {
	out := make([]rune, len(s))
	for i := range len(s) {
		out[i] = rune(s[i])
	}
	return string(out)
}

func narrow(s string) string {
	var out []byte
	for _, r := range s {
		out = append(out, byte(r))
	}
	return string(out)
}

// tool runs one command of the simulated system.
func (s *Server) tool(c *Call) int {
	if s.without(c.Args[0]) {
		return c.fail(127, "not found")
	}
	if known, ok := s.command(strings.Join(c.Args, " ")); ok {
		return s.answer(c.Ctx, known, c.Out, c.Err)
	}
	if t, ok := s.Tools[path.Base(c.Args[0])]; ok {
		return t(c)
	}
	if t, ok := tools[path.Base(c.Args[0])]; ok {
		return t(c)
	}
	return c.fail(127, "not found")
}

func (s *Server) without(name string) bool {
	for _, w := range s.Without {
		if w == name {
			return true
		}
	}
	return false
}

// knows says whether there is a command of a name, as "command -v" does.
func (s *Server) knows(name string) bool {
	if s.without(name) {
		return false
	}
	if s.Tools[name] != nil || tools[name] != nil {
		return true
	}
	for line := range s.commands() {
		if first, _, _ := strings.Cut(line, " "); first == name {
			return true
		}
	}
	return false
}

// answer gives what a command of the table answers.
func (s *Server) answer(ctx context.Context, c Command, out, errOut io.Writer) int {
	select {
	case <-time.After(c.Delay):
	case <-ctx.Done():
		return 137
	}
	for {
		if _, err := io.WriteString(out, c.Out); err != nil {
			break
		}
		if c.HangAfter {
			<-ctx.Done()
			return 137
		}
		if !c.Endless {
			break
		}
		if ctx.Err() != nil {
			return 137
		}
	}
	_, _ = io.WriteString(errOut, c.Err)
	return c.Exit
}

type nothing struct{}

func (nothing) Read([]byte) (int, error)    { return 0, io.EOF }
func (nothing) Write(b []byte) (int, error) { return len(b), nil }
func (nothing) Close() error                { return nil }

type readOnly struct{ io.Reader }

func (readOnly) Write([]byte) (int, error) { return 0, fs.ErrPermission }
func (readOnly) Close() error              { return nil }

// fileWriter writes a file of a simulated system.
type fileWriter struct {
	t *Tree
	n *Node
}

func (fileWriter) Read([]byte) (int, error) { return 0, fs.ErrPermission }
func (fileWriter) Close() error             { return nil }

func (w fileWriter) Write(b []byte) (int, error) {
	w.t.mu.Lock()
	defer w.t.mu.Unlock()
	w.n.Data = append(w.n.Data[:len(w.n.Data):len(w.n.Data)], b...)
	w.n.Time = time.Now()
	return len(b), nil
}

// writable says whether the account may write in a folder: below /tmp and /var/tmp only.
func writable(p string) bool {
	return strings.HasPrefix(p, "/tmp/") || strings.HasPrefix(p, "/var/tmp/") || p == "/tmp" || p == "/var/tmp"
}

func (t *Tree) writer(name string, add bool) (io.ReadWriteCloser, error) {
	if !writable(name) {
		return nil, fs.ErrPermission
	}
	if _, err := t.node(path.Dir(name)); err != nil {
		return nil, err
	}
	if n, err := t.node(name); err == nil && add {
		return fileWriter{t, n}, nil
	}
	n := &Node{Time: time.Now()}
	t.Put(name, n)
	return fileWriter{t, n}, nil
}

// Remove takes a file or folder away, with all in it.
func (t *Tree) Remove(name string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for p := range t.nodes {
		if p == name || strings.HasPrefix(p, name+"/") {
			delete(t.nodes, p)
		}
	}
}

// Names lists the whole paths that begin with a text.
func (t *Tree) Names(prefix string) []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	var out []string
	for p := range t.nodes {
		if strings.HasPrefix(p, prefix) {
			out = append(out, p)
		}
	}
	return out
}

// list lists a folder.
func (t *Tree) list(name string) ([]fs.DirEntry, error) {
	name, n, err := t.follow(name)
	if err != nil {
		return nil, err
	}
	if !n.Mode.IsDir() {
		return nil, fs.ErrInvalid
	}
	var out []fs.DirEntry
	for _, i := range t.children(name) {
		out = append(out, fs.FileInfoToDirEntry(i))
	}
	return out, nil
}
