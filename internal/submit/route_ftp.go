package submit

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/textproto"
	"net/url"
	"path"
	"strings"
	"time"

	"github.com/jlaffaye/ftp"

	"envask/internal/durable"
	"envask/internal/fault"
)

// ftpRoute is an FTP server (RFC 959), or one over explicit TLS (RFC 4217). Data connections are opened by us (passive), and
// use the TLS session of the control connection, which some servers demand.
type ftpRoute struct {
	*web
	conn *ftp.ServerConn
	ctl  *steadyConn
	u    *url.URL
	dir  string

	// For further control connections:
	host           string
	secure         *tls.Config // nil is in the clear
	user, password string
}

var (
	_ Store    = (*ftpRoute)(nil)
	_ Digester = (*ftpRoute)(nil)
)

// Anonymous logins give a mail address as password (RFC 1635); it is made up, since nobody asked us to name ours.
const anonymousPassword = "envask@invalid.example" // #nosec G101 -- it is no secret

func openFTP(ctx context.Context, name string, u *url.URL, m *Means) (Route, error) {
	w, err := newWeb(name, &url.URL{Scheme: "https", Host: u.Host}, m)
	if err != nil {
		return nil, err
	}
	host := u.Host
	if u.Port() == "" {
		host = net.JoinHostPort(u.Hostname(), "21")
	}
	r := &ftpRoute{web: w, u: u, dir: u.Path, host: host}
	options := []ftp.DialOption{ftp.DialWithContext(ctx), ftp.DialWithShutTimeout(5 * time.Second),
		ftp.DialWithDialFunc(func(network, address string) (net.Conn, error) { return r.dial(ctx, network, address) })}
	var conf *tls.Config
	if u.Scheme == "ftps" {
		if conf, err = w.tls(u.Hostname()); err != nil {
			return nil, err
		}
		options = append(options, ftp.DialWithExplicitTLS(conf))
	}
	r.secure = conf
	conn, err := ftp.Dial(host, options...)
	if err != nil {
		if r.ctl != nil {
			r.ctl.Close()
		}
		return nil, cmp.Or(ctx.Err(), w.ftpError(err))
	}
	r.conn = conn
	if err := r.begin(); err != nil {
		_ = conn.Quit()
		return nil, err
	}
	return r, nil
}

// dial opens the control connection, and then those for data: to the same host only, whatever a server says (RFC 2577, section 8),
// and encrypted as the first one.
func (r *ftpRoute) dial(ctx context.Context, network, address string) (net.Conn, error) {
	if r.ctl != nil {
		_, port, err := net.SplitHostPort(address)
		if err != nil {
			return nil, err
		}
		host, _, err := net.SplitHostPort(r.ctl.RemoteAddr().String())
		if err != nil {
			return nil, err
		}
		address = net.JoinHostPort(host, port)
	}
	raw, err := (&net.Dialer{Timeout: 30 * time.Second}).DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	conn := steady(ctx, raw, r.means.stall())
	if r.ctl == nil {
		r.ctl = conn
		return conn, nil
	}
	if r.secure != nil {
		return tls.Client(conn, r.secure), nil
	}
	return conn, nil
}

// begin logs in and goes to the folder.
func (r *ftpRoute) begin() error {
	user := cmp.Or(r.u.User.Username(), r.cred.User)
	password, err := r.secret(r.cred.Password)
	if err != nil {
		return err
	}
	if user == "" {
		user, password = "anonymous", cmp.Or(password, anonymousPassword)
	}
	r.user, r.password = user, password
	if err := r.conn.Login(user, password); err != nil {
		var answer *textproto.Error
		if errors.As(err, &answer) && answer.Code >= 500 {
			return fault.New(fault.Failed, "route", r.name, fmt.Sprintf("login refused for %s (%d %s)", user, answer.Code,
				brief(answer.Msg)), "check user and password in credentials.yaml")
		}
		return r.ftpError(err)
	}
	if err := r.conn.Type(ftp.TransferTypeBinary); err != nil {
		return r.ftpError(err)
	}
	if r.dir == "" || r.dir == "/" {
		if r.dir, err = r.conn.CurrentDir(); err != nil {
			r.dir = "/"
		}
		return nil
	}
	if err := r.conn.ChangeDir(r.dir); err != nil {
		return fault.New(fault.Failed, "route", r.name, fmt.Sprintf("the folder %s is not there on %s (%v)", r.dir, r.u.Hostname(), err),
			"check the route's address with the vendor")
	}
	return nil
}

// ftpError tells answers that are final from those that another try may not get (4yz of RFC 959), and lost connections.
func (w *web) ftpError(err error) error {
	var answer *textproto.Error
	if errors.As(err, &answer) {
		said := fmt.Errorf("the server answers %d %s", answer.Code, brief(answer.Msg))
		switch {
		case answer.Code == 452 || answer.Code == 552:
			return fault.New(fault.Failed, "route", w.name, said.Error(), "there is no room; ask the vendor, or choose another route")
		case answer.Code < 500:
			return passing{said}
		}
		return said
	}
	return w.failed(err)
}

func (r *ftpRoute) Place(name string) (final, part string) {
	return path.Join(r.dir, name), path.Join(r.dir, name+".part")
}

func (r *ftpRoute) Size(p string) (int64, error) {
	n, err := r.conn.FileSize(p)
	var answer *textproto.Error
	if errors.As(err, &answer) && answer.Code == ftp.StatusFileUnavailable {
		return 0, fs.ErrNotExist
	}
	if err != nil {
		return 0, r.ftpError(err)
	}
	return n, nil
}

func (r *ftpRoute) Put(_ context.Context, p string, content io.Reader, at int64) error {
	r.ctl.wait(silence) // it answers when it has put all of it away
	defer r.ctl.wait(r.means.stall())
	if err := r.conn.StorFrom(p, content, uint64(at)); err != nil {
		return r.ftpError(err)
	}
	return nil
}

func (r *ftpRoute) Resumes() (int64, bool) { return 64 << 10, true }

func (r *ftpRoute) Sum(ctx context.Context, p string, size int64) (string, string, error) {
	if size > ReadBackLimit && !r.means.ReadBack {
		return "", "the server computes no checksum, and the file is too large to be read back unasked (--read-back does it)", nil
	}
	back, err := r.conn.Retr(p)
	if err != nil {
		var answer *textproto.Error
		if errors.As(err, &answer) && answer.Code >= 500 {
			return "", "the server does not let us read the file back", nil
		}
		return "", "", r.ftpError(err)
	}
	sum, err := durable.Sum(ctx, back)
	if e := back.Close(); err == nil && e != nil {
		err = e
	}
	if err != nil {
		return "", "", r.ftpError(err)
	}
	return sum, "read back from the server", nil
}

func (r *ftpRoute) Rename(from, to string) error {
	if err := r.conn.Rename(from, to); err != nil {
		return r.ftpError(err)
	}
	return nil
}

func (r *ftpRoute) Remove(p string) error {
	err := r.conn.Delete(p)
	var answer *textproto.Error
	if errors.As(err, &answer) && answer.Code == ftp.StatusFileUnavailable {
		if _, missing := r.Size(p); errors.Is(missing, fs.ErrNotExist) {
			return fs.ErrNotExist
		}
	}
	return err
}

func (r *ftpRoute) Server() string {
	return strings.TrimSuffix(r.server(r.u), ", ")
}

func (r *ftpRoute) Cover() string {
	if r.secure == nil {
		return uncovered
	}
	return r.covered()
}

func (r *ftpRoute) Close() error { return r.conn.Quit() }
