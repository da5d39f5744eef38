//go:build !windows

package collect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/collect/transfer"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
)

// broken is a system of which one call is a mistake of ours.
type broken struct {
	reach.System
	fsys brokenFS
}

type brokenFS struct {
	reach.FS
	in string // which call
}

func (b broken) FS() reach.FS { return b.fsys }

func (b brokenFS) Lstat(name string) (fs.FileInfo, error) {
	if b.in == "lstat" {
		panic("made for the test")
	}
	return b.FS.Lstat(name)
}

func (b brokenFS) ReadDir(name string) ([]fs.DirEntry, error) {
	if b.in == "list" {
		panic("made for the test")
	}
	return b.FS.ReadDir(name)
}

func (b brokenFS) Open(name string) (fs.File, error) {
	if b.in == "open" && !strings.HasPrefix(name, "etc/") && !strings.HasPrefix(name, "proc/") {
		panic("made for the test")
	}
	return b.FS.Open(name)
}

// A mistake of ours on one system, wherever it is met, is that system's failure, and says that it wants to be reported.
func TestAPanicIsOneSystemsFailure(t *testing.T) {
	for _, in := range []string{"lstat", "list", "open"} {
		t.Run(in, func(t *testing.T) {
			b := newBench(t, 40)
			s, err := site.Parse("s.yaml", []byte("site: s\nsystems: [{name: one, local: true}, {name: two, local: true}]\n"))
			require.NoError(t, err)
			b.c.Site = s
			b.c.Open = func(_ context.Context, s *site.System) (reach.System, error) {
				local := reach.NewLocal(b.root)
				if s.Name == "one" {
					return broken{local, brokenFS{local.FS(), in}}, nil
				}
				return local, nil
			}
			r, err := b.c.Run(context.Background(), b.w, "", "test")
			require.NoError(t, err)
			for _, cell := range r.Coverage {
				if cell.Item != "log" {
					continue
				}
				if cell.System == "two" {
					require.Equal(t, round.Taken, cell.State)
					require.Equal(t, 40, cell.Files)
					continue
				}
				if in != "lstat" { // nothing of these patterns is asked for by lstat on the way of the other
					require.Equal(t, round.Failed, cell.State)
					require.Contains(t, cell.Reason, "please report it")
				}
			}
		})
	}
}

// However long the reasons of however many systems are, the round ends, and the whole texts are kept.
func TestReasonsAreBounded(t *testing.T) {
	b := newBench(t, 1)
	var text strings.Builder
	text.WriteString("site: s\nsystems:\n")
	for i := range 200 {
		fmt.Fprintf(&text, "  - {name: gate-%d, local: true}\n", i)
	}
	s, err := site.Parse("s.yaml", []byte(text.String()))
	require.NoError(t, err)
	b.c.Site, b.c.Jobs = s, 50
	endless := strings.Repeat("the server says much ", 5000)
	b.c.Open = func(context.Context, *site.System) (reach.System, error) { return nil, errors.New(endless) }
	r, err := b.c.Run(context.Background(), b.w, "", "test")
	require.NoError(t, err)
	require.True(t, r.Finished())
	for _, cell := range r.Coverage {
		require.Equal(t, round.Failed, cell.State)
		require.LessOrEqual(t, len(cell.Reason), round.MaxReason)
		require.Contains(t, cell.Reason, "rounds/r1/reasons.jsonl")
	}
	whole, err := os.ReadFile(filepath.Join(b.w.RoundDir("r1"), "reasons.jsonl"))
	require.NoError(t, err)
	require.Contains(t, string(whole), endless)
	info, err := os.Stat(filepath.Join(b.w.Dir, "ledger.jsonl"))
	require.NoError(t, err)
	require.Less(t, info.Size(), int64(4096), "the ledger holds digests")
}

// A file with holes keeps them, and counts by what it takes; one of terabytes fails alone.
func TestSparseFiles(t *testing.T) {
	f := newField(t)
	file := filepath.Join(f.dir, "lastlog")
	out, err := os.Create(file)
	require.NoError(t, err)
	_, err = out.WriteAt([]byte("in the middle"), 40<<20)
	require.NoError(t, errors.Join(err, out.Truncate(96<<20), out.Close()))
	huge := filepath.Join(f.dir, "huge")
	require.NoError(t, os.WriteFile(huge, []byte("a little"), 0o600))
	if err := os.Truncate(huge, 2<<40); err != nil {
		t.Skip("this disk has no files of 2 TiB")
	}
	f.free = 1 << 30
	r, err := f.collect(context.Background(), "  - {id: sparse, files: ["+f.dir+"/lastlog], cut: none}\n  - {id: huge, files: ["+f.dir+"/huge], cut: none}\n  - {id: state, run: echo fine}\n")
	require.NoError(t, err)
	require.Equal(t, []round.State{round.Taken, round.Failed, round.Taken}, []round.State{r.Coverage[0].State, r.Coverage[1].State, r.Coverage[2].State})
	require.Contains(t, r.Coverage[1].Reason, "a sparse file of 2.0 TiB")
	taken := filepath.Join(r.RawDir(), "desk", "files", file)
	info, err := os.Stat(taken)
	require.NoError(t, err)
	require.Equal(t, int64(96<<20), info.Size())
	occupied, known := reach.Occupied(info)
	require.True(t, known)
	require.Less(t, occupied, int64(4<<20))
	in, err := os.Open(taken)
	require.NoError(t, err)
	defer in.Close()
	got := make([]byte, 13)
	_, err = in.ReadAt(got, 40<<20)
	require.NoError(t, err)
	require.Equal(t, "in the middle", string(got))
}

// A path that is longer than ours may be is taken under a shorter name, and says its whole one.
func TestLongPaths(t *testing.T) {
	f := newField(t)
	dir := f.dir
	for range 8 {
		dir = filepath.Join(dir, strings.Repeat("deep", 45))
	}
	require.NoError(t, os.MkdirAll(dir, 0o755))
	for _, name := range []string{"one.log", "two.log"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o600))
	}
	r, err := f.collect(context.Background(), "  - {id: deep, files: ['"+f.dir+"/**/*.log'], cut: none}\n")
	require.NoError(t, err)
	require.Equal(t, round.Taken, r.Coverage[0].State)
	require.Equal(t, 2, r.Coverage[0].Files)
	require.NoError(t, r.Entries(func(e round.Entry) error {
		require.LessOrEqual(t, len(e.Name), maxTarget)
		require.Contains(t, e.Source, dir)
		data, err := os.ReadFile(filepath.Join(r.RawDir(), e.System, e.Name))
		require.Equal(t, filepath.Base(e.Source), string(data))
		return err
	}))
}

func TestShortTarget(t *testing.T) {
	long := "files/" + strings.Repeat("folder/", 300) + "gate.log"
	short := shortTarget(long)
	require.LessOrEqual(t, len(short), maxTarget)
	require.True(t, strings.HasPrefix(short, "files/folder/") && strings.HasSuffix(short, "/gate.log"), short)
	require.NotEqual(t, short, shortTarget("files/other/"+long[6:]))
	require.Equal(t, "files/gate.log", shortTarget("files/gate.log"))
}

func TestOursSortsFailures(t *testing.T) {
	require.NoError(t, transfer.Ours(nil))
	for err, local := range map[error]bool{
		&fs.PathError{Op: "write", Path: "x", Err: syscall.ENOSPC}: false, &fs.PathError{Op: "open", Path: "x", Err: syscall.ENAMETOOLONG}: false,
		&fs.PathError{Op: "open", Path: "x", Err: syscall.EROFS}: true, errors.New("what"): true,
	} {
		got := transfer.Ours(err)
		require.Equal(t, local, transfer.IsLocal(got), "%v", err)
		require.Equal(t, got, transfer.Ours(got), "it stays what it is")
		if !local {
			require.NotContains(t, got.Error(), "open x")
		}
	}
}

// A folder of a million names is gone through name by name: only what matches is kept.
func TestAMillionNames(t *testing.T) {
	many := manyNames{n: 1_000_000}
	found := 0
	x := &expander{ctx: context.Background(), fsys: many, seen: map[string]bool{}, found: func(string, fs.FileInfo) { found++ }, problem: func(name string, err error) { t.Fatal(name, err) }}
	require.NoError(t, x.expand("/spool/*00000.job"))
	require.Equal(t, 10, found)
	many.n = 3_000_000
	var problem error
	x = &expander{ctx: context.Background(), fsys: many, seen: map[string]bool{}, found: func(string, fs.FileInfo) {}, problem: func(_ string, err error) { problem = err }}
	require.NoError(t, x.expand("/spool/none"+"*"))
	require.ErrorIs(t, problem, reach.ErrManyNames)
}

// manyNames is a file system with one folder of many names, which it never holds at once.
type manyNames struct {
	reach.FS
	n int
}

func (m manyNames) Lstat(name string) (fs.FileInfo, error) { return nameInfo(name), nil }

func (m manyNames) EachEntry(_ context.Context, _ string, each func(fs.DirEntry) error) error {
	for i := range m.n {
		if err := each(fs.FileInfoToDirEntry(nameInfo(fmt.Sprintf("%07d.job", i)))); err != nil {
			return err
		}
	}
	return nil
}

func (m manyNames) Open(string) (fs.File, error) { return nil, io.EOF }

type nameInfo string

func (n nameInfo) Name() string       { return string(n) }
func (n nameInfo) Size() int64        { return 1 }
func (n nameInfo) Mode() fs.FileMode  { return 0 }
func (n nameInfo) ModTime() time.Time { return time.Time{} }
func (n nameInfo) IsDir() bool        { return n == "spool" }
func (n nameInfo) Sys() any           { return nil }
