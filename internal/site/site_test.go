package site

import (
	"path/filepath"
	"testing"
	"time"
	_ "time/tzdata"

	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	s, err := Parse("/etc/sites/pier.yaml", []byte(`site: tallow-pier
zone: Europe/Lisbon
known-hosts: [kh, ~/.ssh/known_hosts]
systems:
  - {name: jump, ssh: svc@203.0.113.5}
  - {name: gate-1, roles: [gate], ssh: svc@192.0.2.11, via: jump, key: ~/.ssh/pier, stall: 5s}
  - {name: fare, roles: [fare], ssh: 'svc@192.0.2.20:2222', password: env:FARE_PASSWORD, zone: UTC}
  - {name: v6, ssh: 'svc@[2001:db8::1]:2200', password: file:pw}
  - {name: desk-pc, local: true}
`))
	require.NoError(t, err)
	require.Equal(t, SSH{User: "svc", Host: "192.0.2.20", Port: 2222, PortGiven: true, Password: "env:FARE_PASSWORD"}, s.System("fare").SSH)
	require.Equal(t, "2001:db8::1", s.System("v6").SSH.Host)
	require.Equal(t, Secret("file:"+filepath.FromSlash("/etc/sites/pw")), s.System("v6").SSH.Password, "paths count from the file's folder")
	require.Equal(t, []string{filepath.FromSlash("/etc/sites/kh"), "~/.ssh/known_hosts"}, s.KnownHosts)
	require.Equal(t, 5*time.Second, s.System("gate-1").Stall)
	require.Equal(t, "~/.ssh/pier", s.System("gate-1").SSH.Key)
	require.Equal(t, "UTC", s.ZoneOf(s.System("fare")).String())
	require.Equal(t, "Europe/Lisbon", s.ZoneOf(s.System("desk-pc")).String())
	require.Equal(t, []string{"local"}, s.System("desk-pc").Ways)
	require.Nil(t, s.System("nobody"))
}

func TestWaysLimitsAndElevation(t *testing.T) {
	s, err := Parse("/etc/sites/pier.yaml", []byte(`site: tallow-pier
limits: {connections: 2, bandwidth: 1MiB, nice: 5}
systems:
  - {name: gate-1, ssh: svc@192.0.2.11, folder: copies/gate-1, elevate: sudo, limits: {nice: 19, bytes: 2GiB, time: 20m}}
  - {name: gate-2, folder: /mnt/gate-2, ssh: svc@192.0.2.12, elevate: /opt/bin/as-root --quiet, before-you-start: join the gate's own network}
`))
	require.NoError(t, err)
	one, two := s.System("gate-1"), s.System("gate-2")
	require.Equal(t, []string{"ssh", "folder"}, one.Ways)
	require.Equal(t, []string{"folder", "ssh"}, two.Ways, "they are tried in the order of the file")
	require.Equal(t, filepath.FromSlash("/etc/sites/copies/gate-1"), one.Folder)
	require.Equal(t, Limits{Connections: 2, Bandwidth: 1 << 20, Nice: 19, Time: 20 * time.Minute, Bytes: 2 << 30}, one.Limits)
	require.Equal(t, Limits{Connections: 2, Bandwidth: 1 << 20, Nice: 5}, two.Limits)
	require.Equal(t, "sudo -n", one.Elevation(), "nobody answers a question in the middle of a run")
	require.Equal(t, "/opt/bin/as-root --quiet", two.Elevation())
	require.Equal(t, "join the gate's own network", two.Before)
}

func TestMistakes(t *testing.T) {
	for _, c := range []struct{ systems, want string }{
		{"{name: a}", "say how it is reached, with one of: local, ssh"},
		{"{name: a, ssh: b@192.0.2.1, elevate: ' '}", "elevate: expected sudo, doas"},
		{"{name: a, folder: ''}", "folder: expected the path"},
		{"{name: a, ssh: b@192.0.2.1, limits: {nice: 40}}", "nice: expected a whole number from 1 to 19"},
		{"{name: a/b, local: true}", "name: expected a word"},
		{"{local: true}", "name: is missing"},
		{"{name: a, ssh: b@192.0.2.1, password: hunter2}", "password: never stands here itself"},
		{"{name: a, ssh: b@192.0.2.1, via: nobody}", `via: there is no system "nobody"`},
		{"{name: a, ssh: b@192.0.2.1, via: a}", `via: "a" is no way through`},
		{"{name: a, local: true, via: a}", "via: only a system that is reached by ssh, console or web"},
		{"{name: a, local: true}, {name: A, local: true}", `system "A" was given before`},
		{"{name: a, ssh: b@192.0.2.1, pasword: 'env:X'}", `unknown key "pasword"; did you mean "password"?`},
	} {
		_, err := Parse("s.yaml", []byte("site: pier\nsystems: ["+c.systems+"]\n"))
		require.ErrorContains(t, err, c.want, c.systems)
		require.NotContains(t, err.Error(), "hunter2", "a password is not repeated")
	}
	_, err := Parse("s.yaml", []byte("site: pier\n"))
	require.ErrorContains(t, err, "systems: is missing")
}

func TestSplitAddress(t *testing.T) {
	for text, want := range map[string]SSH{
		"gate-1":                  {Host: "gate-1", Port: 22},
		"svc@gate-1":              {User: "svc", Host: "gate-1", Port: 22},
		"a@b@gate-1:2222":         {User: "a@b", Host: "gate-1", Port: 2222},
		"[2001:db8::1]:22":        {Host: "2001:db8::1", Port: 22},
		"svc@2001:db8::1":         {User: "svc", Host: "2001:db8::1", Port: 22},
		"svc@gate.tallow.example": {User: "svc", Host: "gate.tallow.example", Port: 22},
	} {
		user, host, port, ok := SplitAddress(text)
		require.True(t, ok, text)
		require.Equal(t, want, SSH{User: user, Host: host, Port: port}, text)
	}
	for _, bad := range []string{"", "@gate", "svc@", "gate:0", "gate:99999", "gate:x", "a b", "-oProxyCommand=x", "x/y", "a:b:c"} {
		_, _, _, ok := SplitAddress(bad)
		require.False(t, ok, bad)
	}
}
