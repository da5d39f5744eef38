package submit

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/fault"
	"envask/internal/reach"
	"envask/internal/site"
	"envask/internal/standin"
)

// changeLog remembers what was said about files of ours.
type changeLog struct {
	open map[string]string
	how  []string
}

func (c *changeLog) Begin(path, _ string) (string, error) {
	if c.open == nil {
		c.open = map[string]string{}
	}
	c.open[path] = path
	return path, nil
}

func (c *changeLog) Done(id, how string) error {
	delete(c.open, id)
	c.how = append(c.how, how)
	return nil
}

func parcel(t *testing.T, size int) Parcel {
	t.Helper()
	data := []byte(strings.Repeat("evidence ", size/9+1)[:size])
	file := filepath.Join(t.TempDir(), "26031407.tar.gz")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	sum := sha256.Sum256(data)
	return Parcel{File: file, Name: "26031407.tar.gz", Size: int64(size), SHA256: hex.EncodeToString(sum[:])}
}

// opened is one route that the suite is run on, and the folder behind it.
type opened struct {
	name   string
	route  Store
	folder string
}

// routes opens one route of each kind.
func routes(t *testing.T, changes Changes, change func(*standin.Server)) ([]opened, *Means) {
	t.Helper()
	m := &Means{Changes: changes}
	dir := t.TempDir()
	folderRoute, err := Open(context.Background(), "stick", dir, m)
	require.NoError(t, err)

	deskDir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(deskDir, "incoming"), 0o700))
	desk, err := standin.NewDesk(deskDir, "intake", "right")
	require.NoError(t, err)
	if change != nil {
		change(desk)
	}
	require.NoError(t, desk.Start())
	t.Cleanup(func() { desk.Close() })
	known := filepath.Join(t.TempDir(), "known_hosts")
	require.NoError(t, os.WriteFile(known, []byte(desk.KnownHost()+"\n"), 0o600))
	m.Credentials = Credentials{{Route: "desk", Host: "127.0.0.1", Password: "env:X"}}
	m.Dialer = &reach.Dialer{HostKeys: &reach.HostKeys{Own: known}, Secret: func(site.Secret) (string, error) { return "right", nil }}
	sftpRoute, err := Open(context.Background(), "desk", "sftp://"+desk.Address()+"/incoming", m)
	require.NoError(t, err)
	t.Cleanup(func() { sftpRoute.Close() })
	return []opened{{"folder", folderRoute.(Store), dir}, {"sftp", sftpRoute.(Store), filepath.Join(deskDir, "incoming")}}, m
}

// kept is a route that stays open, so that a test can look at it afterwards.
type kept struct{ Store }

func (kept) Close() error { return nil }

// send sends over a route that is open already.
func send(ctx context.Context, r Store, p Parcel, m *Means) (Receipt, error) {
	return Send(ctx, func(context.Context) (Route, error) { return kept{r}, nil }, p, m)
}

// Every kind of route keeps the same promises.
func TestRoutes(t *testing.T) {
	for _, size := range []int{0, 1, 3_000_000} {
		log := &changeLog{}
		all, m := routes(t, log, nil)
		for _, o := range all {
			p := parcel(t, size)
			sent := int64(0)
			m.Progress = func(done int64) {
				sent = done
				final, part := o.route.Place(p.Name)
				_, err := o.route.Size(final)
				require.ErrorIs(t, err, fs.ErrNotExist, "%s: the final name appears only when the content is whole", o.name)
				require.Contains(t, log.open, part, "%s: a file of ours is written down before it is made", o.name)
			}
			rec, err := send(context.Background(), o.route, p, m)
			require.NoError(t, err, o.name)
			require.True(t, rec.Proved, "%s: %s", o.name, rec.Proof)
			require.Equal(t, int64(size), sent, o.name)
			require.Empty(t, log.open, o.name)
			got, err := os.ReadFile(filepath.Join(o.folder, p.Name))
			require.NoError(t, err)
			require.Len(t, got, size)
			entries, err := os.ReadDir(o.folder)
			require.NoError(t, err)
			require.Len(t, entries, 1, "%s: nothing else is left there", o.name)

			m.Progress = nil
			rec, err = send(context.Background(), o.route, p, m)
			require.NoError(t, err)
			require.True(t, rec.Already && rec.Proved, "%s: %s", o.name, rec.Proof)
			other := parcel(t, size+1)
			_, err = send(context.Background(), o.route, other, m)
			require.Equal(t, fault.Refused, fault.ClassOf(err), o.name)
			require.ErrorContains(t, err, "is not overwritten")
		}
	}
}

// An interrupted send leaves nothing under the final name; what arrived is resumed by the next one.
func TestAnInterruptedSendIsGoneOnWith(t *testing.T) {
	log := &changeLog{}
	all, m := routes(t, log, nil)
	const size = 9_000_000
	for _, o := range all {
		m.Left = nil
		ctx, cancel := context.WithCancel(context.Background())
		m.Progress = func(done int64) {
			if done > size*2/3 {
				cancel()
			}
		}
		p := parcel(t, size)
		_, err := send(ctx, o.route, p, m)
		require.ErrorIs(t, err, context.Canceled, o.name)
		final, part := o.route.Place(p.Name)
		_, err = o.route.Size(final)
		require.ErrorIs(t, err, fs.ErrNotExist, o.name)
		require.Contains(t, log.open, part, "%s: what is left is known", o.name)

		begun := int64(-1)
		m.Left, m.Progress = map[string]string{part: part}, func(done int64) {
			if begun < 0 {
				begun = done
			}
		}
		rec, err := send(context.Background(), o.route, p, m)
		require.NoError(t, err, o.name)
		require.True(t, rec.Proved, o.name)
		require.Greater(t, rec.Resumed, int64(0), o.name)
		require.Greater(t, begun, rec.Resumed, o.name)
		require.Empty(t, log.open, o.name)

		// A partial upload that does not match is replaced.
		other := parcel(t, size)
		other.Name = "another.tar.gz"
		final, part = o.route.Place(other.Name)
		require.NoError(t, o.route.Put(context.Background(), part, strings.NewReader(strings.Repeat("!", 5_000_000)), 0))
		m.Left = map[string]string{part: part}
		rec, err = send(context.Background(), o.route, other, m)
		require.NoError(t, err, o.name)
		require.True(t, rec.Proved, o.name)
		require.Zero(t, rec.Resumed, o.name)
		got, err := o.route.Size(final)
		require.NoError(t, err)
		require.Equal(t, int64(size), got)
	}
}

// liar is a route whose other side keeps something else than what was sent.
type liar struct {
	Store
	size int64
	sum  string
}

func (l liar) Size(p string) (int64, error) {
	n, err := l.Store.Size(p)
	if err == nil && l.size != 0 {
		return l.size, nil
	}
	return n, err
}

func (l liar) Sum(ctx context.Context, p string, size int64) (string, string, error) {
	if l.sum == "error" {
		return "", "", errors.New("broken")
	}
	return l.sum, "as the liar says", nil
}

func TestProof(t *testing.T) {
	for _, c := range []struct {
		lie    liar
		want   string
		proved bool
	}{
		{liar{size: 7}, "only 7 of 1000 bytes arrived", false},
		{liar{sum: strings.Repeat("0", 64)}, "what arrived is not what was sent", false},
		{liar{sum: "error"}, "broken", false},
		{liar{}, "", false},
	} {
		log := &changeLog{}
		all, m := routes(t, log, nil)
		c.lie.Store = all[0].route
		rec, err := send(context.Background(), c.lie, parcel(t, 1000), m)
		require.Empty(t, log.open)
		if c.want == "" {
			require.NoError(t, err)
			require.False(t, rec.Proved)
			require.Contains(t, rec.Proof, "the size agrees; as the liar says")
			continue
		}
		require.ErrorContains(t, err, c.want)
		entries, err := os.ReadDir(all[0].folder)
		require.NoError(t, err)
		require.Empty(t, entries, "what did not arrive whole is taken back")
	}
}

func TestWithoutCommandsTheFileIsReadBack(t *testing.T) {
	all, m := routes(t, &changeLog{}, func(s *standin.Server) { s.Exec = nil })
	rec, err := send(context.Background(), all[1].route, parcel(t, 5000), m)
	require.NoError(t, err)
	require.True(t, rec.Proved)
	require.Contains(t, rec.Proof, "read back from the server")
	sum, how, err := all[1].route.Sum(context.Background(), rec.Path, ReadBackLimit+1)
	require.NoError(t, err)
	require.Empty(t, sum)
	require.Contains(t, how, "--read-back does it")
}

func TestOpenMistakes(t *testing.T) {
	m := &Means{Changes: &changeLog{}}
	for to, want := range map[string]string{
		"gopher://x/y": `"gopher" is no known way to send`, "sftp://a:secret@x/y": "a password does not stand in a route", "/no/such/folder": "is the share mounted",
		"sftp://user@:99999/x": "names no server", "://": "is not a usable URL",
	} {
		_, err := Open(context.Background(), "desk", to, m)
		require.Error(t, err, to)
		require.NotContains(t, err.Error(), "secret")
		require.Contains(t, err.Error()+fault.HintOf(err), want)
	}
	_, m = routes(t, &changeLog{}, nil)
	_, err := (Credentials{{Route: "desk", Host: "desk.ostrevane.example"}}).For("desk", "elsewhere.example")
	require.Equal(t, fault.Refused, fault.ClassOf(err))
	c, err := m.Credentials.For("other", "127.0.0.1")
	require.NoError(t, err)
	require.Empty(t, c.Password)
}

func TestLoadCredentials(t *testing.T) {
	file := filepath.Join(t.TempDir(), "credentials.yaml")
	c, err := LoadCredentials(file)
	require.NoError(t, err)
	require.Empty(t, c)
	require.NoError(t, os.WriteFile(file, []byte("credentials:\n  - {route: desk, host: desk.ostrevane.example, key: id, password: 'env:X'}\n"), 0o600))
	c, err = LoadCredentials(file)
	require.NoError(t, err)
	require.Equal(t, filepath.Join(filepath.Dir(file), "id"), c[0].Key)
	require.NoError(t, os.WriteFile(file, []byte("credentials:\n  - {route: desk, host: h, password: hunter2}\n"), 0o600))
	_, err = LoadCredentials(file)
	require.ErrorContains(t, err, "credentials.yaml:2:38: password: never stands here itself")
	require.NotContains(t, err.Error(), "hunter2")
}

// A full disk and a folder that is gone are tried once: another try would meet them again.
func TestWhatIsTriedAgain(t *testing.T) {
	for err, again := range map[error]bool{
		&os.PathError{Op: "write", Path: "x", Err: syscall.ENOSPC}: false, &os.PathError{Op: "open", Path: "x", Err: syscall.ENOENT}: false,
		&net.OpError{Op: "read", Err: os.NewSyscallError("read", syscall.ECONNRESET)}: true, &net.OpError{Op: "dial", Err: os.NewSyscallError("connect", syscall.ECONNREFUSED)}: true,
		io.ErrUnexpectedEOF: true, passing{errors.New("busy")}: true, errors.New("what"): false,
	} {
		require.Equal(t, again, isPassing(err), "%v", err)
	}
	tries := 0
	m := &Means{Changes: &changeLog{}, Pause: func(context.Context, int) error { tries++; return nil }}
	_, err := Send(context.Background(), func(ctx context.Context) (Route, error) {
		return Open(ctx, "stick", filepath.Join(t.TempDir(), "gone"), m)
	}, parcel(t, 100), m)
	require.Error(t, err)
	require.Zero(t, tries)
}
