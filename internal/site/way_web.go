package site

import (
	"encoding/hex"
	"net"
	"net/url"
	"strings"

	"envask/internal/extract"
	"envask/internal/keyfile"
)

// Web is how the web interface of a device is reached.
type Web struct {
	At    *url.URL
	Login Login
	Trust string // SHA-256 of its certificate, in hex; "" for the usual authorities
	// Authority is a file of certificates that are trusted instead; Certificate and Key are those of a client.
	Authority, Certificate, Key string
	Proxy                       *url.URL
}

// Login is how the interface lets us in.
type Login struct {
	Kind     string // "form", "basic", "digest", "bearer", "token"; "" for none
	User     string
	Password Secret
	Page     string            // of a form: where it is
	Path     string            // where a form or the credentials of a token go
	Fields   map[string]string // of a form, or of the JSON of a token: {user} and {password} stand for what they are
	Token    *extract.Expression
	Header   string // that carries a token, such as "Authorization: Bearer {token}"
}

// loginKinds are the keys that choose how to log in.
var loginKinds = []string{"form", "basic", "digest", "bearer", "token"}

func readWeb(m *keyfile.Map, s *System) {
	wm := m.Map("web")
	if wm == nil {
		return
	}
	defer wm.Done()
	w := &Web{}
	s.Web = w
	at := wm.Need("at")
	u, err := url.Parse(at.Text)
	switch {
	case at.Text == "":
	case err != nil, u.Host == "", u.Scheme != "https" && u.Scheme != "http", u.User != nil, u.RawQuery != "", u.Fragment != "":
		at.Problem("at: expected an address such as https://192.0.2.30, without user and query, found %q", bareURL(at.Text))
	case u.Scheme == "http" && !loopback(u.Hostname()) && !wm.Bool("insecure-plain", false):
		at.Problem("at: http is not encrypted: passwords and evidence could be read on the way; insecure-plain: yes takes it all the same")
	}
	wm.Bool("insecure-plain", false)
	w.At = u
	if v := wm.Value("trust"); v.Set() {
		text, _ := strings.CutPrefix(strings.ToLower(v.Text), "sha256:")
		text = strings.ReplaceAll(text, ":", "")
		if raw, err := hex.DecodeString(text); err != nil || len(raw) != 32 {
			v.Problem("trust: expected sha256: and the 64 digits of the certificate's fingerprint")
		}
		w.Trust = text
	}
	w.Authority, w.Certificate, w.Key = wm.String("authority"), wm.String("certificate"), wm.String("key")
	if v := wm.Value("proxy"); v.Set() {
		if w.Proxy, err = url.Parse(v.Text); err != nil || w.Proxy.Host == "" || w.Proxy.User != nil {
			v.Problem("proxy: expected an address such as http://192.0.2.8:3128")
		}
	}
	if lm := wm.Map("login"); lm != nil {
		readLogin(lm, &w.Login)
		lm.Done()
	}
}

// bareURL leaves a password out of an address that is shown.
func bareURL(text string) string {
	if before, after, ok := strings.Cut(text, "@"); ok {
		scheme, _, _ := strings.Cut(before, "//")
		return scheme + "//…@" + after
	}
	return text
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func readLogin(m *keyfile.Map, l *Login) {
	for _, k := range loginKinds {
		if !m.Has(k) {
			continue
		}
		if l.Kind != "" {
			m.Problem("login: one of %s, found both %s and %s", strings.Join(loginKinds, ", "), l.Kind, k)
		}
		l.Kind = k
		v := m.Value(k)
		switch k {
		case "form", "token":
			l.Path = webPath(k, v)
		case "bearer":
			l.Password = readSecret(k, v)
		default:
			m.Bool(k, true)
		}
	}
	if l.Kind == "" {
		m.Problem("login: say how, with one of: %s", strings.Join(loginKinds, ", "))
	}
	l.User = m.String("user")
	if v := m.Value("password"); v.Set() {
		l.Password = readSecret("password", v)
	}
	if l.Page = webPath("page", m.Value("page")); l.Page == "" {
		l.Page = l.Path
	}
	l.Fields = map[string]string{"username": "{user}", "password": "{password}"}
	if fm := m.Map("fields"); fm != nil {
		l.Fields = map[string]string{}
		for _, k := range fm.Keys() {
			l.Fields[k] = fm.Value(k).Text
		}
		fm.Done()
	}
	l.Header = "Authorization: Bearer {token}"
	if v := m.Value("header"); v.Set() {
		if l.Header = v.Text; !strings.Contains(v.Text, "{token}") || !strings.Contains(v.Text, ": ") {
			v.Problem("header: expected a header with {token} in it, such as 'X-Session: {token}'")
		}
	}
	if v := m.Value("take"); v.Set() {
		e, err := extract.Parse(v.Text)
		if err != nil {
			v.Problem("take: %q is no usable expression: %v", v.Text, err)
		}
		l.Token = e
	}
	if l.Kind == "token" && l.Token == nil {
		m.Problem("login: token: needs take:, the expression of the token in the answer")
	}
}

// webPath checks a path on the device itself.
func webPath(key string, v keyfile.Value) string {
	if v.Set() && (!strings.HasPrefix(v.Text, "/") || strings.HasPrefix(v.Text, "//") || strings.ContainsAny(v.Text, " \\\r\n\t")) {
		v.Problem("%s: expected a path on the device, such as /session, found %q", key, v.Text)
	}
	return v.Text
}

// settle gives files their whole paths, from the folder of the systems file.
func (w *Web) settle(path func(string) string) {
	w.Authority, w.Certificate, w.Key = path(w.Authority), path(w.Certificate), path(w.Key)
	w.Login.Password = w.Login.Password.at(path)
}
