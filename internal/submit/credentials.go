package submit

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"

	"envask/internal/fault"
	"envask/internal/keyfile"
	"envask/internal/site"
)

// Credential is what the engineer has for one route to one host.
type Credential struct {
	Route, Host string
	Key         string // path of a private key file; "" means the agent
	Password    site.Secret
}

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
		if p := cm.Value("password"); p.Set() {
			c.Password = site.Secret(p.Text)
			if !c.Password.Valid() {
				p.Problem("password: never stands here itself; write env:NAME or file:PATH")
			}
		}
		if c.Key != "" && !filepath.IsAbs(c.Key) && !strings.HasPrefix(c.Key, "~/") {
			c.Key = filepath.Join(filepath.Dir(file), c.Key)
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
