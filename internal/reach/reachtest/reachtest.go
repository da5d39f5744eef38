package reachtest

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/reach"
)

// OddName is a file name with bytes that are no UTF-8, as real systems have them.
const OddName = "odd \xff\n name"

// Big is the size of the large file, in bytes.
const Big = 3_000_000

// BigByte gives the byte of the large file at a place.
func BigByte(i int) byte { return byte(i>>8) ^ byte(i) }

// MakeTree makes the tree that the suite wants, in a folder of this machine.
func MakeTree(t testing.TB, dir string) {
	t.Helper()
	big := make([]byte, Big)
	for i := range big {
		big[i] = BigByte(i)
	}
	for name, data := range map[string][]byte{"plain": []byte("hello\n"), "empty": nil, "dir/inner": []byte("in\n"), "dir/deeper/leaf": nil,
		OddName: []byte("odd\n"), "big": big} {
		file := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, data, 0o644))
	}
	require.NoError(t, os.Symlink("plain", filepath.Join(dir, "link")))
	require.NoError(t, os.Symlink("dir", filepath.Join(dir, "dir-link")))
	require.NoError(t, os.Symlink("nowhere", filepath.Join(dir, "dangling")))
}

// treeNames are the names at the top of the tree, sorted.
var treeNames = []string{"big", "dangling", "dir", "dir-link", "empty", "link", OddName, "plain"}

// rule is one thing that every way must do.
type rule struct {
	name, explanation string
	check             func(t *testing.T)
}

// Test runs the suite on a system that has the tree below root, a whole path there.
func Test(t *testing.T, s reach.System, root string) {
	for _, c := range slices.Concat(fileRules(s.FS(), reach.Name(root)), strictRules(s.FS(), reach.Name(root)), runRules(s)) {
		t.Run(c.name, func(t *testing.T) {
			t.Log(c.explanation)
			c.check(t)
		})
	}
}

// TestFiles runs the rules about files alone.
func TestFiles(t *testing.T, s reach.System, root string) {
	for _, c := range slices.Concat(fileRules(s.FS(), reach.Name(root)), strictRules(s.FS(), reach.Name(root))) {
		t.Run(c.name, func(t *testing.T) {
			t.Log(c.explanation)
			c.check(t)
		})
	}
}

func fileRules(fsys reach.FS, top string) []rule {
	return []rule{
		{"Read", "a file is read whole", func(t *testing.T) {
			require.Equal(t, "hello\n", read(t, fsys, path.Join(top, "plain")))
			require.Empty(t, read(t, fsys, path.Join(top, "empty")))
			require.Equal(t, "odd\n", read(t, fsys, path.Join(top, OddName)))
		}},
		{"ReadBig", "a large file comes in the right order, also by io.Copy", func(t *testing.T) {
			f, err := fsys.Open(path.Join(top, "big"))
			require.NoError(t, err)
			defer f.Close()
			var b bytes.Buffer
			_, err = io.Copy(&b, f)
			require.NoError(t, err)
			require.Equal(t, Big, b.Len())
			for i := 0; i < Big; i += 997 {
				require.Equal(t, BigByte(i), b.Bytes()[i], i)
			}
		}},
		{"List", "a folder lists what is in it, sorted, with odd names whole", func(t *testing.T) {
			entries, err := fsys.ReadDir(top)
			require.NoError(t, err)
			var names []string
			for _, e := range entries {
				names = append(names, e.Name())
			}
			require.Equal(t, treeNames, names)
		}},
		{"Lstat", "Lstat tells about a link itself, ReadLink where it leads", func(t *testing.T) {
			info, err := fsys.Lstat(path.Join(top, "link"))
			require.NoError(t, err)
			require.NotZero(t, info.Mode()&fs.ModeSymlink)
			target, err := fsys.ReadLink(path.Join(top, "link"))
			require.NoError(t, err)
			require.Equal(t, "plain", target)
			info, err = fsys.Lstat(path.Join(top, "big"))
			require.NoError(t, err)
			require.True(t, info.Mode().IsRegular())
			require.Equal(t, int64(Big), info.Size())
			info, err = fsys.Lstat(path.Join(top, "dir"))
			require.NoError(t, err)
			require.True(t, info.IsDir())
		}},
		{"NotThere", "what is not there is fs.ErrNotExist, by every call", func(t *testing.T) {
			_, err := fsys.Open(path.Join(top, "nothing"))
			require.ErrorIs(t, err, fs.ErrNotExist)
			_, err = fsys.Lstat(path.Join(top, "nothing"))
			require.ErrorIs(t, err, fs.ErrNotExist)
			_, err = fsys.ReadDir(path.Join(top, "nothing"))
			require.ErrorIs(t, err, fs.ErrNotExist)
			_, err = fsys.Open(path.Join(top, "dangling"))
			require.Error(t, err)
		}},
		{"Names", "names that lead elsewhere are refused before they are sent", func(t *testing.T) {
			for _, bad := range []string{"", "/etc/passwd", "../x", "a/../../x", "a//b", "a/", "a\x00b"} {
				_, err := fsys.Open(bad)
				require.ErrorIs(t, err, fs.ErrInvalid, "%q", bad)
				_, err = fsys.ReadDir(bad)
				require.ErrorIs(t, err, fs.ErrInvalid, "%q", bad)
				_, err = fsys.Lstat(bad)
				require.ErrorIs(t, err, fs.ErrInvalid, "%q", bad)
				_, err = fsys.ReadLink(bad)
				require.ErrorIs(t, err, fs.ErrInvalid, "%q", bad)
			}
		}},
	}
}

// strictRules are about links that come in the way, and folders of any size.
func strictRules(fsys reach.FS, top string) []rule {
	return []rule{
		{"Resolved", "a name in which no link may be is opened only without one, at its end or above", func(t *testing.T) {
			f, err := reach.OpenResolved(fsys, path.Join(top, "dir/inner"))
			require.NoError(t, err)
			data, err := io.ReadAll(f)
			require.NoError(t, errors.Join(err, f.Close()))
			require.Equal(t, "in\n", string(data))
			for _, name := range []string{"link", "dir-link/inner"} {
				f, err := reach.OpenResolved(fsys, path.Join(top, name))
				if err == nil { // some ways find out when they read
					_, err = io.ReadAll(f)
					f.Close()
				}
				require.ErrorIs(t, err, reach.ErrExchanged, name)
			}
			_, err = reach.OpenResolved(fsys, path.Join(top, "nothing"))
			require.ErrorIs(t, err, fs.ErrNotExist)
		}},
		{"Each", "a folder is listed name by name, and that can be ended", func(t *testing.T) {
			var names []string
			require.NoError(t, reach.EachEntry(context.Background(), fsys, top,
				func(e fs.DirEntry) error { names = append(names, e.Name()); return nil }))
			require.ElementsMatch(t, treeNames, names)
			enough := errors.New("enough")
			require.ErrorIs(t, reach.EachEntry(context.Background(), fsys, top, func(fs.DirEntry) error { return enough }), enough)
			require.ErrorIs(t, reach.EachEntry(context.Background(), fsys, path.Join(top, "nothing"),
				func(fs.DirEntry) error { return nil }), fs.ErrNotExist)
			require.Equal(t, "hello\n", read(t, fsys, path.Join(top, "plain")), "what was ended leaves the connection as it was")
		}},
	}
}

func runRules(s reach.System) []rule {
	return []rule{
		{"Run", "a command gives both streams and its exit code; a code other than 0 is no error", func(t *testing.T) {
			out, errOut, exit, err := run(t, s, context.Background(), "echo out; echo err >&2; exit 3")
			require.NoError(t, err)
			require.Equal(t, 3, exit)
			require.Equal(t, "out\n", out)
			require.Equal(t, "err\n", errOut)
			_, _, exit, err = run(t, s, context.Background(), "no-such-command-here")
			require.NoError(t, err)
			require.Equal(t, 127, exit)
		}},
		{"Stop", "a command that does not end is stopped in bounded time, and what it printed is there", func(t *testing.T) {
			r, ok := s.(reach.Runner)
			if !ok {
				t.Skip("this way runs no commands")
			}
			ctx, cancel := context.WithCancel(context.Background())
			defer cancel()
			// On a busy machine a shell may take seconds to begin, so what is bounded is the time from the stop, which is given
			// when the command has begun.
			var out, errOut bytes.Buffer
			var stopped time.Time
			begun := writerFunc(func(p []byte) (int, error) {
				if stopped.IsZero() {
					stopped = time.Now()
					cancel()
				}
				return out.Write(p)
			})
			_, err := r.Run(ctx, "echo begun; sleep 60", begun, &errOut)
			require.ErrorIs(t, err, context.Canceled)
			require.Equal(t, "begun\n", out.String())
			require.Less(t, time.Since(stopped), 3*reach.StopWait)
		}},
	}
}

// A writerFunc is a writer made of a function.
type writerFunc func(p []byte) (int, error)

func (w writerFunc) Write(p []byte) (int, error) { return w(p) }

func read(t *testing.T, fsys fs.FS, name string) string {
	t.Helper()
	f, err := fsys.Open(name)
	require.NoError(t, err)
	defer f.Close()
	data, err := io.ReadAll(f)
	require.NoError(t, err)
	return string(data)
}

func run(t *testing.T, s reach.System, ctx context.Context, command string) (out, errOut string, exit int, err error) {
	t.Helper()
	r, ok := s.(reach.Runner)
	if !ok {
		t.Skip("this way runs no commands")
	}
	var o, e bytes.Buffer
	exit, err = r.Run(ctx, command, &o, &e)
	if err != nil && !errors.Is(err, context.DeadlineExceeded) {
		t.Log(err)
	}
	return o.String(), e.String(), exit, err
}
