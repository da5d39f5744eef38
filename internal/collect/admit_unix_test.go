//go:build unix

package collect

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
)

// What is asked for decides what is opened, not what the system puts in its place: links lead nowhere that was not approved, secrets of
// the system stay unless they are named, and what is no file is never opened.
func TestAdmitOpensOnlyWhatWasApproved(t *testing.T) {
	root := t.TempDir()
	put := func(name, text string) {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	}
	link := func(name, to string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o700))
		require.NoError(t, os.Symlink(to, filepath.Join(root, name)))
	}
	put("log/gate.log", "a line\n")
	put("log/tls.key", "a key\n")
	put("log/tls.pub", "a key that all may see\n")
	put("etc/shadow", "root:x\n")
	put("etc/gate.conf", "lane = 4\n")
	put("srv/else.log", "nobody asked for it\n")
	put("opt/real/today.log", "another item has this one\n")
	link("log/current.log", "gate.log")
	link("log/secret.log", "/etc/shadow")
	link("log/out.log", "/srv/else.log")
	link("log/up.log", "../../../../../../srv/else.log")
	link("log/today.log", "/opt/real/today.log")
	link("log/broken.log", "/nowhere")
	link("log/a.log", "b.log")
	link("log/b.log", "a.log")
	link("log/folder.log", "/opt")
	link("var/logs", "../log")
	require.NoError(t, syscall.Mkfifo(filepath.Join(root, "log/pipe.log"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(root, "log/sub.log"), 0o700))

	k, err := ask.Parse("a.yaml", []byte("ask: a\nvendor: v\nitems:\n  - {id: log, files: ['/log/*.log', '/log/tls.*']}\n  - "+
		"{id: other, files: ['/opt/real/*', '/opt']}\n"))
	require.NoError(t, err)
	for _, c := range []struct {
		name    string
		allow   []string
		real    string // "" is left out
		state   round.State
		reason  string
		special bool
	}{
		{name: "log/gate.log", real: "log/gate.log"},
		{name: "log/tls.pub", real: "log/tls.pub"},
		{name: "log/tls.key", state: round.Refused, reason: "holds secrets of the system; --allow-path /log/tls.key takes it"},
		{name: "log/tls.key", allow: []string{"/log/tls.key"}, real: "log/tls.key"},
		{name: "log/current.log", state: round.Skipped, reason: "a link to /log/gate.log, which is taken itself", special: true},
		{name: "log/secret.log", state: round.Refused, reason: "a link to /etc/shadow, which holds secrets of the system"},
		{name: "log/secret.log", allow: []string{"/etc/*"}, real: "etc/shadow"},
		{name: "log/out.log", state: round.Refused, reason: "a link to /srv/else.log, out of the approved paths"},
		{name: "log/out.log", allow: []string{"/srv/**"}, real: "srv/else.log"},
		{name: "log/up.log", state: round.Refused, reason: "out of the approved paths"},
		{name: "log/today.log", real: "opt/real/today.log"},
		{name: "log/broken.log", state: round.Missing, reason: "a broken symlink"},
		{name: "log/a.log", state: round.Refused, reason: "circular", special: true},
		{name: "log/folder.log", state: round.Refused, reason: "a folder is never opened", special: true},
		{name: "log/pipe.log", state: round.Refused, reason: "a FIFO is never opened", special: true},
		{name: "log/sub.log", state: round.Refused, reason: "a folder is never opened", special: true},
		{name: "var/logs/gate.log", state: round.Skipped, reason: "a link to /log/gate.log, which is taken itself", special: true},
	} {
		target := reach.NewLocal(root)
		w := &work{req: &Request{Ask: k, AllowPaths: c.allow}, sys: &site.System{Name: "pc"}, item: &k.Items[0], target: target}
		info, err := target.FS().Lstat(c.name)
		require.NoError(t, err, c.name)
		e := round.Entry{Source: source(c.name), Size: info.Size()}
		links := &resolver{fsys: target.FS(), folders: map[string]folder{}}
		real, ok := admit(w, k.Items[0].Spec.(ask.Files), links, match{name: c.name, info: info}, &e)
		require.Equal(t, c.real != "", ok, "%s: %s", c.name, e.Reason)
		require.Equal(t, c.real, real, c.name)
		require.Equal(t, c.state, e.State, c.name)
		require.Contains(t, e.Reason, c.reason, c.name)
		require.Equal(t, c.special, e.Special, c.name)
		if ok {
			info, err := os.Stat(filepath.Join(root, real))
			require.NoError(t, err)
			require.Equal(t, info.Size(), e.Size, "the size is that of the file, not of the link: %s", c.name)
		}
	}
	require.True(t, guarded("home/ines/.ssh/id_ed25519", nil))
	require.False(t, guarded("home/ines/.ssh/id_ed25519.pub", nil))
	require.False(t, strings.HasPrefix(source("x"), "//"))
}
