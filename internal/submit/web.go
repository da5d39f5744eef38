package submit

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"
	"unicode"

	"envask/internal/fault"
	"envask/internal/site"
	"envask/internal/webtrust"
)

// uncovered is what covers the way where nothing does.
const uncovered = "nothing: NOT encrypted"

// web is what the routes over HTTP and the ones over TLS have in common: certificates, logins, proxies and answers.
type web struct {
	name   string
	means  *Means
	cred   Credential
	client *http.Client
	origin *url.URL // where alone requests go, whatever a server, a receipt or a ledger names

	mu    sync.Mutex
	peer  string // the server's certificate, once it was seen
	cover string // of what went so far; the least counts
}

// silence is how long a server may take to begin its answer once it has everything. It may have to read and store gigabytes
// first.
const silence = 10 * time.Minute

// newWeb prepares a client for one host. Plain HTTP is for loopback addresses only: nothing else keeps others from reading.
func newWeb(name string, u *url.URL, m *Means) (*web, error) {
	cred, err := m.Credentials.For(name, u.Hostname())
	if err != nil {
		return nil, err
	}
	w := &web{name: name, means: m, cred: cred, origin: u}
	if u.Scheme == "http" && !isLoopback(u.Hostname()) {
		return nil, fault.New(fault.Usage, "route", name, "it is not encrypted (http); only loopback addresses may be",
			"ask the vendor for an https address")
	}
	conf, err := w.tls(u.Hostname())
	if err != nil {
		return nil, err
	}
	w.client = &http.Client{
		Transport: &http.Transport{Proxy: m.Proxy, TLSClientConfig: conf, ResponseHeaderTimeout: silence,
			ExpectContinueTimeout: 10 * time.Second, TLSHandshakeTimeout: 30 * time.Second,
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				conn, err := (&net.Dialer{Timeout: 30 * time.Second}).DialContext(ctx, network, address)
				if err != nil {
					return nil, err
				}
				return steady(context.Background(), conn, silence), nil // requests have contexts of their own
			}},
		// Whoever answers with another address gets neither the archive nor the login.
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	return w, nil
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// tls gives the settings for a host: whom to trust, and who we are.
func (w *web) tls(host string) (*tls.Config, error) {
	at := func(name string) string {
		if name == "" {
			return ""
		}
		return w.means.path(name)
	}
	conf, err := webtrust.Settings(host,
		webtrust.Files{Authority: at(w.cred.Authority), Certificate: at(w.cred.Certificate), Key: at(w.cred.Key)})
	switch {
	case errors.Is(err, webtrust.ErrNotPEM):
		return nil, fault.New(fault.Usage, "route", w.name, err.Error(), "")
	case err != nil:
		return nil, fault.Wrap("route", w.name, err)
	}
	conf.ClientSessionCache, conf.VerifyConnection = tls.NewLRUClientSessionCache(8), w.seen
	conf.InsecureSkipVerify = w.cred.Fingerprint != "" // #nosec G402 -- seen compares it, which is stricter
	return conf, nil
}

// seen keeps the server's certificate, and compares it with the one that it must be.
func (w *web) seen(s tls.ConnectionState) error {
	print, err := webtrust.Fingerprint(&s)
	if err != nil {
		return err
	}
	print = "SHA256:" + print
	if want := w.cred.Fingerprint; want != "" && want != print {
		return fault.New(fault.Refused, "route", w.name, "the server's certificate is "+print+", not the one in credentials.yaml",
			"ask the vendor whether it was changed; then change the fingerprint")
	}
	w.observe(&s)
	w.mu.Lock()
	defer w.mu.Unlock()
	w.peer = fmt.Sprintf("certificate %s until %s", print, s.PeerCertificates[0].NotAfter.UTC().Format("2006-01-02"))
	return nil
}

// observe takes down what covered an exchange that took place.
func (w *web) observe(s *tls.ConnectionState) {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case s == nil:
		w.cover = uncovered
	case w.cover != uncovered:
		w.cover = tls.VersionName(s.Version)
	}
}

func (w *web) server(u *url.URL) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.peer == "" {
		return u.Host
	}
	return u.Host + ", " + w.peer
}

func (w *web) covered() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.cover
}

// secret gives what a secret of the credentials refers to.
func (w *web) secret(s site.Secret) (string, error) {
	if s == "" {
		return "", nil
	}
	if w.means.Secret == nil {
		return "", errors.New("nobody can look up the credential")
	}
	return w.means.Secret(s)
}

// do sends a request with the login, to the route's own origin only. The body is given by length, since few servers take a body
// without. The answer's body ends with an error when it drips.
func (w *web) do(ctx context.Context, method string, u *url.URL, body io.Reader, size int64, header http.Header) (*http.Response, error) {
	if !webtrust.SameOrigin(u, w.origin) {
		return nil, w.elsewhere(u)
	}
	if size == 0 {
		body = nil
	}
	inner, cancel := context.WithCancelCause(ctx)
	req, err := http.NewRequestWithContext(inner, method, u.String(), body)
	if err != nil {
		cancel(nil)
		return nil, errors.New("the address cannot be used")
	}
	req.ContentLength = size
	for k, v := range header {
		req.Header[k] = v
	}
	req.Header.Set("User-Agent", "envask")
	if err := w.login(req); err != nil {
		cancel(nil)
		return nil, err
	}
	stall := w.means.stall()
	late := time.AfterFunc(stall, func() { cancel(errStalled(stall)) })
	if body != nil { // there is something to take in first: then ResponseHeaderTimeout counts
		late.Stop()
	}
	res, err := w.client.Do(req)
	late.Stop()
	if err != nil {
		defer cancel(nil)
		return nil, w.notDone(ctx, inner, err)
	}
	res.Body = webtrust.Steady(res.Body, stall, func() error { return errStalled(stall) }, func() { cancel(nil) })
	w.observe(res.TLS)
	if loc := res.Header.Get("Location"); res.StatusCode >= 300 && res.StatusCode < 400 && loc != "" {
		res.Body.Close()
		to := "another place"
		if target, err := u.Parse(loc); err == nil {
			to = target.Scheme + "://" + target.Host
		}
		return nil, fault.New(fault.Refused, "route", w.name, fmt.Sprintf("the server answers %d and sends us to %s; neither the "+
			"archive nor the login goes there", res.StatusCode, to), "ask the vendor for the right address")
	}
	return res, nil
}

// notDone says why a request got no answer.
func (w *web) notDone(ctx, inner context.Context, err error) error {
	var refused *fault.Error
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case inner.Err() != nil:
		return context.Cause(inner)
	case errors.As(err, &refused):
		return refused
	}
	return w.failed(err)
}

// elsewhere is the error for an address of another origin than the route's.
func (w *web) elsewhere(u *url.URL) error {
	return fault.New(fault.Refused, "route", w.name,
		fmt.Sprintf("the server sends us to %s://%s; neither the archive nor the login goes there", u.Scheme, u.Host),
		"ask the vendor for the right address")
}

// failed tells certificates that are not trusted from connections that are lost.
func (w *web) failed(err error) error {
	if webtrust.Untrusted(err) {
		return &fault.Error{Class: fault.Refused, Op: "route", Target: w.name, Err: err,
			Hint: "if it is the vendor's, name its authority or its fingerprint in credentials.yaml"}
	}
	var u *url.Error
	if errors.As(err, &u) { // its text repeats the address, which may be a secret
		err = u.Err
	}
	if strings.Contains(err.Error(), "certificate required") {
		return fault.New(fault.Failed, "route", w.name, "the server wants a client certificate",
			"name one in credentials.yaml: certificate and key")
	}
	return passing{err}
}

func (w *web) login(req *http.Request) error {
	token, err := w.secret(w.cred.Token)
	if err != nil {
		return err
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
		return nil
	}
	password, err := w.secret(w.cred.Password)
	if err == nil && (w.cred.User != "" || password != "") {
		req.SetBasicAuth(w.cred.User, password)
	}
	return err
}

// answered reads an answer: nil when it is one of those that mean yes. What a server says goes into the error, cleaned and cut.
func (w *web) answered(res *http.Response, yes ...int) (said string, err error) {
	defer res.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(res.Body, 4096))
	said = brief(string(text))
	for _, code := range yes {
		if res.StatusCode == code {
			return said, nil
		}
	}
	why := fmt.Sprintf("the server answers %d %s", res.StatusCode, http.StatusText(res.StatusCode))
	if said != "" && !strings.Contains(said, "<") {
		why += ": " + said
	}
	switch res.StatusCode {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusProxyAuthRequired:
		return said, fault.New(fault.Failed, "route", w.name, why, "check the login in credentials.yaml; it is bound to route and host")
	case http.StatusRequestEntityTooLarge:
		return said, fault.New(fault.Failed, "route", w.name, why,
			"the archive is larger than the server takes: choose another route or a smaller window")
	case http.StatusInsufficientStorage:
		return said, fault.New(fault.Failed, "route", w.name, why, "there is no room; ask the vendor, or choose another route")
	case http.StatusRequestTimeout, http.StatusLocked, http.StatusTooManyRequests, http.StatusInternalServerError, http.StatusBadGateway,
		http.StatusServiceUnavailable, http.StatusGatewayTimeout:
		return said, passing{errors.New(why)}
	}
	return said, fault.New(fault.Failed, "route", w.name, why, "")
}

// brief gives the beginning of what a server says in one line, without bytes that mean something to a terminal.
func brief(text string) string {
	words := strings.Fields(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && !unicode.IsSpace(r) || unicode.Is(unicode.Cf, r) {
			return '?'
		}
		return r
	}, text))
	line := strings.Join(words, " ")
	if len(line) > 300 {
		line = line[:300] + "…"
	}
	return strings.ToValidUTF8(line, "?")
}

// fill puts texts for the placeholders of one text.
func (m *Means) fill(text string) string {
	return placeholder().ReplaceAllStringFunc(text, func(p string) string {
		if m.Text == nil {
			return ""
		}
		return m.Text(strings.Trim(p, "{}"))
	})
}

// path gives a path of the credentials on this machine.
func (m *Means) path(p string) string {
	if m.Dialer == nil {
		return p
	}
	return m.Dialer.Path(p)
}
