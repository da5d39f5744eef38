package reach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"envask/internal/fault"
	"envask/internal/site"
)

// SSH is a system that is reached by SSH, with its files over SFTP.
type SSH struct {
	name   string
	client *ssh.Client
	files  *sftp.Client

	mu      sync.Mutex
	lost    error
	squeeze squeeze
}

var (
	_ System = (*SSH)(nil)
	_ Runner = (*SSH)(nil)
	_ Health = (*SSH)(nil)
)

func openSSH(ctx context.Context, d *Dialer, s *site.System) (System, error) {
	return d.OpenSSH(ctx, s)
}

// OpenSSH reaches a system by SSH and starts SFTP on it.
func (d *Dialer) OpenSSH(ctx context.Context, s *site.System) (*SSH, error) {
	client, err := d.DialSSH(ctx, s)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { client.Close() })
	late := time.AfterFunc(ConnectTimeout, func() { client.Close() })
	files, err := sftp.NewClient(client)
	stop()
	late.Stop()
	if err != nil {
		client.Close()
		return nil, &fault.Error{Target: s.Name, Err: fmt.Errorf("%w: the server offers no SFTP (%w)", ErrConnection, err),
			Hint: "switch the sftp subsystem on in the server's configuration"}
	}
	r := &SSH{name: s.Name, client: client, files: files}
	go r.watch(s.Stall)
	return r, nil
}

// watch asks the server for a sign of life. A peer that is silent for stall is given up, so that nothing waits on it
// for ever: closing the connection ends every read and every command on it.
func (r *SSH) watch(stall time.Duration) {
	if stall <= 0 {
		stall = site.DefaultStall
	}
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
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.lost == nil {
		r.lost = fmt.Errorf("%w: %w", ErrLost, err)
	}
}

// Lost gives the reason when the connection is gone.
func (r *SSH) Lost() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.lost
}

// FS gives the system's files over SFTP.
func (r *SSH) FS() FS { return sftpFS{r.files} }

// Files gives the SFTP client itself, for writing.
func (r *SSH) Files() *sftp.Client { return r.files }

// Identity says which server it is: its version string.
func (r *SSH) Identity() string { return string(r.client.ServerVersion()) }

// Close ends the connection.
func (r *SSH) Close() error {
	_ = r.files.Close()
	err := r.client.Close()
	if err != nil && r.Lost() != nil {
		return nil // it was gone already, which has been said where it mattered
	}
	return err
}

// Run runs a command line in the login shell of the account.
func (r *SSH) Run(ctx context.Context, command string, stdout, stderr io.Writer) (int, error) {
	session, err := r.client.NewSession()
	if err != nil {
		return -1, fmt.Errorf("open a channel for a command: %w", err)
	}
	defer session.Close()
	// What a command still prints after it was given up must not reach writers that are the caller's again.
	out, errOut := &gate{w: stdout}, &gate{w: stderr}
	defer out.shut()
	defer errOut.shut()
	session.Stdout, session.Stderr = out, errOut
	if err := session.Start(command); err != nil {
		return -1, fmt.Errorf("start the command: %w", err)
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
		return -1, fmt.Errorf("%w: the command ended without an exit code", ErrLost)
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

// sftpFS shows a server's files as an io/fs file system. pkg/sftp already turns the protocol's codes into fs.ErrNotExist
// and fs.ErrPermission.
type sftpFS struct{ c *sftp.Client }

func pathError(op, name string, err error) error {
	if err == nil {
		return nil
	}
	var status *sftp.StatusError
	if errors.As(err, &status) && status.FxCode() == sftp.ErrSSHFxFailure && strings.Contains(strings.ToLower(status.Error()), "permission denied") {
		err = fs.ErrPermission // some servers say it only in words
	}
	return &fs.PathError{Op: op, Path: Path(name), Err: err}
}

func (f sftpFS) Open(name string) (fs.File, error) {
	if err := checkName("open", name); err != nil {
		return nil, err
	}
	// A FIFO or device would hold the server, and with it us.
	info, err := f.c.Lstat(Path(name))
	if err != nil {
		return nil, pathError("open", name, err)
	}
	if !info.Mode().IsRegular() && info.Mode()&fs.ModeSymlink == 0 {
		return nil, pathError("open", name, errors.New("not a regular file"))
	}
	file, err := f.c.Open(Path(name))
	if err != nil {
		return nil, pathError("open", name, err)
	}
	return file, nil
}

func (f sftpFS) ReadDir(name string) ([]fs.DirEntry, error) {
	if err := checkName("readdir", name); err != nil {
		return nil, err
	}
	infos, err := f.c.ReadDir(Path(name))
	if err != nil {
		return nil, pathError("readdir", name, err)
	}
	entries := make([]fs.DirEntry, 0, len(infos))
	for _, info := range infos {
		if n := info.Name(); validName(n) && !strings.Contains(n, "/") { // a server may send any name; one with a slash would lead elsewhere
			entries = append(entries, fs.FileInfoToDirEntry(info))
		}
	}
	sort.Slice(entries, func(i, j int) bool { return entries[i].Name() < entries[j].Name() })
	return entries, nil
}

func (f sftpFS) Lstat(name string) (fs.FileInfo, error) {
	if err := checkName("lstat", name); err != nil {
		return nil, err
	}
	info, err := f.c.Lstat(Path(name))
	return info, pathError("lstat", name, err)
}

func (f sftpFS) ReadLink(name string) (string, error) {
	if err := checkName("readlink", name); err != nil {
		return "", err
	}
	target, err := f.c.ReadLink(Path(name))
	return target, pathError("readlink", name, err)
}
