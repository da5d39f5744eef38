package unpack

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
)

// member is one thing in a tar archive.
type member struct {
	name, text, link string
	kind             byte
}

func tarOf(t testing.TB, members ...member) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, m := range members {
		if m.kind == 0 {
			m.kind = tar.TypeReg
		}
		h := &tar.Header{Name: m.name, Typeflag: m.kind, Linkname: m.link, Mode: 0o644,
			ModTime: time.Date(2026, 3, 14, 6, 12, 0, 0, time.UTC)}
		if m.kind == tar.TypeReg {
			h.Size = int64(len(m.text))
		}
		require.NoError(t, w.WriteHeader(h))
		_, err := w.Write([]byte(m.text))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func opened(t *testing.T, data []byte) (*FS, error) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "archive")
	require.NoError(t, os.WriteFile(file, data, 0o600))
	f, err := Open(context.Background(), file)
	if err == nil {
		t.Cleanup(func() { f.Close() })
	}
	return f, err
}

func TestAnArchiveIsAFileSystem(t *testing.T) {
	f, err := opened(t, tarOf(t, member{name: "./var/log/gate.log", text: "a line\n"}, member{name: "/etc/gate.conf", text: "lane = 4\n"},
		member{name: "var/log/hard", kind: tar.TypeLink, link: "./var/log/gate.log"}, member{name: "empty", text: ""}))
	require.NoError(t, err)
	require.Equal(t, 4, f.Files)
	require.NoError(t, fstest.TestFS(f, "var/log/gate.log", "etc/gate.conf", "var/log/hard", "empty"))
	data, err := fs.ReadFile(f, "var/log/hard")
	require.NoError(t, err)
	require.Equal(t, "a line\n", string(data))
	info, err := f.Lstat("etc/gate.conf")
	require.NoError(t, err)
	require.Equal(t, "2026-03-14", info.ModTime().UTC().Format(time.DateOnly))
}

// What an archive says is hostile: names that lead out are left, files in each other's way too, the last of two of one name counts.
func TestHostileArchives(t *testing.T) {
	f, err := opened(t, tarOf(t, member{name: "../out", text: "x"}, member{name: "a/../../out", text: "x"}, member{name: "a/b", text: "1"},
		member{name: "a/b/c", text: "2"}, member{name: "a", text: "3"}, member{name: "a/b", text: "4"},
		member{name: "h", kind: tar.TypeLink, link: "../../etc/shadow"}, member{name: "pipe", kind: tar.TypeFifo}))
	require.NoError(t, err)
	require.Equal(t, 5, f.Left)
	data, err := fs.ReadFile(f, "a/b")
	require.NoError(t, err)
	require.Equal(t, "4", string(data))
	_, err = f.Lstat("h")
	require.ErrorIs(t, err, fs.ErrNotExist)

	var no *BadError
	_, err = opened(t, []byte("no archive at all"))
	require.ErrorAs(t, err, &no)
	_, err = opened(t, nil)
	require.ErrorAs(t, err, &no)
	_, err = opened(t, []byte("PK\x03\x04 and no more"))
	require.ErrorAs(t, err, &no)

	// A little that becomes very much.
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	zeros := make([]byte, 1<<20)
	for range freeRatio>>20 + 2 {
		_, err := z.Write(zeros)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	if int64(b.Len())*maxRatio < freeRatio {
		_, err = opened(t, b.Bytes())
		require.ErrorAs(t, err, &no)
		require.ErrorContains(t, err, "more than any archive of its size holds")
	}

	// A zip archive that lies about a size.
	b.Reset()
	w := zip.NewWriter(&b)
	m, err := w.CreateRaw(&zip.FileHeader{Name: "bomb", Method: zip.Deflate, CompressedSize64: 10, UncompressedSize64: 60 << 30})
	require.NoError(t, err)
	_, err = m.Write(make([]byte, 10))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	_, err = opened(t, b.Bytes())
	require.ErrorContains(t, err, "it says that 10 bytes become")
}

func TestACutArchiveIsReadAsFarAsItGoes(t *testing.T) {
	whole := tarOf(t, member{name: "a.log", text: "first\n"}, member{name: "b.log", text: string(make([]byte, 4000))},
		member{name: "c.log", text: "x"})
	f, err := opened(t, whole[:3000])
	require.NoError(t, err)
	require.Contains(t, f.Cut, "damaged or cut off behind")
	data, err := fs.ReadFile(f, "a.log")
	require.NoError(t, err)
	require.Equal(t, "first\n", string(data))
	_, err = fs.ReadFile(f, "b.log")
	require.Error(t, err, "less came than it has")

	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, err = z.Write(whole)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	f, err = opened(t, b.Bytes()[:b.Len()-12])
	require.NoError(t, err)
	require.NotEmpty(t, f.Cut)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	file := filepath.Join(t.TempDir(), "a.tar.gz")
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
	_, err = Open(ctx, file)
	require.ErrorIs(t, err, context.Canceled)
}

func FuzzOpen(f *testing.F) {
	f.Add(tarOf(f, member{name: "a/b", text: "x"}, member{name: "l", kind: tar.TypeSymlink, link: "a"}))
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	m, _ := w.Create("a/b")
	_, _ = m.Write([]byte("x"))
	w.Close()
	f.Add(b.Bytes())
	file := filepath.Join(f.TempDir(), "archive")
	f.Fuzz(func(t *testing.T, data []byte) {
		require.NoError(t, os.WriteFile(file, data, 0o600))
		a, err := Open(context.Background(), file)
		var no *BadError
		if err != nil {
			require.True(t, errors.As(err, &no), "%v", err)
			return
		}
		defer a.Close()
		_ = fs.WalkDir(a, ".", func(name string, d fs.DirEntry, err error) error {
			require.NoError(t, err)
			require.True(t, fs.ValidPath(name) || !fs.ValidPath(d.Name()), "%q", name)
			return nil
		})
	})
}
