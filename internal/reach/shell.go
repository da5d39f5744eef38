package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"time"

	"envask/internal/fault"
	"envask/internal/posix"
	"envask/internal/site"
)

// Shell is a system that a program of ours leads to, which gives a POSIX shell on its standard input and output: a container's exec, a
// pod's, a chroot, a client of consoles. Commands go over one such shell after the other; when several are wanted at a time, the program
// is started several times.
type Shell struct {
	serving
	elevation
	argv []string
	env  []string
	nice int
	fsys *shellFS

	mu    sync.Mutex
	idle  []*shellProcess
	rooms chan struct{} // one for each process that may run
	lost  error
	ended bool
}

var (
	_ System   = (*Shell)(nil)
	_ Runner   = (*Shell)(nil)
	_ Health   = (*Shell)(nil)
	_ Elevator = (*Shell)(nil)
)

// mostShells is how many shells of one system run at a time, where its limits do not say less.
const mostShells = 4

// shellVariables are those of our environment that programs which lead to a system want, besides the usual ones.
var shellVariables = []string{"SSH_AUTH_SOCK", "XDG_RUNTIME_DIR", "KUBECONFIG", "DOCKER_HOST", "CONTAINER_HOST"}

func openShell(ctx context.Context, d *Dialer, s *site.System) (System, error) {
	most := mostShells
	if s.Limits.Connections > 0 {
		most = min(most, s.Limits.Connections)
	}
	r := &Shell{argv: s.Shell, env: cleanEnv(d.Getenv, append(append([]string{}, shellVariables...), s.Environment...)),
		nice:  s.Limits.Nice,
		rooms: make(chan struct{}, most)}
	r.elevation.prefix, r.elevation.run = s.Elevation(), r.Run
	fail := func(err error) (System, error) {
		r.Close()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &fault.Error{Target: s.Name, Err: fmt.Errorf("%w: %w", ErrConnection, err),
			Hint: "try it by hand: printf 'echo it works\\n' | " + strings.Join(s.Shell, " ")}
	}
	p, err := r.start(ctx)
	if err != nil {
		return fail(err)
	}
	r.idle = append(r.idle, p)
	if r.fsys, err = newShellFS(ctx, r.Run, ""); err != nil {
		return fail(err)
	}
	r.served = Served{Way: "shell", Means: r.fsys.means() + ", in the shell that " + s.Shell[0] + " gives"}
	return r, nil
}

// FS gives the system's files.
func (r *Shell) FS() FS { return r.over(r.fsys) }

// Lost gives the reason when no shell can be had any more.
func (r *Shell) Lost() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.lost
}

// Close ends all shells.
func (r *Shell) Close() error {
	r.mu.Lock()
	idle := r.idle
	r.idle, r.ended = nil, true
	r.mu.Unlock()
	for _, p := range idle {
		p.end()
	}
	return nil
}

// Run runs a command line in a shell of the system. Its standard input is empty.
func (r *Shell) Run(ctx context.Context, command string, stdout, stderr io.Writer) (int, error) {
	select {
	case r.rooms <- struct{}{}:
	case <-ctx.Done():
		return -1, ctx.Err()
	}
	defer func() { <-r.rooms }()
	p, err := r.take(ctx)
	if err != nil {
		return -1, err
	}
	exit, err := p.run(ctx, niced(r.nice, command), stdout, stderr)
	if err != nil {
		p.end() // what it would still say belongs to nobody
		if ctx.Err() != nil {
			return -1, ctx.Err()
		}
		return -1, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.ended {
		go p.end()
	} else {
		r.idle = append(r.idle, p)
	}
	return exit, nil
}

// take gives a shell that nobody uses. One that ended meanwhile is replaced; when none can be started any more, the system is lost.
func (r *Shell) take(ctx context.Context) (*shellProcess, error) {
	for {
		r.mu.Lock()
		var p *shellProcess
		if n := len(r.idle); n > 0 {
			p = r.idle[n-1]
			r.idle = r.idle[:n-1]
		}
		lost := r.lost
		r.mu.Unlock()
		switch {
		case lost != nil:
			return nil, lost
		case p == nil:
			p, err := r.start(ctx)
			if err != nil && ctx.Err() == nil {
				err = fmt.Errorf("%w: %w", ErrLost, err)
				r.mu.Lock()
				r.lost = err
				r.mu.Unlock()
			}
			return p, err
		case p.alive():
			return p, nil
		}
		p.end()
	}
}

// shellProcess is one start of the program.
type shellProcess struct {
	cmd    *exec.Cmd
	in     io.WriteCloser
	out    io.ReadCloser
	errOut io.ReadCloser
	merged bool          // its standard error comes with its standard output
	gone   chan struct{} // closed when the program ended
	code   int           // its exit code then
	once   sync.Once
}

// start starts the program and makes sure that it gives a shell through which bytes pass unchanged.
func (r *Shell) start(ctx context.Context) (*shellProcess, error) {
	cmd := exec.Command(r.argv[0], r.argv[1:]...) // #nosec G204 -- the program stands in the engineer's own systems file
	cmd.Env = append(r.env, "TERM=dumb")
	ownGroup(cmd)
	p := &shellProcess{cmd: cmd, gone: make(chan struct{})}
	var err error
	if p.in, err = cmd.StdinPipe(); err == nil {
		if p.out, err = cmd.StdoutPipe(); err == nil {
			p.errOut, err = cmd.StderrPipe()
		}
	}
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return nil, fmt.Errorf("start %s: %w", r.argv[0], plainExec(err))
	}
	go func() { // cmd.Wait would close what is still to be read
		if state, err := cmd.Process.Wait(); err == nil {
			p.code = state.ExitCode()
		}
		close(p.gone)
		p.kill() // what it left behind would keep its output open
	}()
	if err := p.greet(ctx); err != nil {
		p.end()
		return nil, fmt.Errorf("%s %w", r.argv[0], err)
	}
	return p, nil
}

// plainExec takes our own words out of an error of starting a program.
func plainExec(err error) error {
	var e *exec.Error
	if errors.As(err, &e) {
		return e.Err
	}
	return plainPath(err)
}

// clean is what passes through a shell that changes nothing: bytes that a terminal in between would change.
const clean = "a\nb\rc\x01d\x04e\x7ff\xffg"

// cleanCommand prints it.
const cleanCommand = `printf 'a\nb\rc\001d\004e\177f\377g'`

// greet waits until the shell answers, whatever it prints first, and looks whether it changes what passes.
func (p *shellProcess) greet(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, ConnectTimeout)
	defer cancel()
	said := &said{}
	// A terminal in between would echo what goes in, and change line ends. A program that has ended says why in what follows.
	_, _ = io.WriteString(p.in, "stty -echo -onlcr -opost 2>/dev/null\nPS1= PS2=; export PS1 PS2\n")
	var out bytes.Buffer
	exit, err := p.exchange(ctx, cleanCommand, &limitedBuffer{b: &out}, io.Discard, said)
	switch {
	case err != nil:
		return p.noShell(ctx, said, err)
	case exit != 0:
		return fmt.Errorf("gives a shell in which printf fails (exit code %d)", exit)
	case out.String() != clean:
		return errors.New("gives a shell whose output is changed on its way: give it the option that makes no terminal " +
			"(such as -i without -t, or -T)")
	}
	return nil
}

// said is what a program says before it gives a shell, on both streams.
type said struct{ out, errOut bytes.Buffer }

// noShell says why what the program gives is no shell.
func (p *shellProcess) noShell(ctx context.Context, s *said, err error) error {
	how := "gives no POSIX shell within " + ConnectTimeout.String()
	if ctx.Err() == nil {
		select {
		case <-p.gone:
			how = fmt.Sprintf("ended at once (exit code %d)", p.code)
		case <-time.After(100 * time.Millisecond):
			how = "gives no POSIX shell (" + err.Error() + ")"
		}
	}
	for _, b := range []*bytes.Buffer{&s.errOut, &s.out} {
		if text := lastLine(strings.ToValidUTF8(b.String(), "?")); text != "" {
			return errors.New(how + ", and said: " + text)
		}
	}
	return errors.New(how)
}

// run runs a command line and gives its exit code.
func (p *shellProcess) run(ctx context.Context, command string, stdout, stderr io.Writer) (int, error) {
	return p.exchange(ctx, command, stdout, stderr, nil)
}

// exchange gives one command to the shell and reads its two outputs, each between marks that nothing prints by chance. What comes before
// the first mark, such as a banner or an echo, is no output of the command; it goes to s, which may be nil.
func (p *shellProcess) exchange(ctx context.Context, command string, stdout, stderr io.Writer, s *said) (int, error) {
	mark := newMark()
	// In what a terminal echoes the mark is in two pieces, and so is not one.
	half := mark[:len(mark)/2] + "''" + mark[len(mark)/2:]
	text := "echo " + half + "; echo " + half + " >&2; " + posix.Shell(command) + " </dev/null; e=$?; echo " + half +
		" $e; echo " + half + " 0 >&2\n"
	if p.merged { // the errors come behind the output then
		text = "echo " + half + "; { w=$(" + posix.Shell(command) + " </dev/null 2>&1 >&3 3>&-); e=$?; } 3>&1; echo " + half +
			" $e; echo " + half + "; [ -z \"$w\" ] || printf '%s\\n' \"$w\"; echo " + half + " 0\n"
	}
	stop := context.AfterFunc(ctx, p.kill)
	defer stop()
	wrote := make(chan error, 1)
	go func() { _, err := io.WriteString(p.in, text); wrote <- err }()
	out, errOut := &framed{mark: mark, to: stdout}, &framed{mark: mark, to: stderr}
	if s != nil {
		out.before, errOut.before = &limitedBuffer{b: &s.out}, &limitedBuffer{b: &s.errOut}
	}
	read := make(chan error, 1)
	if p.merged {
		read <- nil
	} else {
		go func() { read <- errOut.readAll(p.errOut) }()
	}
	err := out.readAll(p.out)
	switch {
	case p.merged && err == nil:
		if err = errOut.take(out.rest); err == nil {
			err = errOut.readAll(p.out)
		}
	case err != nil:
		p.kill() // so that the other stream ends, too
		<-read
	case out.merged:
		p.merged = true // the reader of the other stream ends with the program
	default:
		err = p.awaitErrors(read)
	}
	if e := <-wrote; err == nil {
		err = e
	}
	if ctx.Err() != nil {
		return -1, ctx.Err()
	}
	return out.exit, err
}

// mergedWait is how long the end of standard error is waited for behind that of standard output.
const mergedWait = 5 * time.Second

// awaitErrors waits for the end of standard error. A program that gives both in one stream never ends it: from then on nobody waits.
func (p *shellProcess) awaitErrors(read chan error) error {
	select {
	case err := <-read:
		return err
	case <-time.After(mergedWait):
		p.merged = true // the reader that waits takes what still comes
		return nil
	}
}

// alive reports whether the program still runs.
func (p *shellProcess) alive() bool {
	select {
	case <-p.gone:
		return false
	default:
		return true
	}
}

func (p *shellProcess) kill() { killGroup(p.cmd) }

// end ends the program.
func (p *shellProcess) end() {
	p.once.Do(func() {
		_ = p.in.Close() // a shell ends then
		select {
		case <-p.gone:
		case <-time.After(100 * time.Millisecond):
			p.kill()
			select {
			case <-p.gone:
			case <-time.After(StopWait):
			}
		}
		p.out.Close()
		p.errOut.Close()
	})
}

// framed passes on what comes between two marks, and reads the exit code behind the second.
type framed struct {
	mark   string
	to     io.Writer
	before *limitedBuffer // gets what comes before the first mark; may be nil
	buf    []byte
	begun  bool
	looked bool // whether both streams come in one
	merged bool
	ended  bool
	exit   int
	rest   []byte // what came behind the second mark
}

// readAll reads until the second mark. An error of the writer ends it at once; an early end is io.ErrUnexpectedEOF.
func (f *framed) readAll(r io.Reader) error {
	chunk := make([]byte, 32<<10)
	for !f.ended {
		n, err := r.Read(chunk)
		if n > 0 {
			if e := f.take(chunk[:n]); e != nil {
				return e
			}
		}
		if err != nil && !f.ended {
			if !f.begun {
				f.drop(len(f.buf))
			}
			if f.begun {
				_ = f.pass(len(f.buf)) // the error counts
				return fmt.Errorf("%w: the shell ended in the middle of a command", ErrLost)
			}
			return fmt.Errorf("%w: the shell ended", ErrLost)
		}
	}
	return nil
}

func (f *framed) take(b []byte) error {
	f.buf = append(f.buf, b...)
	if !f.begun {
		i := bytes.Index(f.buf, []byte(f.mark+"\n"))
		if i < 0 {
			if keep := len(f.mark) + 1; len(f.buf) > keep {
				f.drop(len(f.buf) - keep)
			}
			return nil
		}
		f.drop(i)
		f.buf, f.begun = f.buf[len(f.mark)+1:], true
	}
	if other := []byte(f.mark + "\n"); !f.looked {
		if len(f.buf) < len(other) && bytes.HasPrefix(other, f.buf) {
			return nil
		}
		f.looked = true
		if f.merged = bytes.HasPrefix(f.buf, other); f.merged {
			f.buf = f.buf[len(other):]
		}
	}
	end := []byte(f.mark + " ")
	i := bytes.Index(f.buf, end)
	if i < 0 {
		return f.pass(len(f.buf) - begins(f.buf, end)) // what waits may be the mark in part
	}
	line := bytes.IndexByte(f.buf[i+len(end):], '\n')
	if line < 0 {
		return f.pass(i)
	}
	exit, err := strconv.Atoi(strings.TrimSpace(string(f.buf[i+len(end) : i+len(end)+line])))
	if err != nil {
		return fmt.Errorf("the shell gives no exit code: %w", err)
	}
	f.exit, f.ended, f.rest = exit, true, bytes.Clone(f.buf[i+len(end)+line+1:])
	return f.pass(i)
}

// begins is how long the end of a text is that begins a mark.
func begins(text, mark []byte) int {
	for n := min(len(text), len(mark)-1); n > 0; n-- {
		if bytes.HasPrefix(mark, text[len(text)-n:]) {
			return n
		}
	}
	return 0
}

func (f *framed) drop(n int) {
	if f.before != nil {
		_, _ = f.before.Write(f.buf[:n]) // it keeps what it can
	}
	f.buf = f.buf[n:]
}

func (f *framed) pass(n int) error {
	if n <= 0 {
		return nil
	}
	_, err := f.to.Write(f.buf[:n])
	f.buf = append(f.buf[:0], f.buf[n:]...)
	return err
}
