package standin

import (
	"bytes"
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The simulated system's shell behaves as a shell does, on its own files alone.
func TestShellOfAStandIn(t *testing.T) {
	tree := NewTree()
	tree.File("/var/log/gate.log", []byte("one\ntwo\n"), FaultAt)
	tree.Put("/var/log/closed.log", &Node{Data: []byte("closed\n"), Denied: true, Time: FaultAt})
	tree.Put("/tmp", &Node{Mode: 1 << 31, Time: FaultAt})
	s := &Server{Name: "gate-1", User: "svc", Tree: tree, Without: []string{"readlink"}, Commands: map[string]Command{"gatectl state": {Out: "open\n", Exit: 4}},
		Tools: map[string]Tool{"twice": func(c *Call) int { c.Out.Write([]byte(strings.Repeat(c.Args[1], 2))); return 0 }}}
	require.NoError(t, s.Start())
	defer s.Close()
	for line, want := range map[string]struct {
		out, err string
		exit     int
	}{
		"cat /var/log/gate.log":                                   {"one\ntwo\n", "", 0},
		"cat /etc/passwd":                                         {"", "cat: /etc/passwd: No such file or directory\n", 1},
		"cat /var/log/closed.log":                                 {"", "cat: /var/log/closed.log: Permission denied\n", 1},
		"sudo -n sh -c 'cat /var/log/closed.log; id'":             {"closed\nuid=0(root) gid=0(root) groups=0(root)\n", "", 0},
		"sudo cat /var/log/closed.log":                            {"", "sudo: a terminal is required to read the password\n", 1},
		"gatectl state; echo $?":                                  {"open\n4\n", "", 0},
		"twice ab; command -v readlink":                           {"abab", "", 1},
		"readlink /x":                                             {"", "readlink: not found\n", 127},
		"dd if=/var/log/gate.log bs=4 skip=1 count=1 2>/dev/null": {"two\n", "", 0},
		"{ dd bs=4 skip=1; } < /var/log/gate.log 2>/dev/null":     {"two\n", "", 0},
		"mkdir /etc/x":                                            {"", "mkdir: cannot create directory '/etc/x': Permission denied\n", 1},
		"mkdir /tmp/a && echo hi > /tmp/a/f && cat /tmp/a/f && mv /tmp/a/f /tmp/a/g && ls -ld /tmp/a/f": {"hi\n", "ls: cannot access '/tmp/a/f': No such file or directory\n", 2},
		"rm -rf /var/log":             {"", "rm: cannot remove '/var/log': Permission denied\n", 1},
		"nice -n 5 sh -c 'echo kind'": {"kind\n", "", 0},
		"if [ -r /var/log/closed.log ]; then echo yes; else echo no; fi": {"no\n", "", 0},
		"echo 'open": {"", "sh: syntax error\n", 2},
	} {
		var out, errOut bytes.Buffer
		exit := s.shell(context.Background(), line, "/", nil, &out, &errOut)
		require.Equal(t, want.exit, exit, line+errOut.String())
		require.Equal(t, want.out, out.String(), line)
		require.Equal(t, want.err, errOut.String(), line)
	}
	require.Contains(t, tree.Names("/tmp/a"), "/tmp/a/g")

	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	begun := time.Now()
	require.Equal(t, 137, s.shell(ctx, "sleep 30", "/", nil, &bytes.Buffer{}, &bytes.Buffer{}))
	require.Less(t, time.Since(begun), 5*time.Second)
}
