package archive

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// Parts joined by plain cat are the file again, and verify takes them as they are, in every format.
func TestSplit(t *testing.T) {
	files, order := sampleFiles()
	for i := range Formats {
		f := &Formats[i]
		data := buildAs(t, files, order, f, Balanced)
		dir := t.TempDir()
		file := filepath.Join(dir, "26031407."+f.Name)
		require.NoError(t, os.WriteFile(file, data, 0o600))
		require.NoError(t, os.WriteFile(file+".099", []byte("of an earlier cut"), 0o600))
		size := int64(len(data))/7 + 1
		parts, err := Split(t.Context(), file, size, nil)
		require.NoError(t, err)
		require.Len(t, parts, 7)
		var joined []byte
		for _, p := range parts {
			part, err := os.ReadFile(filepath.Join(dir, p.Name))
			require.NoError(t, err)
			require.Len(t, part, int(p.Size))
			require.LessOrEqual(t, p.Size, size)
			joined = append(joined, part...)
		}
		require.True(t, bytes.Equal(data, joined))
		require.NoFileExists(t, file+".099")
		if sh, err := exec.LookPath("sh"); err == nil {
			out, err := exec.Command(sh, "-c", "cd "+dir+" && cat 26031407."+f.Name+".[0-9][0-9][0-9]").Output()
			require.NoError(t, err)
			require.True(t, bytes.Equal(data, out))
		}
		for _, first := range []string{file + ".001", file + ".004"} {
			rep, err := VerifyFile(t.Context(), first, func(_ string, r io.Reader) error { _, err := io.Copy(io.Discard, r); return err })
			require.NoError(t, err)
			require.True(t, rep.Good(), "%v", rep.Differences)
			require.Equal(t, int64(len(data)), rep.Size)
		}
		require.NoError(t, os.Remove(file+".007"))
		rep, err := VerifyFile(t.Context(), file+".001", nil)
		require.NoError(t, err)
		require.False(t, rep.Good(), "the last part is missing")
		require.NoError(t, os.Remove(file+".001"))
		_, err = VerifyFile(t.Context(), file+".002", nil)
		require.ErrorContains(t, err, ".001 is not there")
	}
	file := filepath.Join(t.TempDir(), "x")
	require.NoError(t, os.WriteFile(file, make([]byte, 5000), 0o600))
	_, err := Split(t.Context(), file, 5, nil)
	require.ErrorContains(t, err, "1000 parts; 999 are the most")
}
