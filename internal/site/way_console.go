package site

import (
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"envask/internal/device"
	"envask/internal/keyfile"
)

// Console is how the command line of a device is reached.
type Console struct {
	Protocol string // "ssh", "telnet" or "tcp", which is a plain stream of bytes
	SSH      SSH    // of "ssh"
	Address  string // host and port, of the others
	User     string // for a login over the stream
	Password Secret
	Prompt   *regexp.Regexp // nil: the description's, or it is learnt
	Legacy   bool           // old algorithms of SSH are allowed
	NoExec   bool           // it takes no exec requests, or answers them in another way
}

// protocols are those of consoles, with their usual ports; 0 has none.
var protocols = []struct {
	Key  string
	Port int
}{{"ssh", 22}, {"telnet", 23}, {"tcp", 0}}

// readConsole reads how a device's command line is reached.
func readConsole(m *keyfile.Map, s *System) {
	cm := m.Map("console")
	if cm == nil {
		return
	}
	defer cm.Done()
	c := &Console{Prompt: cm.Value("prompt").Expression("prompt"), NoExec: !cm.Bool("exec", true), Legacy: cm.Bool("legacy", false)}
	s.Console = c
	for _, p := range protocols {
		v := cm.Value(p.Key)
		if !v.Set() {
			continue
		}
		if c.Protocol != "" {
			v.Problem("console: one of ssh, telnet and tcp, found both %s and %s", c.Protocol, p.Key)
		}
		c.Protocol = p.Key
		user, host, port, ok := SplitAddress(v.Text)
		given := strings.HasSuffix(v.Text, ":"+strconv.Itoa(port))
		if !given {
			port = p.Port
		}
		if !ok || port == 0 {
			v.Problem("%s: expected user@host:port, or host:port, found %q", p.Key, v.Text)
		}
		c.User, c.Address = user, net.JoinHostPort(host, strconv.Itoa(port))
		c.SSH = SSH{User: user, Host: host, Port: port, PortGiven: given}
	}
	if c.Protocol == "" {
		cm.Problem("console: say how its command line is reached, with one of: ssh, telnet, tcp")
	}
	if v := cm.Value("user"); v.Set() {
		c.User, c.SSH.User = v.Text, v.Text
	}
	c.SSH.Key = cm.String("key")
	c.Password = readSecret("password", cm.Value("password"))
	c.SSH.Password = c.Password
	if c.Legacy && c.Protocol != "ssh" {
		cm.Problem("legacy: goes with ssh alone")
	}
}

// readSecret reads where a secret is. The text is not repeated: it may be the secret itself.
func readSecret(key string, v keyfile.Value) Secret {
	if v.Set() && !Secret(v.Text).Valid() {
		v.Problem("%s: never stands here itself; write env:NAME or file:PATH", key)
	}
	return Secret(v.Text)
}

// readSecrets reads secrets by their names: what asks call secret:NAME.
func readSecrets(m *keyfile.Map, outer map[string]Secret, path func(string) string) map[string]Secret {
	sm := m.Map("secrets")
	if sm == nil {
		return outer
	}
	out := map[string]Secret{}
	for k, v := range outer {
		out[k] = v
	}
	for _, k := range sm.Keys() {
		v := sm.Value(k)
		if !word().MatchString(k) {
			v.Problem("secrets: expected a word of letters, digits, '.', - and _, found %q", k)
		}
		out[k] = readSecret("secrets: "+k, v).at(path)
	}
	sm.Done()
	return out
}

// at gives a secret whose file is named from the folder of the systems file.
func (s Secret) at(path func(string) string) Secret {
	if p, ok := strings.CutPrefix(string(s), "file:"); ok {
		return Secret("file:" + path(p))
	}
	return s
}

// Describe gives systems whose device is not described in the systems file the description that an ask has, and says for which there is
// none.
func (s *Site) Describe(others map[string]*device.Description) (unknown []string) {
	for i := range s.Systems {
		sys := &s.Systems[i]
		if sys.Device == "" || sys.Description != nil {
			continue
		}
		if sys.Description = others[sys.Device]; sys.Description == nil {
			unknown = append(unknown, sys.Name+" (device "+sys.Device+")")
		}
	}
	return unknown
}

// SecretAt gives where a secret of a system is: what secret:NAME calls so, or the place itself.
func (s *System) SecretAt(place string) (Secret, bool) {
	if name, named := strings.CutPrefix(place, "secret:"); named {
		at, ok := s.Secrets[name]
		return at, ok
	}
	return Secret(place), Secret(place).Valid()
}

// AllSecrets gives where all secrets of a system are.
func (s *System) AllSecrets() []Secret {
	out := []Secret{s.SSH.Password}
	if s.Console != nil {
		out = append(out, s.Console.Password)
	}
	if s.Web != nil {
		out = append(out, s.Web.Login.Password)
	}
	for _, v := range s.Secrets {
		out = append(out, v)
	}
	if s.Description != nil {
		for _, place := range s.Description.Secrets() {
			if at, ok := s.SecretAt(place); ok {
				out = append(out, at)
			}
		}
	}
	return out
}

// Hosts gives the addresses at which a system is reached, as the systems file names them.
func (s *System) Hosts() []string {
	var out []string
	if s.SSH.Host != "" {
		out = append(out, s.SSH.Host)
	}
	if s.Console != nil {
		out = append(out, s.Console.SSH.Host)
	}
	if s.Web != nil && s.Web.At != nil {
		out = append(out, s.Web.At.Hostname())
	}
	return out
}

// Accounts gives the names with which we log in to a system, as the systems file has them.
func (s *System) Accounts() []string {
	out := []string{s.SSH.User}
	if s.Console != nil {
		out = append(out, s.Console.SSH.User, s.Console.User)
	}
	if s.Web != nil {
		out = append(out, s.Web.Login.User)
	}
	if s.Pushes != nil {
		out = append(out, s.Pushes.As)
	}
	return slices.DeleteFunc(out, func(name string) bool { return name == "" })
}
