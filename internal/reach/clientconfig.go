package reach

import (
	"fmt"
	"io"
	"os"
	"path"
	"strconv"
	"strings"

	"github.com/kevinburke/ssh_config"

	"envask/internal/site"
	"envask/internal/window"
)

// ClientConfig is the engineer's own OpenSSH client configuration, see ssh_config(5). It says what the systems file leaves
// open: host names behind aliases, users, ports, keys, jump hosts. The systems file comes before it.
type ClientConfig struct {
	files   []*ssh_config.Config
	Remarks []string // what of it is not honoured, with its place
}

// maxClientConfig bounds what is read of one configuration file, in bytes.
const maxClientConfig = 1 << 20

// LoadClientConfig reads configuration files, of which the first counts most. Those that are not there are passed over;
// what cannot be honoured is in the remarks.
func LoadClientConfig(files ...string) *ClientConfig {
	c := &ClientConfig{}
	for _, name := range files {
		f, err := os.Open(name)
		if err != nil {
			if !os.IsNotExist(err) {
				c.Remarks = append(c.Remarks, fmt.Sprintf("%s is not honoured: %v", name, err))
			}
			continue
		}
		data, err := io.ReadAll(io.LimitReader(f, maxClientConfig))
		f.Close()
		if err == nil {
			var parsed *ssh_config.Config
			if parsed, err = ssh_config.DecodeBytes([]byte(c.withoutMatch(name, string(data)))); err == nil {
				c.files = append(c.files, parsed)
			}
		}
		if err != nil {
			c.Remarks = append(c.Remarks, fmt.Sprintf("%s is not honoured: %v", name, err))
		}
	}
	return c
}

// withoutMatch turns the Match blocks that depend on the host alone into Host blocks, and leaves the others out.
func (c *ClientConfig) withoutMatch(name, text string) string {
	lines := strings.Split(text, "\n")
	out := false
	for i, line := range lines {
		words := strings.Fields(strings.Replace(line, "=", " ", 1))
		if len(words) == 0 {
			continue
		}
		switch strings.ToLower(words[0]) {
		case "host":
			out = false
		case "match":
			out = false
			switch rest := words[1:]; {
			case len(rest) == 1 && strings.EqualFold(rest[0], "all"):
				lines[i] = "Host *"
			case len(rest) == 2 && (strings.EqualFold(rest[0], "host") || strings.EqualFold(rest[0], "originalhost")):
				lines[i] = "Host " + strings.ReplaceAll(strings.Trim(rest[1], `"`), ",", " ")
			default:
				out = true
				c.Remarks = append(c.Remarks, fmt.Sprintf("%s:%d: %q is not honoured; give what it says in the systems file", name,
					i+1, strings.TrimSpace(line)))
			}
		}
		if out {
			lines[i] = ""
		}
	}
	return strings.Join(lines, "\n")
}

// get gives the first value of a key for a host as it is named in the systems file; "" when there is none.
func (c *ClientConfig) get(alias, key string) string {
	if c == nil {
		return ""
	}
	for _, f := range c.files {
		if v, err := f.Get(alias, key); err == nil && v != "" {
			return strings.Trim(v, `"`)
		}
	}
	return ""
}

func (c *ClientConfig) all(alias, key string) []string {
	if c == nil {
		return nil
	}
	var out []string
	for _, f := range c.files {
		if values, err := f.GetAll(alias, key); err == nil {
			for _, v := range values {
				out = append(out, strings.Trim(v, `"`))
			}
		}
	}
	return out
}

// way is where and how a system is reached, by the systems file and the client configuration together.
type sshRoute struct {
	host, user   string
	port         int
	hostKeyAlias string
	keys         []string // private key files that the configuration names
	onlyKeys     bool     // of the agent's keys only those
	knownHosts   []string
	jumps        []string // through these, in this order
	proxyCommand string
}

// route puts together what the systems file and the client configuration say of a system.
func (d *Dialer) route(s *site.System) sshRoute {
	alias, c := s.SSH.Host, d.Config
	r := sshRoute{host: alias, user: s.SSH.User, port: s.SSH.Port}
	if v := c.get(alias, "HostName"); v != "" {
		r.host = strings.ReplaceAll(v, "%h", alias)
	}
	if r.user == "" {
		r.user = c.get(alias, "User")
	}
	if r.user == "" {
		r.user = d.User
	}
	if n, err := strconv.Atoi(c.get(alias, "Port")); err == nil && !s.SSH.PortGiven && n > 0 && n < 65536 {
		r.port = n
	}
	r.hostKeyAlias = c.get(alias, "HostKeyAlias")
	r.onlyKeys = strings.EqualFold(c.get(alias, "IdentitiesOnly"), "yes")
	expand := func(v string) string {
		return d.Path(strings.NewReplacer("%%", "%", "%h", r.host, "%n", alias, "%p", strconv.Itoa(r.port), "%r", r.user, "%u", d.User,
			"%d", d.HomeDir).Replace(v))
	}
	for _, v := range c.all(alias, "IdentityFile") {
		r.keys = append(r.keys, expand(v))
	}
	for _, v := range strings.Fields(c.get(alias, "UserKnownHostsFile")) {
		r.knownHosts = append(r.knownHosts, expand(v))
	}
	if s.Via != "" {
		return r
	}
	if v := c.get(alias, "ProxyJump"); v != "" {
		if !strings.EqualFold(v, "none") {
			r.jumps = strings.Split(v, ",")
		}
	} else if v := c.get(alias, "ProxyCommand"); v != "" && !strings.EqualFold(v, "none") {
		r.proxyCommand = strings.TrimPrefix(expand(v), "exec ")
	}
	return r
}

// maxHosts bounds how many hosts of a configuration are listed.
const maxHosts = 2000

// Hosts gives the hosts that the configuration names and of whose names one of the patterns matches, in the order of the files.
func (c *ClientConfig) Hosts(patterns []string) (out []site.Host, err error) {
	seen := map[string]bool{}
	for _, f := range c.files {
		for _, block := range f.Hosts {
			for _, p := range block.Patterns {
				name := p.String()
				if seen[name] || strings.ContainsAny(name, "*?!'\n") || len(out) == maxHosts {
					continue
				}
				for _, want := range patterns {
					ok, err := path.Match(want, name)
					if err != nil {
						return nil, fmt.Errorf("%q is no pattern", want)
					}
					if ok && !seen[name] {
						seen[name] = true
						out = append(out, site.Host{Name: name, Jump: c.get(name, "ProxyJump")})
					}
				}
			}
		}
	}
	return out, nil
}

// LocalZoneName gives the name of this machine's time zone; "Local" where it has none.
func LocalZoneName() string { return window.LocalZone().String() }
