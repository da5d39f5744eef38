package submit

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"envask/internal/fault"
	"envask/internal/keyfile"
	"envask/internal/late"
	"envask/internal/site"
)

// Credential is what the engineer has for one route to one host.
type Credential struct {
	Route, Host string
	Key         string // path of a private key file; "" means the agent
	User        string
	Password    site.Secret
	Token       site.Secret // is sent as a bearer token
	Address     site.Secret // the whole address, where it is itself a secret (a pre-signed one)
	Server      string      // of mails: the engineer's own mail server, host:port
	From        string      // of mails: the sender
	Certificate string      // path of a client certificate (PEM); Key is its key
	Authority   string      // path of the certificates (PEM) that may sign the server's, instead of the system's
	PlainMail   bool        // of mails: the server is a relay in a trusted network, and may get them without encryption
	Fingerprint string      // SHA256:HEX of the server's certificate: this one, and no other
}

var fingerprint = late.Pattern(`^SHA256:[0-9a-f]{64}$`)

// Credentials is the engineer's file of them. Each is bound to one host, so that an ask that moves a route elsewhere
// does not take the credential along.
type Credentials []Credential

// LoadCredentials reads the file; one that is not there is empty.
func LoadCredentials(file string) (Credentials, error) {
	data, err := keyfile.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	f, m := keyfile.Parse(file, data)
	var out Credentials
	for _, cm := range m.Maps("credentials") {
		c := Credential{Route: cm.Need("route").Text, Host: cm.Need("host").Text, Key: cm.String("key")}
		c.User, c.Server, c.From, c.Certificate, c.Authority = cm.String("user"), cm.String("server"), cm.String("from"),
			cm.String("certificate"), cm.String("authority")
		for key, to := range map[string]*site.Secret{"password": &c.Password, "token": &c.Token, "address": &c.Address} {
			if p := cm.Value(key); p.Set() {
				if *to = site.Secret(p.Text); !to.Valid() {
					p.Problem("%s: never stands here itself; write env:NAME or file:PATH", key)
				}
			}
		}
		if c.PlainMail = cm.Bool("insecure-plain-mail", false); c.PlainMail && (c.User != "" || c.Password != "") {
			cm.Problem("insecure-plain-mail: a login is never sent without encryption; leave out user: and password:")
		}
		if p := cm.Value("fingerprint"); p.Set() {
			if c.Fingerprint = p.Text; !fingerprint().MatchString(p.Text) {
				p.Problem("fingerprint: write SHA256: and the 64 small hex digits of the certificate's SHA-256")
			}
		}
		for _, path := range []*string{&c.Key, &c.Certificate, &c.Authority} {
			if *path != "" && !filepath.IsAbs(*path) && !strings.HasPrefix(*path, "~/") {
				*path = filepath.Join(filepath.Dir(file), *path)
			}
		}
		cm.Done()
		out = append(out, c)
	}
	m.Done()
	return out, f.Err()
}

// For gives the credential for a route to a host. None at all is fine (the agent may do); one for the same route but
// another host is refused.
func (c Credentials) For(route, host string) (Credential, error) {
	other := ""
	for _, x := range c {
		if x.Route != route {
			continue
		}
		if strings.EqualFold(x.Host, host) {
			return x, nil
		}
		other = x.Host
	}
	if other != "" {
		return Credential{}, fault.New(fault.Refused, "route", route,
			fmt.Sprintf("it leads to %s, but the credential is for %s and is not sent elsewhere", host, other),
			"if the vendor's server really moved, change the host in credentials.yaml")
	}
	return Credential{}, nil
}
