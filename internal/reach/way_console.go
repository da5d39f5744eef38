package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"envask/internal/device"
	"envask/internal/fault"
	"envask/internal/reach/console"
	"envask/internal/site"
)

// Console is a device with a command line of its own, reached by SSH, Telnet, or a plain stream of bytes. It has no POSIX shell: it runs
// nothing but what is typed. Its files, where it offers any, come over SFTP.
type Console struct {
	serving
	d    *Dialer
	sys  *site.System // as its console is reached
	desc *device.Description
	line *SSH // nil without SSH

	talk    sync.Mutex // one conversation at a time
	session *console.Session
	exec    execState

	mu     sync.Mutex
	lost   error
	closed bool

	files     sync.Once
	noFiles   error
	oldSecret map[site.Secret]bool
}

// execState says whether a device takes exec requests of SSH.
type execState int

const (
	execUnknown execState = iota
	execTaken
	execRefused
)

var (
	_ System = (*Console)(nil)
	_ Typist = (*Console)(nil)
	_ Health = (*Console)(nil)
)

// Typist is what a system offers that has a command line and no POSIX shell.
type Typist interface {
	// Type types a step and passes the answer on, as clean lines. Only one step is typed at a time.
	Type(ctx context.Context, t Typing) (Answer, error)
	// Description gives what is known of the device; never nil.
	Description() *device.Description
}

// Typing is a step that is typed.
type Typing struct {
	device.Step
	Answers []device.Reply // besides those of the step
	Most    time.Duration  // how long it may take in all; 0 is no limit
	Out     io.Writer      // gets the answer; nil drops it
	Raw     io.Writer      // gets the session as it came; may be nil
	Hide    []string       // of what is typed: it stands neither in the answer nor in the session
	Talk    bool           // it is a part of a conversation; an exec request stands alone
	learn   bool           // it leads to another prompt
}

// Answer is how a device answered.
type Answer struct {
	Prompt string // at which it waits now; "" where there is none
	First  string // the first lines
	Exit   int    // of an exec request; -1 where there is none
	Bytes  int64
}

// Errors of devices that a caller may act on.
var (
	ErrMode   = errors.New("the mode is not entered")
	ErrSecret = errors.New("the systems file does not give the secret")
)

func openConsole(ctx context.Context, d *Dialer, s *site.System) (System, error) {
	own := *s
	own.Ways, own.SSH = []string{"console"}, s.Console.SSH
	c := &Console{d: d, sys: &own, desc: s.Description, oldSecret: map[site.Secret]bool{}}
	if c.desc == nil {
		c.desc = &device.Description{}
	}
	over := map[string]string{"ssh": "SSH", "telnet": "Telnet", "tcp": "a plain stream"}[s.Console.Protocol]
	if s.Console.Protocol == "ssh" {
		line, err := d.openClient(ctx, &own)
		if err != nil {
			return nil, err
		}
		c.line = line
	}
	if s.Console.NoExec || c.line == nil || len(c.desc.Enter) > 0 {
		c.exec = execRefused
	}
	// Where exec requests may be taken, whether a shell is needed is seen at the first command.
	if c.exec == execRefused {
		if err := c.open(ctx); err != nil {
			c.Close()
			return nil, err
		}
	}
	c.note(func(v *Served) {
		v.Way, v.Means = "console", "a command line over "+over
		if c.line == nil {
			v.Remark = "its command line is not encrypted: who listens on the way reads it, also its passwords"
		}
		if s.Console.Legacy {
			v.Remark = "old algorithms of SSH were allowed for it, as the systems file says"
		}
	})
	return c, nil
}

// Description gives what is known of the device.
func (c *Console) Description() *device.Description { return c.desc }

// open begins a conversation: login, modes, paging.
func (c *Console) open(ctx context.Context) error {
	stream, err := c.stream(ctx)
	if err != nil {
		return err
	}
	set := console.Settings{Prompt: c.sys.Console.Prompt, User: c.sys.Console.User, LineEnd: c.desc.LineEnd}
	if set.Prompt == nil {
		set.Prompt = c.desc.Prompt
	}
	for _, r := range c.desc.Pages {
		set.Pages = append(set.Pages, console.Reply{When: r.When, Text: r.Press + r.Give +
			map[bool]string{true: "", false: "\r"}[r.Press != ""]})
	}
	done := func(outcome) {}
	if c.sys.Console.Password != "" {
		set.Password = func() (text string, err error) {
			text, done, err = c.d.use(c.sys.Name, c.sys.Console.Password)
			return text, err
		}
	}
	session, err := console.Open(ctx, stream, set)
	var no *console.LoginError
	switch {
	case errors.As(err, &no):
		done(refused)
	case err == nil:
		done(worked)
	default:
		done(notKnown)
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case no != nil:
		return &fault.Error{Target: c.sys.Name, Err: fmt.Errorf("%w: %s", ErrLogin, no.Said),
			Hint: "check user and password of its console in the systems file; a refused password is not tried again in this run"}
	case errors.Is(err, console.ErrNoPrompt):
		return &fault.Error{Target: c.sys.Name, Err: &saidError{err, ErrSilent},
			Hint: "give prompt: in the systems file, as the device shows it"}
	case errors.Is(err, ErrLogin):
		return &fault.Error{Target: c.sys.Name, Err: err}
	case err != nil:
		return &fault.Error{Target: c.sys.Name, Err: fmt.Errorf("%w: %w", ErrConnection, err)}
	}
	c.session = session
	for _, s := range c.desc.Enter {
		if _, err := c.do(ctx, Typing{Step: s, learn: s.Prompt == nil}); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			said := err.Error()
			if mode := (*console.ModeError)(nil); errors.As(err, &mode) {
				said = mode.Said
			}
			return &fault.Error{Target: c.sys.Name, Err: fmt.Errorf("%w: %w: %s: %s", ErrLogin, ErrMode, s.Type, said),
				Hint: "check the password and the prompt of this mode in the systems file"}
		}
	}
	for _, command := range c.desc.PagesOff { // one that the device does not know does no harm: its pager is answered
		if _, err := c.do(ctx, Typing{Step: device.Step{Type: command}}); err != nil && session.Broken() != nil {
			return &fault.Error{Target: c.sys.Name, Err: fmt.Errorf("%w: %w", ErrConnection, err)}
		}
	}
	return nil
}

// stream opens the stream of bytes.
func (c *Console) stream(ctx context.Context) (io.ReadWriteCloser, error) {
	if c.line != nil {
		return c.line.shellStream(ctx)
	}
	inner, err := enter(ctx, c.sys.Name)
	if err != nil {
		return nil, &fault.Error{Target: c.sys.Name, Err: err}
	}
	conn, err := c.d.connect(inner, c.sys, sshRoute{}, c.sys.Console.Address)
	if err != nil {
		return nil, err
	}
	conn = throttle(conn, c.sys.Limits)
	if c.sys.Console.Protocol == "telnet" {
		return console.Telnet(conn), nil
	}
	return conn, nil
}

// shellStream starts a shell on a terminal.
func (r *SSH) shellStream(ctx context.Context) (io.ReadWriteCloser, error) {
	session, c, free, err := r.rooms.get(ctx, true)
	if err != nil {
		return nil, &fault.Error{Target: r.name, Err: fmt.Errorf("%w: %w", ErrConnection, err)}
	}
	r.rooms.lasting(c, 1)
	end := sync.OnceFunc(func() { r.rooms.lasting(c, -1); free() })
	stop := context.AfterFunc(ctx, func() { session.Close() })
	defer stop()
	session.Stderr = io.Discard
	out, err := session.StdoutPipe()
	var in io.WriteCloser
	if err == nil {
		in, err = session.StdinPipe()
	}
	if err == nil {
		// A device without terminals gives its command line all the same.
		_ = session.RequestPty(console.Kind, console.Rows, console.Columns, ssh.TerminalModes{ssh.ECHO: 1, ssh.TTY_OP_ISPEED: 115200,
			ssh.TTY_OP_OSPEED: 115200})
		err = session.Shell()
	}
	if err != nil {
		session.Close()
		end()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &fault.Error{Target: r.name, Err: fmt.Errorf("%w: it gives no terminal with a command line: %w", ErrConnection, err)}
	}
	return subsystem{out, in, session, end}, nil
}

// Lost gives the reason when the device cannot be reached any more.
func (c *Console) Lost() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.lost == nil && c.line != nil {
		return c.line.Lost()
	}
	return c.lost
}

func (c *Console) setLost(err error) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.lost == nil {
		c.lost = fmt.Errorf("%w: %w", ErrLost, err)
	}
	return c.lost
}

// Close ends the connection.
func (c *Console) Close() error {
	c.mu.Lock()
	c.closed = true
	c.mu.Unlock()
	if c.line != nil {
		return c.line.Close()
	}
	if c.talk.TryLock() { // else who talks ends it, which they are told by their context
		defer c.talk.Unlock()
		if c.session != nil {
			_ = c.session.Close()
		}
	}
	return nil
}

// errNoFiles is why a device has no files for us.
var errNoFiles = errors.New("the device offers no files (SFTP)")

// FS gives the device's files, where it offers SFTP.
func (c *Console) FS() FS {
	c.files.Do(func() {
		c.noFiles = errNoFiles
		if c.line != nil {
			ctx, cancel := context.WithTimeout(context.Background(), ConnectTimeout)
			defer cancel()
			if c.line.startSFTP(ctx) == nil {
				c.noFiles = nil
			}
		}
	})
	if c.noFiles != nil {
		return nothingFS{c.noFiles}
	}
	return c.line.FS()
}
