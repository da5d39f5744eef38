// Package web talks to the web interface of a device: it logs in, keeps the session, and asks one device alone, whatever that answers.
package web

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/icholy/digest"

	"envask/internal/extract"
	"envask/internal/site"
	"envask/internal/webtrust"
)

// What a caller may act on.
var (
	ErrLogin     = errors.New("login refused")
	ErrElsewhere = errors.New("the device sends us to another host")
	ErrTrust     = errors.New("the certificate is not trusted")
	ErrSilent    = errors.New("no answer")
	ErrTooLarge  = errors.New("the answer is too large")
)

// Limits of answers.
const (
	MaxAnswer    = 64 << 20 // bytes of an answer that is read whole; what is larger is downloaded
	maxRedirects = 10
)

// Settings say how a device is reached.
type Settings struct {
	Web *site.Web
	// Password gives the password; done has to be told what became of it, if that is known.
	Password func() (text string, done Done, err error)
	Dial     func(ctx context.Context, address string) (net.Conn, error)
	Stall    time.Duration // how long the device may be silent
}

// Done is told that a password worked, or was refused; neither is that it is not known.
type Done func(worked, refused bool)

// Client is a session with one device. Its methods may be called from several goroutines.
type Client struct {
	set    Settings
	http   *http.Client
	digest *digest.Transport

	mu     sync.Mutex // of the login
	in     bool
	token  string
	logins int

	clockMu sync.Mutex
	clock   Clock
}

// Clock is what the device's answers told of its time: by their Date (RFC 9110, section 6.6.1), which shows seconds.
type Clock struct {
	Known       bool
	Offset      time.Duration // of its clock against ours
	Uncertainty time.Duration
}

// Clock gives what was learnt so far.
func (c *Client) Clock() Clock {
	c.clockMu.Lock()
	defer c.clockMu.Unlock()
	return c.clock
}

// tick learns from one answer.
func (c *Client) tick(asked time.Time, h http.Header) {
	at, err := http.ParseTime(h.Get("Date"))
	if err != nil {
		return
	}
	half := time.Since(asked) / 2
	now := Clock{true, at.Add(time.Second / 2).Sub(asked.Add(half)), half + time.Second/2}
	c.clockMu.Lock()
	defer c.clockMu.Unlock()
	if !c.clock.Known || now.Uncertainty < c.clock.Uncertainty {
		c.clock = now
	}
}

// Request is one request.
type Request struct {
	Method string
	Target string // a path on the device, or a link that it gave
	Header http.Header
	Body   []byte
	Type   string // of the body
	Pages  bool   // an HTML page is what is wanted
}

// Response is the answer to a request.
type Response struct {
	Status int
	Header http.Header
	Body   io.ReadCloser
	Target *url.URL
}

// New makes a client. Nothing is sent.
func New(set Settings) (*Client, error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	conf, err := trust(set.Web)
	if err != nil {
		return nil, err
	}
	c := &Client{set: set}
	transport := &http.Transport{TLSClientConfig: conf, ResponseHeaderTimeout: set.Stall, TLSHandshakeTimeout: set.Stall,
		DialContext: func(ctx context.Context, _, address string) (net.Conn, error) { return set.Dial(ctx, address) }}
	if set.Web.Proxy != nil {
		transport.Proxy = http.ProxyURL(set.Web.Proxy)
	}
	c.http = &http.Client{Transport: transport, Jar: jar,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	if set.Web.Login.Kind == "digest" {
		c.digest = &digest.Transport{Username: set.Web.Login.User, Transport: transport, Jar: jar}
		c.http.Transport = c.digest
	}
	return c, nil
}

// trust gives the settings of TLS: whom to trust, and who we are.
func trust(w *site.Web) (*tls.Config, error) {
	conf, err := webtrust.Settings(w.At.Hostname(), webtrust.Files{Authority: w.Authority, Certificate: w.Certificate, Key: w.Key})
	if err != nil {
		return nil, err
	}
	if w.Trust != "" {
		conf.InsecureSkipVerify = true // #nosec G402 -- the certificate itself is compared, which is stricter
		conf.VerifyConnection = func(s tls.ConnectionState) error {
			got, err := webtrust.Fingerprint(&s)
			if err != nil {
				return fmt.Errorf("%w: %w", ErrTrust, err)
			}
			if got != w.Trust {
				return fmt.Errorf("%w: it is sha256:%s, not the one in the systems file", ErrTrust, got)
			}
			return nil
		}
	}
	return conf, nil
}

// Close ends the session's connections.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// Resolve gives the whole address of a path or link; one that leads to another host is an error.
func (c *Client) Resolve(from *url.URL, target string) (*url.URL, error) {
	base := c.set.Web.At
	if from != nil {
		base = from
	} else if strings.HasPrefix(target, "/") && base.Path != "" && base.Path != "/" {
		target = strings.TrimSuffix(base.Path, "/") + target
	}
	u, err := base.Parse(target)
	if err != nil {
		return nil, fmt.Errorf("%q is no address", target)
	}
	if !webtrust.SameOrigin(u, c.set.Web.At) {
		return nil, fmt.Errorf("%w (%s://%s); neither requests nor credentials go there", ErrElsewhere, u.Scheme, u.Host)
	}
	u.Fragment = ""
	return u, nil
}

// Do sends a request, after a login where one is needed. A session that expired is begun anew, once.
func (c *Client) Do(ctx context.Context, r Request) (*Response, error) {
	for again := false; ; again = true {
		round, err := c.enter(ctx)
		if err != nil {
			return nil, err
		}
		res, err := c.follow(ctx, r)
		if err != nil {
			return nil, err
		}
		expired, err := c.expired(res, r)
		if err != nil || !expired {
			return res, err
		}
		res.Body.Close()
		if again || !c.leave(round) {
			return nil, fmt.Errorf("%w: the device wants a login again at once (%s)", ErrLogin, r.Target)
		}
	}
}

// Open makes sure that the device lets us in.
func (c *Client) Open(ctx context.Context) error {
	if k := c.set.Web.Login.Kind; k == "form" || k == "token" {
		_, err := c.enter(ctx)
		return err
	}
	res, err := c.Do(ctx, Request{Method: http.MethodGet, Target: "/", Pages: true})
	if err != nil {
		return err
	}
	return res.Body.Close()
}

// follow sends a request and follows where the device sends us on itself.
func (c *Client) follow(ctx context.Context, r Request) (*Response, error) {
	u, err := c.Resolve(nil, r.Target)
	if err != nil {
		return nil, err
	}
	for range maxRedirects {
		res, err := c.send(ctx, r, u)
		if err != nil {
			return nil, err
		}
		location := res.Header.Get("Location")
		if res.StatusCode < 300 || res.StatusCode > 399 || location == "" {
			return &Response{res.StatusCode, res.Header, res.Body, u}, nil
		}
		res.Body.Close()
		if u, err = c.Resolve(u, location); err != nil {
			return nil, err
		}
		if res.StatusCode != http.StatusTemporaryRedirect && res.StatusCode != http.StatusPermanentRedirect {
			r.Method, r.Body, r.Type = http.MethodGet, nil, ""
		}
	}
	return nil, fmt.Errorf("the device redirects more than %d times", maxRedirects)
}

// send sends one request to the device itself.
func (c *Client) send(ctx context.Context, r Request, u *url.URL) (*http.Response, error) {
	inner, cancel := context.WithCancelCause(ctx)
	req, err := http.NewRequestWithContext(inner, r.Method, u.String(), bytes.NewReader(r.Body))
	if err != nil {
		cancel(nil)
		return nil, fmt.Errorf("%q is no address", u.Path)
	}
	if len(r.Body) == 0 {
		req.Body, req.GetBody, req.ContentLength = nil, nil, 0
	}
	for k, v := range r.Header {
		req.Header[k] = v
	}
	if r.Type != "" {
		req.Header.Set("Content-Type", r.Type)
	}
	req.Header.Set("User-Agent", "envask")
	done, err := c.authorise(req)
	if err != nil {
		cancel(nil)
		return nil, err
	}
	asked := time.Now()
	late := time.AfterFunc(c.set.Stall, func() { cancel(c.silent()) })
	res, err := c.http.Do(req) // #nosec G704 -- Resolve lets only the device itself through
	if err != nil {
		done(false, false)
		late.Stop()
		defer cancel(nil)
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case inner.Err() != nil:
			return nil, context.Cause(inner)
		}
		return nil, plainError(err)
	}
	c.tick(asked, res.Header)
	done(res.StatusCode < 400, res.StatusCode == http.StatusUnauthorized)
	late.Stop()
	res.Body = webtrust.Steady(res.Body, c.set.Stall, c.silent, func() { cancel(nil) })
	return res, nil
}

// silent is the failure of a device that says nothing more.
func (c *Client) silent() error { return fmt.Errorf("%w for %s", ErrSilent, c.set.Stall) }

// plainError says what of a connection or certificate is wrong, without the address that stands beside it.
func plainError(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	if webtrust.Untrusted(err) {
		return fmt.Errorf("%w: %w", ErrTrust, err)
	}
	var op *net.OpError
	if errors.As(err, &op) && op.Err != nil {
		return op.Err
	}
	return err
}

// Whole reads an answer that is looked at, not kept.
func (r *Response) Whole() (*extract.Answer, error) {
	defer r.Body.Close()
	body, err := io.ReadAll(io.LimitReader(r.Body, MaxAnswer+1))
	if err != nil {
		return nil, err
	}
	if len(body) > MaxAnswer {
		return nil, fmt.Errorf("%w (over %d MiB): let the step download it", ErrTooLarge, MaxAnswer>>20)
	}
	return &extract.Answer{Header: r.Header, Body: body}, nil
}
