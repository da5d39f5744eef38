package archive

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// openers are programs that people have, by the format that each opens. DIR is where to, FILE what.
var openers = []struct {
	format, program string
	args            []string
}{
	{"tar.gz", "tar", []string{"-xzf", "FILE", "-C", "DIR"}},
	{"tar.zst", "tar", []string{"--zstd", "-xf", "FILE", "-C", "DIR"}},
	{"zip", "unzip", []string{"-q", "FILE", "-d", "DIR"}},
	{"zip", "python3", []string{"-m", "zipfile", "-e", "FILE", "DIR"}},
	{"zip", "7zz", []string{"x", "-oDIR", "FILE"}},
	{"tar.gz", "python3", []string{"-m", "tarfile", "-e", "FILE", "DIR"}},
}

// Every format holds the same files, gives the same bytes each time, passes its own check, and opens with the programs that
// people have.
func TestFormats(t *testing.T) {
	files, order := sampleFiles()
	for _, name := range []string{"systems/gate-1/files/mañana/übersicht.log", "systems/gate-1/files/with blank's.log"} {
		files[name] = []byte("found\n")
		order = append(order, name)
	}
	for i := range Formats {
		for level := range Levels {
			f := &Formats[i]
			t.Run(fmt.Sprint(f.Name, " ", Levels[level]), func(t *testing.T) {
				data := buildAs(t, files, order, f, Level(level))
				require.Equal(t, data, buildAs(t, files, order, f, Level(level)), "the same bytes each time")
				file := filepath.Join(t.TempDir(), "a."+f.Name)
				require.NoError(t, os.WriteFile(file, data, 0o600))
				seen := map[string]int{}
				rep, err := VerifyFile(t.Context(), file, func(name string, r io.Reader) error {
					var b bytes.Buffer
					_, err := b.ReadFrom(r)
					seen[name] = b.Len()
					if want, ok := files[name]; ok {
						require.True(t, bytes.Equal(want, b.Bytes()), name)
					}
					return err
				})
				require.NoError(t, err)
				require.True(t, rep.Good(), "%v", rep.Differences)
				require.Equal(t, int64(len(data)), rep.Size)
				require.Len(t, seen, len(files)+2)
				if Level(level) != f.Level {
					return
				}
				for _, o := range openers {
					if o.format != f.Name {
						continue
					}
					if _, err := exec.LookPath(o.program); err != nil {
						t.Logf("SKIPPED: no %s here", o.program)
						continue
					}
					dir := t.TempDir()
					var args []string
					for _, a := range o.args {
						args = append(args, string(bytes.ReplaceAll(bytes.ReplaceAll([]byte(a), []byte("FILE"), []byte(file)), []byte("DIR"), []byte(dir))))
					}
					out, err := exec.Command(o.program, args...).CombinedOutput()
					require.NoError(t, err, "%s: %s", o.program, out)
					for name, want := range files {
						got, err := os.ReadFile(filepath.Join(dir, "26031407", name))
						require.NoError(t, err, o.program)
						require.True(t, bytes.Equal(want, got), "%s: %s", o.program, name)
					}
				}
			})
		}
	}
}

// Whatever is cut off or changed, verify says so, in every format.
func TestDamageInEveryFormat(t *testing.T) {
	files := map[string][]byte{"systems/gate-1/files/a.log": content(400_000, 1), "systems/gate-1/files/b.log": content(3000, 2)}
	for i := range Formats {
		f := &Formats[i]
		data := buildAs(t, files, []string{"systems/gate-1/files/a.log", "systems/gate-1/files/b.log"}, f, Balanced)
		file := filepath.Join(t.TempDir(), "a")
		for _, n := range []int{0, 3, 100, len(data) / 2, len(data) - 1} {
			require.NoError(t, os.WriteFile(file, data[:n], 0o600))
			rep, err := VerifyFile(t.Context(), file, nil)
			require.NoError(t, err)
			require.False(t, rep.Good(), "%s cut to %d", f.Name, n)
		}
		for _, at := range []int{40, len(data) / 3, len(data) / 2} {
			changed := bytes.Clone(data)
			changed[at] ^= 0xff
			require.NoError(t, os.WriteFile(file, changed, 0o600))
			rep, err := VerifyFile(t.Context(), file, nil)
			require.NoError(t, err)
			require.False(t, rep.Good(), "%s changed at %d", f.Name, at)
		}
	}
}

func TestFormatWords(t *testing.T) {
	_, err := FormatOf("rar")
	require.ErrorContains(t, err, "known are tar.gz, tar.zst, zip")
	_, err = Formats[0].LevelOf("11")
	require.ErrorContains(t, err, "write balanced, fast, small")
	for _, c := range []struct {
		format, word string
		want         Level
	}{{"tar.gz", "", Fast}, {"tar.gz", "balanced", Balanced}, {"tar.zst", "", Balanced}, {"zip", "", Balanced}, {"zip", "fast", Fast}, {"zip", "small", Small}} {
		f, err := FormatOf(c.format)
		require.NoError(t, err)
		level, err := f.LevelOf(c.word)
		require.NoError(t, err)
		require.Equal(t, c.want, level, "%s %q", c.format, c.word)
	}
	require.Equal(t, "26031407_r1", TrimEnding("26031407_r1.tar.zst"))
	require.Equal(t, "26031407_r1.rar", TrimEnding("26031407_r1.rar"))
}
