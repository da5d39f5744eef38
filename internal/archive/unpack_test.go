package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

type member struct {
	name, text string
	kind       byte
}

var hostile = []member{
	{"top/log/gate.log", "fine\n", tar.TypeReg},
	{"top/log/", "", tar.TypeDir},
	{"../escape", "out\n", tar.TypeReg},
	{"/etc/absolute", "in\n", tar.TypeReg},
	{"top/../../up", "out\n", tar.TypeReg},
	{"top/link", "/etc/passwd", tar.TypeSymlink},
	{"top/hard", "top/log/gate.log", tar.TypeLink},
	{"top/fifo", "", tar.TypeFifo},
	{`top\win\x.log`, "win\n", tar.TypeReg},
}

// write makes an archive of a kind from members.
func write(t *testing.T, kind string, members []member) string {
	t.Helper()
	var b bytes.Buffer
	switch kind {
	case "zip":
		z := zip.NewWriter(&b)
		for _, m := range members {
			if m.kind == tar.TypeReg || m.kind == tar.TypeSymlink {
				h := &zip.FileHeader{Name: m.name}
				if m.kind == tar.TypeSymlink {
					h.SetMode(os.ModeSymlink | 0o777)
				}
				w, err := z.CreateHeader(h)
				require.NoError(t, err)
				_, err = io.WriteString(w, m.text)
				require.NoError(t, err)
			}
		}
		require.NoError(t, z.Close())
	default:
		var w io.Writer = &b
		var gz *gzip.Writer
		if kind == "tar.gz" {
			gz = gzip.NewWriter(&b)
			w = gz
		}
		tw := tar.NewWriter(w)
		for _, m := range members {
			h := &tar.Header{Name: m.name, Typeflag: m.kind, Mode: 0o644, ModTime: time.Unix(1773468720, 0)}
			if m.kind == tar.TypeReg {
				h.Size = int64(len(m.text))
			} else {
				h.Linkname = m.text
			}
			require.NoError(t, tw.WriteHeader(h))
			if m.kind == tar.TypeReg {
				_, err := io.WriteString(tw, m.text)
				require.NoError(t, err)
			}
		}
		require.NoError(t, tw.Close())
		if gz != nil {
			require.NoError(t, gz.Close())
		}
	}
	file := filepath.Join(t.TempDir(), "x."+kind)
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
	return file
}

// A foreign archive stays in its folder, whatever its names say, and links in it are not made.
func TestUnpackHostileArchives(t *testing.T) {
	for _, kind := range []string{"tar", "tar.gz", "zip"} {
		dir := filepath.Join(t.TempDir(), "a", "b")
		require.NoError(t, os.MkdirAll(dir, 0o700))
		skipped, err := Unpack(context.Background(), write(t, kind, hostile), dir)
		require.NoError(t, err, kind)
		require.Equal(t, map[string]int{"tar": 3, "tar.gz": 3, "zip": 1}[kind], skipped, kind)
		if kind != "zip" {
			info, err := os.Stat(filepath.Join(dir, "top/log/gate.log"))
			require.NoError(t, err)
			require.EqualValues(t, 1773468720, info.ModTime().Unix())
		}
		var names []string
		require.NoError(t, filepath.WalkDir(filepath.Dir(filepath.Dir(dir)), func(name string, d os.DirEntry, err error) error {
			require.Zero(t, d.Type()&os.ModeSymlink)
			if !d.IsDir() {
				rel, err := filepath.Rel(dir, name)
				require.NoError(t, err)
				names = append(names, filepath.ToSlash(rel))
			}
			return err
		}))
		require.ElementsMatch(t, []string{"top/log/gate.log", "escape", "etc/absolute", "up", "top/win/x.log"}, names, kind)
	}
}

func TestUnpackDamagedArchives(t *testing.T) {
	good, err := os.ReadFile(write(t, "tar.gz", hostile))
	require.NoError(t, err)
	for name, data := range map[string][]byte{"torn": good[:len(good)/2], "text": []byte(strings.Repeat("no archive\n", 100)), "empty zip": []byte("PK\x03\x04")} {
		file := filepath.Join(t.TempDir(), "x")
		require.NoError(t, os.WriteFile(file, data, 0o600))
		_, err := Unpack(context.Background(), file, t.TempDir())
		require.Error(t, err, name)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Unpack(ctx, write(t, "tar", hostile), t.TempDir())
	require.ErrorIs(t, err, context.Canceled)

	// Growth beyond the limit is stopped.
	u := &unpacking{ctx: context.Background(), dir: t.TempDir(), left: 10}
	require.ErrorContains(t, u.file("x", time.Time{}, strings.NewReader(strings.Repeat("y", 11))), "exceeds the limit")
}
