package durable

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWriteFileLeavesTheOldContentWhenItFails(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "approval.json")
	require.NoError(t, WriteFile(name, []byte("old"), 0o600))
	err := Write(name, 0o600, func(w io.Writer) error {
		_, _ = io.WriteString(w, "ne")
		return errors.New("no space left on device")
	})
	require.ErrorContains(t, err, "no space")
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	require.Equal(t, "old", string(data))
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, entries, 1, "nothing stays aside")
}

func TestSweepRemovesOnlyWhatIsAside(t *testing.T) {
	dir := t.TempDir()
	for _, n := range []string{".case.yaml.123.tmp", "case.yaml", ".keep", "x.tmp"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, n), nil, 0o600))
	}
	require.NoError(t, Sweep(dir))
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	require.Equal(t, []string{".keep", "case.yaml", "x.tmp"}, names)
	require.NoError(t, Sweep(filepath.Join(dir, "none")))
}

func TestPlainName(t *testing.T) {
	for _, good := range []string{"40017_tallow-pier_r1.tar.gz", "a", "x.tar.gz.001", "Größe.txt", "a b"} {
		require.NoError(t, PlainName(good), good)
	}
	for _, bad := range []string{"", ".", "..", "../x", "x/y", `x\y`, "C:x", "/etc/passwd", "x/../../secret.txt", ".carry", "a\nb", "a\x1b[2J", "a\xff", "a\u202eb", strings.Repeat("x", 256)} {
		require.Error(t, PlainName(bad), "%q", bad)
	}
	require.NoError(t, LocalPath("systems/gate-1/files/var/log/x.log"))
	for _, bad := range []string{"", ".", "..", "../x", "a/../../x", "/x", "a//b", `a\..\b`} {
		require.Error(t, LocalPath(bad), "%q", bad)
	}
}

func TestWriteFileLeavesNothingHalf(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "sub", "file")
	require.NoError(t, WriteFile(name, []byte("one"), 0o600))
	require.NoError(t, WriteFile(name, []byte("two"), 0o600))
	data, err := os.ReadFile(name)
	require.NoError(t, err)
	require.Equal(t, "two", string(data))
	entries, err := os.ReadDir(filepath.Dir(name))
	require.NoError(t, err)
	require.Len(t, entries, 1, "no temporary file is left")
	require.Error(t, WriteFile(filepath.Join(name, "below-a-file"), nil, 0o600))
}
