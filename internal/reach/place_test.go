package reach_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"envask/internal/reach"
	"envask/internal/standin"
)

// Patterns that begin with a place are mapped to paths, and paths to names, on every platform.
func TestPlaces(t *testing.T) {
	windows := map[string]string{"ProgramData": `C:\ProgramData`, "LOCALAPPDATA": `D:\Users\Ines [x]\AppData\Local\`}
	for _, c := range []struct{ pattern, home, want, name string }{
		{"/var/log/*.log", "/home/svc", "/var/log/*.log", "var/log/*.log"},
		{"~/logs/*.log", "/home/svc", "/home/svc/logs/*.log", "home/svc/logs/*.log"},
		{"~/logs/*.log", "", "~/logs/*.log", "~/logs/*.log"},
		{"~/x", "/home/o[d]d*", "/home/o[[]d]d[*]/x", "home/o[[]d]d[*]/x"},
		{`%ProgramData%\kiosk\*.log`, "", `C:\ProgramData\kiosk\*.log`, "C/ProgramData/kiosk/*.log"},
		{`%LOCALAPPDATA%/x`, "", `D:\Users\Ines [[]x]\AppData\Local/x`, "D/Users/Ines [[]x]/AppData/Local/x"},
		{`%Unknown%\x`, "", `%Unknown%\x`, `%Unknown%\x`},
		{`D:\a\b c\*.evt`, "", `D:\a\b c\*.evt`, "D/a/b c/*.evt"},
	} {
		got := reach.Placed(c.pattern, c.home, windows)
		require.Equal(t, c.want, got, c.pattern)
		require.Equal(t, c.name, reach.Name(got), c.pattern)
	}
	_, d, s := standIn(t, func(s *standin.Server) { s.NoSFTP = true })
	require.Equal(t, "/home/svc/x", open(t, d, s).(reach.Placer).Place("~/x"), "the home of the account there, not ours")
	require.Equal(t, `C:\ProgramData\x`, reach.NewFolder(t.TempDir()).Place(`%programdata%\x`), "a copy of a Windows system")
}

// The drives of a Windows system are where patterns name them.
func TestDrivesOverSFTP(t *testing.T) {
	_, d, s := standIn(t, func(s *standin.Server) {
		s.Windows, s.NoShell = true, true
		s.Tree.File("/C:/ProgramData/kiosk/kiosk.log", []byte("ready\n"), standin.FaultAt)
	})
	system := open(t, d, s)
	name := reach.Name(system.(reach.Placer).Place(`%ProgramData%\kiosk\kiosk.log`))
	require.Equal(t, "C/ProgramData/kiosk/kiosk.log", name)
	data, err := fs.ReadFile(system.FS(), name)
	require.NoError(t, err)
	require.Equal(t, "ready\n", string(data))
	entries, err := system.FS().ReadDir("C/ProgramData")
	require.NoError(t, err)
	require.Len(t, entries, 1)
	_, err = system.FS().Lstat("D/x")
	require.ErrorIs(t, err, fs.ErrNotExist)
}

// Hashed names, and keys that an authority vouches for, are honoured as OpenSSH does.
func TestHashedNamesAndHostCertificates(t *testing.T) {
	server, d, s := standIn(t, nil)
	line := strings.Fields(server.KnownHost())
	hashed := knownhosts.HashHostname(line[0]) + " " + strings.Join(line[1:], " ")
	require.NoError(t, os.WriteFile(d.HostKeys.Files[0], []byte(hashed+"\n"), 0o600))
	open(t, d, s)

	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	authority, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	server, d, s = standIn(t, func(s *standin.Server) { s.Authority = authority })
	require.NoError(t, os.WriteFile(d.HostKeys.Files[0], []byte(fmt.Sprintf("@cert-authority [127.0.0.1]:%d ", server.Port())+string(ssh.MarshalAuthorizedKey(authority.PublicKey()))), 0o600))
	open(t, d, s)
	require.NoError(t, os.WriteFile(d.HostKeys.Files[0], []byte("@cert-authority [192.0.2.1]:22 "+string(ssh.MarshalAuthorizedKey(authority.PublicKey()))), 0o600))
	_, err = d.Open(context.Background(), s)
	require.ErrorIs(t, err, reach.ErrHostKey)
}

// A person who is asked accepts a key once; it is kept. Without a yes, or for another name, nothing is trusted.
func TestAskingForAKey(t *testing.T) {
	server, d, s := standIn(t, nil)
	require.NoError(t, os.WriteFile(d.HostKeys.Files[0], nil, 0o600))
	asked, answer := 0, false
	d.HostKeys.Confirm = func(name, address, keyType, fingerprint string) (bool, error) {
		asked++
		require.Equal(t, []string{"gate-1", server.Fingerprint(), "ssh-ed25519"}, []string{name, fingerprint, keyType})
		return answer, nil
	}
	_, err := d.Open(context.Background(), s)
	require.ErrorIs(t, err, reach.ErrHostKey)
	require.Zero(t, asked, "nobody is asked who did not want to be")
	d.HostKeys.Accept = map[string]string{reach.AcceptAll: reach.AskPerson}
	_, err = d.Open(context.Background(), s)
	require.ErrorIs(t, err, reach.ErrHostKey)
	require.Equal(t, 1, asked)
	answer = true
	_, err = d.Open(context.Background(), s)
	require.ErrorIs(t, err, reach.ErrHostKey)
	require.Equal(t, 1, asked, "the answer holds for the run")
	d.HostKeys = &reach.HostKeys{Files: d.HostKeys.Files, Own: d.HostKeys.Own, Accept: d.HostKeys.Accept, Confirm: d.HostKeys.Confirm} // the next run
	open(t, d, s)
	open(t, d, s)
	require.Equal(t, 2, asked, "an accepted key is known from then on")
	kept, err := os.ReadFile(d.HostKeys.Own)
	require.NoError(t, err)
	require.Contains(t, string(kept), "[127.0.0.1]:")
	require.FileExists(t, filepath.Join(filepath.Dir(d.HostKeys.Own), "own"))
}
