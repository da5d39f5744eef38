package submit

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"math/rand/v2"
	"net/textproto"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/fault"
	"envask/internal/site"
	"envask/internal/standin"
)

// ftpDesk starts a desk and gives what a route to it needs.
func ftpDesk(t *testing.T) (d *standin.FTPDesk, to, dir string, m *Means) {
	t.Helper()
	dir = t.TempDir()
	d, err := standin.StartFTPDesk(dir, "intake", "right")
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	m = &Means{Changes: &changeLog{}, Left: map[string]string{}, Secret: func(s site.Secret) (string, error) { return strings.TrimPrefix(string(s), "env:"), nil },
		Pause:       func(context.Context, int) error { return nil },
		Credentials: Credentials{{Route: "web", Host: "127.0.0.1", User: "intake", Password: "env:right", Fingerprint: d.Fingerprint()}}}
	return d, "ftps://" + d.Address() + "/", dir, m
}

// What the server computes is asked for; a server that computes nothing is read back.
func TestFTPDigests(t *testing.T) {
	for _, c := range []struct {
		digests []string
		proof   string
	}{
		{[]string{"SHA-256"}, "size and SHA-256 agree (computed by the server)"},
		{[]string{"MD5", "SHA-256"}, "size and SHA-256 agree (computed by the server)"}, // not the one that the server prefers
		{[]string{"MD5", "SHA-1"}, "size and SHA-1 agree (computed by the server)"},
		{[]string{"MD5"}, "size and MD5 agree (computed by the server)"},
		{nil, "size and SHA-256 agree (read back from the server)"},
	} {
		d, to, dir, m := ftpDesk(t)
		d.Digests = c.digests
		p := parcel(t, 300_000)
		rec, err := Send(context.Background(), over(to, m), p, m)
		require.NoError(t, err)
		require.Equal(t, c.proof, rec.Proof)
		require.True(t, rec.Proved)
		require.Contains(t, rec.Server, d.Fingerprint())
		want, err := os.ReadFile(p.File)
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(dir, p.Name))
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, got))

		// A later --confirm has no file of ours to compute another digest of: the file is read back then.
		route, err := Open(context.Background(), "web", to, m)
		require.NoError(t, err)
		proof, proved, err := Confirm(context.Background(), route, &rec)
		require.NoError(t, err)
		require.True(t, proved)
		require.Contains(t, proof, "SHA-256 agree")
		require.NoError(t, route.Close())
		got[5]++
		require.NoError(t, os.WriteFile(filepath.Join(dir, p.Name), got, 0o600))
		_, err = Send(context.Background(), over(to, m), p, m)
		require.Equal(t, fault.Refused, fault.ClassOf(err), "%v", err)
	}
}

func TestFTPFaults(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(d *standin.FTPDesk, m *Means)
		want   string
	}{
		{"wrong password", func(d *standin.FTPDesk, m *Means) { m.Credentials[0].Password = "env:hunter2" }, "login refused for intake (530 who is it?)"},
		{"certificate changed", func(d *standin.FTPDesk, m *Means) {
			m.Credentials[0].Fingerprint = "SHA256:" + strings.Repeat("0", 64)
		}, "not the one in credentials.yaml"},
		{"disk full", func(d *standin.FTPDesk, m *Means) { d.Room = 200_000 }, "452 no room"},
		{"lies about the size", func(d *standin.FTPDesk, m *Means) { d.Short = 1 }, "only 299999 of 300000 bytes arrived"},
		{"keeps something else", func(d *standin.FTPDesk, m *Means) { d.Corrupt = true }, "what arrived is not what was sent: its SHA-256 is"},
		{"keeps something else, and knows MD5 only", func(d *standin.FTPDesk, m *Means) { d.Corrupt, d.Digests = true, []string{"MD5"} }, "what arrived is not what was sent: its MD5 is"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, to, dir, m := ftpDesk(t)
			c.change(d, m)
			_, err := Send(context.Background(), over(to, m), parcel(t, 300_000), m)
			require.ErrorContains(t, err, c.want)
			require.NotContains(t, err.Error()+fault.HintOf(err), "hunter2")
			entries, err := os.ReadDir(dir)
			require.NoError(t, err)
			require.Empty(t, entries, "what did not arrive whole is taken back")
			require.Empty(t, m.Changes.(*changeLog).open)
		})
	}
}

// 64 MiB over a link that is cut 20 times at random bytes arrive once, whole.
func TestCutFTP(t *testing.T) {
	const size = 64 << 20
	d, to, dir, m := ftpDesk(t)
	r := rand.New(rand.NewPCG(7, 8))
	var cuts atomic.Int32
	d.Cut = func() int64 {
		if cuts.Load() == 20 {
			return 0
		}
		cuts.Add(1)
		return 1<<20 + r.Int64N(2<<20)
	}
	p := parcel(t, size)
	rec, err := Send(context.Background(), over(to, m), p, m)
	require.NoError(t, err)
	require.Equal(t, []int{20, 21}, []int{int(cuts.Load()), rec.Tries})
	require.True(t, rec.Proved, rec.Proof)
	require.Greater(t, rec.Resumed, int64(20<<20))
	arrivedOnce(t, dir, p)
}

// conversation is a connection of which the other side was written down.
type conversation struct {
	io.Reader
	io.Writer
}

func (conversation) Close() error { return nil }

func FuzzFTPFeatures(f *testing.F) {
	f.Add("211-known:\r\n HASH SHA-256*;MD5;\r\n XSHA1\r\n211 end\r\n")
	f.Add("211 none\r\n")
	f.Add("500 what?\r\n")
	f.Add("211-\r\n HASH\r\n XMD5 filename;start;end\r\n211 end\r\n")
	f.Fuzz(func(t *testing.T, said string) {
		kind, command := best(textproto.NewConn(conversation{strings.NewReader(said), io.Discard}))
		require.Equal(t, command == "", kind.Name == "")
	})
}

// checkFileAnswer is what a server says when a session begins, and to the question.
func checkFileAnswer(reply ...byte) []byte {
	var b bytes.Buffer
	_ = writePacket(&b, sftpVersion, binary.BigEndian.AppendUint32(nil, 3))
	_ = writePacket(&b, sftpExtendedReply, append(binary.BigEndian.AppendUint32(nil, 1), reply...))
	return b.Bytes()
}

func FuzzCheckFile(f *testing.F) {
	sum := bytes.Repeat([]byte{7}, 32)
	f.Add(checkFileAnswer(append(appendText(nil, "sha256"), sum...)...))
	f.Add(checkFileAnswer(append(appendText(appendText(nil, "check-file"), "sha256"), sum...)...))
	f.Add(checkFileAnswer(append(appendText(nil, "md5"), sum...)...))
	f.Add([]byte{0, 0, 0, 0, 2})
	f.Add([]byte{0xff, 0xff, 0xff, 0xff, 2})
	f.Fuzz(func(t *testing.T, said []byte) {
		kind, got, err := checkFile(conversation{bytes.NewReader(said), io.Discard}, "/incoming/x")
		if err == nil {
			require.Len(t, got, 2*kind.Hash.Size())
		}
	})
}

func TestCheckFile(t *testing.T) {
	sum := bytes.Repeat([]byte{7}, 32)
	for _, reply := range [][]byte{append(appendText(nil, "sha256"), sum...), append(appendText(appendText(nil, "check-file"), "sha256"), sum...)} {
		kind, got, err := checkFile(conversation{bytes.NewReader(checkFileAnswer(reply...)), io.Discard}, "/incoming/x")
		require.NoError(t, err)
		require.Equal(t, "SHA-256", kind.Name)
		require.Equal(t, strings.Repeat("07", 32), got)
	}
	for _, reply := range [][]byte{nil, appendText(nil, "sha256"), append(appendText(nil, "md5"), sum...), append(appendText(nil, "crc32"), 1, 2, 3, 4), {0xff, 0xff, 0xff, 0xff}} {
		_, _, err := checkFile(conversation{bytes.NewReader(checkFileAnswer(reply...)), io.Discard}, "/incoming/x")
		require.Error(t, err)
	}
}

// Without a user the login is anonymous, with a mail address that is nobody's as password; that it went in the clear is said.
func TestFTPAnonymous(t *testing.T) {
	d, _, dir, m := ftpDesk(t)
	d.User, d.Password, d.InTheClear = "anonymous", anonymousPassword, true
	m.Credentials = nil
	p := parcel(t, 5000)
	rec, err := Send(context.Background(), over("ftp://"+d.Address()+"/", m), p, m)
	require.NoError(t, err)
	require.True(t, rec.Proved, rec.Proof)
	require.Equal(t, "nothing: NOT encrypted", rec.Cover)
	require.FileExists(t, filepath.Join(dir, p.Name))
}
