package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"envask/internal/fault"
	"envask/internal/site"
)

// SSH is a system that is reached by SSH, with its files over SFTP or, where the server offers none, through its shell.
type SSH struct {
	serving
	elevation
	name   string
	client *ssh.Client
	files  *sftp.Client // nil where the server offers no SFTP
	wire   *sftpWire
	one    sync.Mutex
	rooms  *sessions
	stall  time.Duration
	shell  *shellFS // used then
	nice   int

	lostMu  sync.Mutex
	lost    error
	squeeze squeeze
	noise   noise
	login   loginShell
	home    home
}

var (
	_ System   = (*SSH)(nil)
	_ Runner   = (*SSH)(nil)
	_ Health   = (*SSH)(nil)
	_ Elevator = (*SSH)(nil)

	_ NoisyRunner = (*SSH)(nil)
)

func openSSH(ctx context.Context, d *Dialer, s *site.System) (System, error) {
	r, err := d.openClient(ctx, s)
	if err != nil {
		return nil, err
	}
	if err := r.startSFTP(ctx); err == nil {
		r.note(func(v *Served) { v.Way, v.Means = "ssh", "files over SFTP" })
		return r, nil
	}
	if r.shell, err = newShellFS(ctx, r.Run, ""); err != nil {
		r.Close()
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if errors.Is(err, errShell) {
			err = fmt.Errorf("the server offers no SFTP, and %w", err)
		}
		return nil, &fault.Error{Target: s.Name, Err: fmt.Errorf("%w: %w", ErrConnection, err),
			Hint: "switch the sftp subsystem on in the server's configuration, or let the account have a shell"}
	}
	r.note(func(v *Served) { v.Way, v.Means = "ssh", r.shell.means()+" (the server offers no SFTP)" })
	return r, nil
}

// OpenSSH reaches a system by SSH and starts SFTP on it, which must be there.
func (d *Dialer) OpenSSH(ctx context.Context, s *site.System) (*SSH, error) {
	r, err := d.openClient(ctx, s)
	if err != nil {
		return nil, err
	}
	if err := r.startSFTP(ctx); err != nil {
		r.Close()
		return nil, &fault.Error{Target: s.Name, Err: fmt.Errorf("%w: the server offers no SFTP (%w)", ErrConnection, err),
			Hint: "switch the sftp subsystem on in the server's configuration"}
	}
	return r, nil
}

func (d *Dialer) openClient(ctx context.Context, s *site.System) (*SSH, error) {
	client, err := d.DialSSH(ctx, s)
	if err != nil {
		return nil, err
	}
	r := &SSH{name: s.Name, client: client, nice: s.Limits.Nice, stall: s.Stall}
	if r.stall <= 0 {
		r.stall = site.DefaultStall
	}
	r.rooms = newSessions(client, s.Limits.Connections, func(ctx context.Context) (*ssh.Client, error) { return d.DialSSH(ctx, s) })
	r.elevation.prefix, r.elevation.run = s.Elevation(), r.Run
	go r.watch(r.stall)
	return r, nil
}

// sftpPacket is the size of a packet in which files come from OpenSSH, in bytes: it takes more than the 32 KiB that every
// server must, which makes one large file some 1.4 times as fast. sftpRequests is how many are on the way at a time.
const (
	sftpPacket   = 255 << 10
	sftpRequests = 16
)

// Packet is the size of the packets in which files go, in bytes.
func (r *SSH) Packet() int {
	if strings.Contains(r.Identity(), "OpenSSH") {
		return sftpPacket
	}
	return 32 << 10
}

// sftpWait bounds starting SFTP: a shell that prints when it starts can leave it waiting for ever.
const sftpWait = ConnectTimeout

// startSFTP starts SFTP.
func (r *SSH) startSFTP(ctx context.Context) error {
	if r.Packet() == sftpPacket {
		files, err := r.sftpClient(ctx, sftp.MaxPacketUnchecked(sftpPacket), sftp.MaxConcurrentRequestsPerFile(sftpRequests))
		if err != nil {
			return err
		}
		if _, own := files.HasExtension("posix-rename@openssh.com"); own {
			r.files = files
			return nil
		}
		files.Close() // another program serves the files there
	}
	files, err := r.sftpClient(ctx)
	r.files = files
	return err
}

// sftpClient starts SFTP on a channel of its own, so that giving it up leaves the connection as it is.
func (r *SSH) sftpClient(ctx context.Context, options ...sftp.ClientOption) (*sftp.Client, error) {
	ctx, cancel := context.WithTimeout(ctx, sftpWait)
	defer cancel()
	channel, err := r.Subsystem(ctx, "sftp")
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { channel.Close() })
	defer stop()
	wire := newSFTPWire(channel, r.stall, func(err error) {
		r.setLost(err)
		r.client.Close()
	})
	files, err := sftp.NewClientPipe(wire, wire, options...)
	if err != nil {
		wire.Close()
		return nil, err
	}
	r.wire = wire
	return files, nil
}

// Subsystem starts a subsystem of SSH on a channel of its own. The context bounds the start.
func (r *SSH) Subsystem(ctx context.Context, name string) (io.ReadWriteCloser, error) {
	session, c, free, err := r.rooms.get(ctx, true)
	if err != nil {
		return nil, err
	}
	r.rooms.lasting(c, 1)
	end := sync.OnceFunc(func() { r.rooms.lasting(c, -1); free() })
	stop := context.AfterFunc(ctx, func() { session.Close() })
	defer stop()
	out, err := session.StdoutPipe()
	var in io.WriteCloser
	if err == nil {
		in, err = session.StdinPipe()
	}
	if err == nil {
		err = session.RequestSubsystem(name)
	}
	if err != nil {
		session.Close()
		end()
		return nil, err
	}
	return subsystem{out, in, session, end}, nil
}

type subsystem struct {
	io.Reader
	io.Writer
	session *ssh.Session
	end     func()
}

func (s subsystem) Close() error {
	defer s.end()
	return s.session.Close()
}

// watch asks the server for a sign of life. A peer that is silent for stall is given up, so that nothing waits on it
// for ever: closing the connection ends every read and every command on it.
func (r *SSH) watch(stall time.Duration) {
	gone := make(chan error, 1)
	go func() { gone <- r.client.Wait() }()
	tick := time.NewTicker(stall / 3)
	defer tick.Stop()
	alive := make(chan error, 1)
	asked := time.Time{}
	for {
		select {
		case err := <-gone:
			if err == nil || errors.Is(err, io.EOF) {
				err = errors.New("the other side closed it")
			}
			r.setLost(err)
			return
		case err := <-alive:
			asked = time.Time{}
			if err != nil {
				r.setLost(err)
			}
		case <-tick.C:
			if asked.IsZero() {
				asked = time.Now()
				go func() {
					_, _, err := r.client.SendRequest("keepalive@openssh.com", true, nil)
					alive <- err
				}()
			} else if time.Since(asked) > stall*2/3 {
				r.setLost(fmt.Errorf("%w for %s", ErrSilent, stall))
				r.client.Close()
			}
		}
	}
}

func (r *SSH) setLost(err error) {
	r.lostMu.Lock()
	defer r.lostMu.Unlock()
	if r.lost == nil {
		r.lost = fmt.Errorf("%w: %w", ErrLost, err)
	}
}

// Lost gives the reason when the connection is gone.
func (r *SSH) Lost() error {
	r.lostMu.Lock()
	defer r.lostMu.Unlock()
	return r.lost
}

// FS gives the system's files.
func (r *SSH) FS() FS {
	if r.files == nil {
		return r.over(r.shell)
	}
	return r.over(sftpFS{r.files, r.wire, r.Windows(), &r.one})
}

// Files gives the SFTP client itself, for writing.
func (r *SSH) Files() *sftp.Client { return r.files }

// Identity says which server it is: its version string.
func (r *SSH) Identity() string { return string(r.client.ServerVersion()) }

// Close ends the connection.
func (r *SSH) Close() error {
	// The connection first: SFTP waits for its last answer, which a silent peer never gives.
	r.rooms.end()
	err := r.client.Close()
	if r.files != nil {
		_ = r.files.Close()
	}
	if err != nil && r.Lost() != nil {
		return nil // it was gone already, which has been said where it mattered
	}
	return err
}

// noise is what is known about a shell that prints when it starts.
type noise struct {
	once sync.Once
	mark string // "" where it does not
}

// Run runs a command line in the login shell of the account. What the shell prints by itself when it starts is left out.
func (r *SSH) Run(ctx context.Context, command string, stdout, stderr io.Writer) (int, error) {
	r.noise.once.Do(func() { r.listen(ctx) })
	command = niced(r.nice, command)
	if mark := r.noise.mark; mark != "" {
		command = "sh -c 'echo " + mark + "; echo " + mark + " >&2'; " + command
		stdout, stderr = newUnnoised(mark, stdout), newUnnoised(mark, stderr)
	}
	return r.run(ctx, command, stdout, stderr)
}

// RunNoisy runs a command line and leaves in what the shell prints by itself.
func (r *SSH) RunNoisy(ctx context.Context, command string, stdout, stderr io.Writer) (int, error) {
	return r.run(ctx, niced(r.nice, command), stdout, stderr)
}

// listen finds out whether the shell prints something when it starts.
func (r *SSH) listen(ctx context.Context) {
	mark := newMark()
	var out, errOut bytes.Buffer
	ctx, cancel := context.WithTimeout(ctx, ConnectTimeout)
	defer cancel()
	_, err := r.run(ctx, "echo "+mark, &limitedBuffer{b: &out}, &limitedBuffer{b: &errOut})
	line := mark + "\n"
	if err == nil && (strings.HasSuffix(out.String(), line) && out.String() != line ||
		strings.Contains(out.String(), line) && errOut.Len() > 0) {
		r.noise.mark = mark
		r.note(func(v *Served) { v.Noisy = true })
	}
}

// Errors of commands that devices make usual.
var (
	errNotStarted = errors.New("start the command")
	errNoExit     = fmt.Errorf("%w: the command ended without an exit code", ErrLost)
)

// limitedBuffer keeps the beginning of an output.
type limitedBuffer struct{ b *bytes.Buffer }

func (l *limitedBuffer) Write(p []byte) (int, error) {
	if l.b.Len() < 64<<10 {
		l.b.Write(p)
	}
	return len(p), nil
}

func (r *SSH) run(ctx context.Context, command string, stdout, stderr io.Writer) (int, error) {
	session, _, free, err := r.rooms.get(ctx, false)
	if err != nil {
		return -1, fmt.Errorf("open a session for a command: %w", err)
	}
	defer free()
	defer session.Close()
	// What a command still prints after it was given up must not reach writers that are the caller's again.
	out, errOut := &gate{w: stdout}, &gate{w: stderr}
	defer out.shut()
	defer errOut.shut()
	session.Stdout, session.Stderr = out, errOut
	if err := session.Start(command); err != nil {
		return -1, fmt.Errorf("%w: %w", errNotStarted, err)
	}
	ended := make(chan error, 1)
	go func() { ended <- session.Wait() }()
	select {
	case err = <-ended:
	case <-ctx.Done():
		// Servers that do not pass signals on end the command when its channel closes.
		_ = session.Signal(ssh.SIGKILL)
		_ = session.Close()
		select {
		case <-ended:
		case <-time.After(StopWait):
		}
		return -1, ctx.Err()
	}
	var exit *ssh.ExitError
	var missing *ssh.ExitMissingError
	switch {
	case err == nil:
		return 0, nil
	case errors.As(err, &exit):
		return exit.ExitStatus(), nil
	case errors.As(err, &missing):
		if lost := r.Lost(); lost != nil {
			return -1, lost
		}
		return -1, errNoExit
	}
	return -1, err
}

// gate passes writes on until it is shut.
type gate struct {
	mu   sync.Mutex
	w    io.Writer
	done bool
}

func (g *gate) Write(b []byte) (int, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.done {
		return 0, io.ErrClosedPipe
	}
	return g.w.Write(b)
}

func (g *gate) shut() {
	g.mu.Lock()
	g.done = true
	g.mu.Unlock()
}
