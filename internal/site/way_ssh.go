package site

import (
	"net"
	"strconv"
	"strings"

	"envask/internal/keyfile"
)

func readSSH(m *keyfile.Map, s *System) {
	v := m.Value("ssh")
	user, host, port, ok := SplitAddress(v.Text)
	if v.Set() && !ok {
		v.Problem("ssh: expected user@host or user@host:port, found %q", v.Text)
	}
	s.SSH = SSH{User: user, Host: host, Port: port, PortGiven: strings.HasSuffix(v.Text, ":"+strconv.Itoa(port)), Key: m.String("key")}
	if p := m.Value("password"); p.Set() {
		s.SSH.Password = Secret(p.Text)
		if !s.SSH.Password.Valid() {
			// The text is not repeated: it may be the password itself.
			p.Problem("password: never stands here itself; write env:NAME or file:PATH")
		}
	}
}

// Valid says whether the secret names a place.
func (s Secret) Valid() bool {
	for _, prefix := range []string{"env:", "file:"} {
		if rest, ok := strings.CutPrefix(string(s), prefix); ok && rest != "" {
			return true
		}
	}
	return false
}

// SplitAddress takes "user@host:port" apart; user may be missing, port defaults to 22, IPv6 addresses with a port stand
// in brackets.
func SplitAddress(text string) (user, host string, port int, ok bool) {
	if i := strings.LastIndexByte(text, '@'); i >= 0 {
		user, text = text[:i], text[i+1:]
		if user == "" {
			return "", "", 0, false
		}
	}
	host, port = text, 22
	if h, p, err := net.SplitHostPort(text); err == nil {
		n, err := strconv.Atoi(p)
		if err != nil || n < 1 || n > 65535 {
			return "", "", 0, false
		}
		host, port = h, n
	} else {
		host = strings.TrimSuffix(strings.TrimPrefix(text, "["), "]")
		if strings.Contains(host, ":") && net.ParseIP(host) == nil {
			return "", "", 0, false
		}
	}
	if host == "" || strings.ContainsAny(host, " \t/\\@") || strings.HasPrefix(host, "-") {
		return "", "", 0, false
	}
	return user, host, port, true
}
