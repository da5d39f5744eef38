package submit

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path"
	"strings"

	"github.com/pkg/sftp"

	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/late"
	"envask/internal/reach"
)

// ReadBackLimit is up to which size a file is read back to compare its checksum without being told to, in bytes.
const ReadBackLimit = 256 << 20

// sftpRoute is a server that takes files over SFTP.
type sftpRoute struct {
	sys      *reach.SSH
	client   *sftp.Client
	dir      string
	server   string
	readBack bool
}

var (
	_ Store    = (*sftpRoute)(nil)
	_ Digester = (*sftpRoute)(nil)
)

func openSFTP(ctx context.Context, name string, u *url.URL, m *Means) (Route, error) {
	c, err := m.Credentials.For(name, u.Hostname())
	if err != nil {
		return nil, err
	}
	s, err := sshSystem(name, u, c)
	if err != nil {
		return nil, err
	}
	sys, err := m.Dialer.OpenSSH(ctx, s)
	if err != nil {
		return nil, aboutCredentials(err, name, u.Hostname())
	}
	r := &sftpRoute{sys: sys, client: sys.Files(), dir: u.Path, readBack: m.ReadBack}
	r.server = fmt.Sprintf("%s:%d, %s, host key %s", s.SSH.Host, s.SSH.Port, sys.Identity(), m.Dialer.Fingerprint(name))
	if r.dir == "" || r.dir == "/" {
		if r.dir, err = r.client.Getwd(); err != nil {
			r.dir = "/"
		}
	}
	if info, err := r.client.Stat(r.dir); err != nil || !info.IsDir() {
		sys.Close()
		return nil, fault.New(fault.Failed, "route", name, fmt.Sprintf("the folder %s is not there on %s", r.dir, s.SSH.Host),
			"check the route's address with the vendor")
	}
	return r, nil
}

// aboutCredentials says where the login of a route stands, in an error that speaks of a system's.
func aboutCredentials(err error, route, host string) error {
	var f *fault.Error
	if !errors.As(err, &f) || !errors.Is(err, reach.ErrLogin) && !errors.Is(err, reach.ErrNoLogin) {
		return err
	}
	f.Hint = fmt.Sprintf("write the login into credentials.yaml in the home: {route: %s, host: %s, user: NAME, key: FILE} or password: "+
		"env:NAME; or start an SSH agent", route, host)
	return err
}

func (r *sftpRoute) Place(name string) (final, part string) {
	return path.Join(r.dir, name), path.Join(r.dir, name+".part")
}

func (r *sftpRoute) Size(p string) (int64, error) {
	info, err := r.client.Lstat(p)
	if err != nil {
		return 0, r.orLost(err)
	}
	if !info.Mode().IsRegular() {
		return 0, fmt.Errorf("%s exists and is not a regular file", p)
	}
	return info.Size(), nil
}

func (r *sftpRoute) Put(_ context.Context, p string, content io.Reader, at int64) error {
	flags := os.O_CREATE | os.O_WRONLY
	if at == 0 {
		flags |= os.O_TRUNC
	}
	f, err := r.client.OpenFile(p, flags)
	if err != nil {
		return r.orLost(fmt.Errorf("the server takes no file %s: %w", p, err))
	}
	if _, err = f.Seek(at, io.SeekStart); err == nil {
		_, err = f.ReadFromWithConcurrency(content, r.packets())
	}
	if err == nil {
		// Not every server knows how to flush; that is no reason to fail, since the checksum is compared.
		if e := f.Sync(); e != nil && !isUnsupported(e) {
			err = e
		}
	}
	return r.orLost(errors.Join(err, f.Close()))
}

// packets is how many packets are on their way at a time: up to 4 MiB of large ones, 1 MiB of others.
func (r *sftpRoute) packets() int { return min(32, 4<<20/r.sys.Packet()) }

// Resumes: packets may arrive in another order, so that the end of what a lost connection left can have holes.
func (r *sftpRoute) Resumes() (int64, bool) { return int64(2 * r.packets() * r.sys.Packet()), true }

// orLost tells a lost connection from a server that says no.
func (r *sftpRoute) orLost(err error) error {
	if err == nil {
		return nil
	}
	if lost := r.sys.Lost(); lost != nil {
		return passing{lost}
	}
	if errors.Is(err, sftp.ErrSSHFxConnectionLost) {
		return passing{err}
	}
	return err
}

// Room asks for the free space (statvfs@openssh.com); few servers but OpenSSH tell.
func (r *sftpRoute) Room() int64 {
	st, err := r.client.StatVFS(r.dir)
	if err != nil {
		return -1
	}
	return int64(min(st.FreeSpace(), 1<<62))
}

func (r *sftpRoute) Cover() string { return "SSH" }

func isUnsupported(err error) bool {
	var s *sftp.StatusError
	return errors.As(err, &s) && s.FxCode() == sftp.ErrSSHFxOpUnsupported
}

var sumOutput = late.Pattern(`^\\?([0-9a-f]{64})\s`)

// Sum asks the server for the checksum, where it runs commands; else the file is read back, up to ReadBackLimit.
func (r *sftpRoute) Sum(ctx context.Context, p string, size int64) (string, string, error) {
	var out, discard limitedBuffer
	exit, err := r.sys.Run(ctx, "sha256sum -- "+shellQuote(p), &out, &discard)
	if err == nil && exit == 0 {
		if m := sumOutput().FindSubmatch(out.Bytes()); m != nil {
			return string(m[1]), "computed by the server", nil
		}
	}
	if ctx.Err() != nil {
		return "", "", ctx.Err()
	}
	if !r.readBack && size > ReadBackLimit {
		return "", "the server computes no checksum, and the file is too large to be read back unasked (--read-back does it)", nil
	}
	f, err := r.client.Open(p)
	if err != nil {
		if errors.Is(err, os.ErrPermission) {
			return "", "the server neither computes a checksum nor lets us read the file back", nil
		}
		return "", "", err
	}
	defer f.Close()
	sum, err := durable.Sum(ctx, f)
	return sum, "read back from the server", r.orLost(err)
}

// limitedBuffer keeps the beginning of what a server says and drops the rest.
type limitedBuffer struct{ bytes.Buffer }

func (l *limitedBuffer) Write(b []byte) (int, error) {
	if room := 4096 - l.Len(); room > 0 {
		l.Buffer.Write(b[:min(room, len(b))])
	}
	return len(b), nil
}

func shellQuote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

func (r *sftpRoute) Rename(from, to string) error {
	// The plain rename refuses to overwrite, which is what we want; it exists on every server.
	return r.orLost(r.client.Rename(from, to))
}

func (r *sftpRoute) Remove(p string) error { return r.client.Remove(p) }
func (r *sftpRoute) Server() string        { return r.server }
func (r *sftpRoute) Close() error          { return r.sys.Close() }
