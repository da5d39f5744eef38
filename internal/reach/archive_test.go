package reach_test

import (
	"archive/zip"
	"context"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/reach"
	"envask/internal/reach/reachtest"
	"envask/internal/site"
)

// zipTree puts a tree into a zip archive, links as links.
func zipTree(t *testing.T, dir, file string) {
	out, err := os.Create(file)
	require.NoError(t, err)
	z := zip.NewWriter(out)
	require.NoError(t, filepath.WalkDir(dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil || p == dir {
			return err
		}
		info, err := d.Info()
		require.NoError(t, err)
		h, err := zip.FileInfoHeader(info)
		require.NoError(t, err)
		h.Name, err = filepath.Rel(filepath.Dir(dir), p)
		require.NoError(t, err)
		if d.IsDir() {
			h.Name += "/"
		}
		h.Method = zip.Deflate
		w, err := z.CreateHeader(h)
		require.NoError(t, err)
		switch {
		case d.IsDir():
			return nil
		case d.Type()&fs.ModeSymlink != 0:
			to, err := os.Readlink(p)
			require.NoError(t, err)
			_, err = io.WriteString(w, to)
			return err
		}
		in, err := os.Open(p)
		require.NoError(t, err)
		defer in.Close()
		_, err = io.Copy(w, in)
		return err
	}))
	require.NoError(t, z.Close())
	require.NoError(t, out.Close())
}

// An archive of a system is read in place, and passes the suite that every way passes; its path may lead into it.
func TestArchives(t *testing.T) {
	dir := t.TempDir()
	tree := filepath.Join(dir, "gate-1")
	require.NoError(t, os.Mkdir(tree, 0o755))
	reachtest.MakeTree(t, tree)
	for name, args := range map[string][]string{
		"a.tar": {"cf"}, "a.tar.gz": {"czf"}, "a.tar.xz": {"cJf"}, "a.tar.zst": {"--zstd", "-cf"}, "a.tar.bz2": {"cjf"}, "a.zip": nil,
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(dir, name)
			if args == nil {
				zipTree(t, tree, file)
			} else if err := exec.Command("tar", append(args, file, "-C", dir, "gate-1")...).Run(); err != nil {
				t.Skip("needs tar with this compression")
			}
			system := open(t, &reach.Dialer{}, &site.System{Name: "gate-1", Ways: []string{"folder"},
				Folder: filepath.Join(file, "gate-1")})
			require.Equal(t, "folder", served(system).Way)
			require.Empty(t, served(system).Remark)
			reachtest.TestFiles(t, system, "/")
			_, runs := system.(reach.Runner)
			require.False(t, runs, "nothing runs in an archive")
			f, err := system.FS().Open("dir-link/inner")
			require.NoError(t, err)
			require.NoError(t, f.Close())
		})
	}
	d := &reach.Dialer{}
	_, err := d.Open(context.Background(), &site.System{Name: "g", Ways: []string{"folder"}, Folder: filepath.Join(dir, "a.zip", "other")})
	require.ErrorContains(t, err, "there is no folder other in the archive: at its top there are gate-1")
	_, err = d.Open(context.Background(), &site.System{Name: "g", Ways: []string{"folder"}, Folder: filepath.Join(tree, "plain")})
	require.ErrorContains(t, err, "it is no archive (tar or zip)")

	// What is cut off is read as far as it goes, and that is said.
	data, err := os.ReadFile(filepath.Join(dir, "a.tar"))
	require.NoError(t, err)
	cut := filepath.Join(dir, "cut.tar")
	require.NoError(t, os.WriteFile(cut, data[:len(data)-1_500_000], 0o600))
	system := open(t, d, &site.System{Name: "g", Ways: []string{"folder"}, Folder: cut})
	require.Contains(t, served(system).Remark, "the archive is not whole: it is damaged or cut off")
}
