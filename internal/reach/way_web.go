package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"envask/internal/fault"
	"envask/internal/reach/web"
	"envask/internal/site"
)

// Web is a device with a web interface. It runs no commands and offers no files by itself: items with steps ask it.
type Web struct {
	serving
	client *web.Client
}

var (
	_ System = (*Web)(nil)
	_ Browse = (*Web)(nil)
)

// Browse is what a system offers that has a web interface.
type Browse interface {
	Web() *web.Client
}

// errNoWebFiles is why a web interface has no files for patterns.
var errNoWebFiles = errors.New("a web interface offers no files; items with steps take from it")

func openWeb(ctx context.Context, d *Dialer, s *site.System) (System, error) {
	stall := s.Stall
	if stall <= 0 {
		stall = site.DefaultStall
	}
	set := web.Settings{Web: d.webPaths(s.Web), Stall: max(stall, time.Second), Dial: d.webDial(s),
		Password: func() (string, web.Done, error) {
			if s.Web.Login.Password == "" {
				return "", func(bool, bool) {}, nil
			}
			text, done, err := d.use(s.Name, s.Web.Login.Password)
			return text, func(ok, no bool) {
				done(map[bool]outcome{true: worked}[ok] | map[bool]outcome{true: refused}[no])
			}, err
		}}
	client, err := web.New(set)
	if err == nil {
		inner, cancel := context.WithTimeout(ctx, max(ConnectTimeout, stall))
		defer cancel()
		err = client.Open(inner)
	}
	if err == nil {
		w := &Web{client: client}
		w.served = Served{Way: "web", Means: "a web interface at " + s.Web.At.Host}
		if s.Web.At.Scheme == "http" {
			w.served.Remark = "its web interface is not encrypted"
		}
		return w, nil
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return nil, webFault(s, err)
}

// webFault says why a web interface cannot be reached, in the classes of all ways.
func webFault(s *site.System, err error) error {
	hint := ""
	switch {
	case errors.Is(err, ErrLogin):
	case errors.Is(err, web.ErrLogin):
		err, hint = &saidError{err, ErrLogin},
			"check login: in the systems file; a refused password is not tried again in this run"
	case errors.Is(err, web.ErrTrust):
		err, hint = &saidError{err, ErrHostKey}, "compare it with the device, and give trust: or authority: in the systems file"
	case errors.Is(err, web.ErrSilent), errors.Is(err, context.DeadlineExceeded):
		err = &saidError{err, ErrSilent}
	default:
		err, hint = fmt.Errorf("%w to %s: %w", ErrConnection, s.Web.At.Host, err), whenUnreachable
	}
	return &fault.Error{Target: s.Name, Err: err, Hint: hint}
}

// webPaths gives the entry with whole paths of its files.
func (d *Dialer) webPaths(w *site.Web) *site.Web {
	out := *w
	for _, p := range []*string{&out.Authority, &out.Certificate, &out.Key} {
		if *p != "" {
			*p = d.Path(*p)
		}
	}
	return &out
}

// webDial connects directly, or through the jump host.
func (d *Dialer) webDial(s *site.System) func(ctx context.Context, address string) (net.Conn, error) {
	return func(ctx context.Context, address string) (net.Conn, error) {
		inner, err := enter(ctx, s.Name)
		if err != nil {
			return nil, err
		}
		conn, err := d.connect(inner, s, sshRoute{}, address)
		if err != nil {
			return nil, errors.New(why(err))
		}
		return throttle(conn, s.Limits), nil
	}
}

// Web gives the client of the interface.
func (w *Web) Web() *web.Client { return w.client }

// FS gives no files.
func (w *Web) FS() FS { return nothingFS{errNoWebFiles} }

// Close ends the session's connections.
func (w *Web) Close() error {
	w.client.Close()
	return nil
}
