//go:build !windows

package collect

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/reach"
	"envask/internal/round"
)

// cutting is a file system whose files break off after some bytes, as often as the test wants, and that counts what is read.
type cutting struct {
	reach.FS
	mu   sync.Mutex
	cuts int   // so many times yet
	at   int64 // after so many bytes
	read atomic.Int64
	died func()
}

func (c *cutting) Open(name string) (fs.File, error) {
	f, err := c.FS.Open(name)
	if err != nil {
		return nil, err
	}
	return &cutFile{File: f, fsys: c}, nil
}

type cutFile struct {
	fs.File
	fsys *cutting
	n    int64
}

func (f *cutFile) Read(b []byte) (int, error) {
	if len(b) > 32<<10 {
		b = b[:32<<10]
	}
	n, err := f.File.Read(b)
	f.fsys.read.Add(int64(n))
	f.n += int64(n)
	f.fsys.mu.Lock()
	defer f.fsys.mu.Unlock()
	if f.fsys.cuts > 0 && f.n > f.fsys.at {
		f.fsys.cuts--
		f.fsys.died()
		return n, errors.Join(reach.ErrLost, errors.New("cut off"))
	}
	return n, err
}

func (f *cutFile) Seek(off int64, whence int) (int64, error) {
	return f.File.(io.Seeker).Seek(off, whence)
}

func (f *cutFile) ReadAt(b []byte, off int64) (int, error) {
	return f.File.(io.ReaderAt).ReadAt(b, off)
}

// fragile is a system whose connection is gone once a file broke off.
type fragile struct {
	*reach.Local
	fsys reach.FS
	gone atomic.Bool
}

func (f *fragile) FS() reach.FS { return f.fsys }
func (f *fragile) Lost() error {
	if f.gone.Load() {
		return fmt.Errorf("%w: cut off", reach.ErrLost)
	}
	return nil
}

// cutField gives a field whose files break off.
func cutField(t *testing.T, cuts int, at int64) (*field, *cutting) {
	f := newField(t)
	c := &cutting{FS: reach.NewLocal("").FS(), cuts: cuts, at: at}
	f.open = func() (reach.System, error) {
		s := &fragile{Local: reach.NewLocal(""), fsys: c}
		c.died = func() { s.gone.Store(true) }
		return s, nil
	}
	return f, c
}

func pattern(n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(i*7) ^ byte(i>>11)
	}
	return b
}

// A file that is cut off goes on from its last byte, when it is still the same; else it is taken anew.
func TestAFileGoesOnFromItsLastByte(t *testing.T) {
	const size = 8 << 20
	for name, c := range map[string]struct {
		cuts   int
		at     int64
		change func(t *testing.T, file string)
		most   int64 // bytes read in all
		want   func() []byte
		state  round.State
	}{
		"cut once":                             {1, 3 << 20, nil, size + 1<<20, func() []byte { return pattern(size) }, round.Taken},
		"cut twice":                            {2, 3 << 20, nil, size + 1<<20, func() []byte { return pattern(size) }, round.Taken},
		"cut again and again with progress":    {1000, 3 << 20, nil, size + 1<<20, func() []byte { return pattern(size) }, round.Taken},
		"cut again and again without progress": {1000, 300 << 10, nil, 0, nil, round.Failed},
		"it grew meanwhile": {1, 3 << 20, func(t *testing.T, file string) {
			require.NoError(t, os.WriteFile(file, append(pattern(size), "more"...), 0o600))
		}, size + 1<<20, func() []byte { return pattern(size) }, round.Taken},
		"another file meanwhile": {1, 3 << 20, func(t *testing.T, file string) {
			require.NoError(t, os.WriteFile(file, bytes.Repeat([]byte("other"), size/4), 0o600))
		}, 3 * size, func() []byte { return bytes.Repeat([]byte("other"), size/4) }, round.Taken},
	} {
		t.Run(name, func(t *testing.T) {
			f, fsys := cutField(t, c.cuts, c.at)
			file := filepath.Join(f.dir, "dump")
			require.NoError(t, os.WriteFile(file, pattern(size), 0o600))
			f.cancel = func(e Event) {
				if e.Kind == Retrying && c.change != nil {
					time.Sleep(20 * time.Millisecond) // so that its time is another
					c.change(t, file)
				}
			}
			r, err := f.collect(context.Background(), "  - {id: dump, files: ["+file+"], cut: none}\n")
			require.NoError(t, err)
			require.Equal(t, c.state, r.Coverage[0].State, r.Coverage[0].Reason)
			if c.want == nil {
				return
			}
			data, err := os.ReadFile(filepath.Join(r.RawDir(), "desk", "files", file))
			require.NoError(t, err)
			require.True(t, bytes.Equal(c.want(), data))
			require.LessOrEqual(t, fsys.read.Load(), c.most, "bytes that travelled")
			require.NoDirExists(t, r.PartDir())
		})
	}
}

// An interrupted run leaves the part, and the next one goes on with it.
func TestAnInterruptedFileGoesOn(t *testing.T) {
	f, fsys := cutField(t, 0, 0)
	file := filepath.Join(f.dir, "dump")
	require.NoError(t, os.WriteFile(file, pattern(16<<20), 0o600))
	items := "  - {id: dump, files: [" + file + "], cut: none}\n"
	ctx, cancel := context.WithCancel(context.Background())
	var got int64
	f.cancel = func(e Event) {
		if got += e.Bytes; got > 9<<20 {
			cancel()
		}
	}
	_, err := f.collect(ctx, items)
	require.ErrorIs(t, err, context.Canceled)
	before := fsys.read.Load()
	f.cancel = nil
	r, err := f.collect(context.Background(), items)
	require.NoError(t, err)
	require.Equal(t, round.Taken, r.Coverage[0].State)
	require.Less(t, fsys.read.Load()-before, int64(8<<20), "the first half was there")
	data, err := os.ReadFile(filepath.Join(r.RawDir(), "desk", "files", file))
	require.NoError(t, err)
	require.True(t, bytes.Equal(pattern(16<<20), data))
}

// A file for which there is no room fails before the disk is full; the rest goes on.
func TestNoRoomForAFile(t *testing.T) {
	f := newField(t)
	require.NoError(t, os.WriteFile(filepath.Join(f.dir, "dump"), pattern(70<<20), 0o600))
	items := "  - {id: small, run: echo}\n  - {id: dump, files: [" + f.dir + "/dump], cut: none}\n"
	f.free = 100 << 20
	r, err := f.collect(context.Background(), items)
	require.NoError(t, err)
	require.Equal(t, round.Taken, r.Coverage[0].State)
	require.Equal(t, round.Failed, r.Coverage[1].State)
	require.Contains(t, r.Coverage[1].Reason, "it takes 70 MiB, and only 100 MiB are free); make room, then run: envask collect --missing")
	f.free = 1 << 30
	r, err = f.collect(context.Background(), items)
	require.NoError(t, err)
	require.Equal(t, round.Taken, r.Coverage[1].State)
}

// A small file that is changed while it is read is read anew; one that never rests is marked.
func TestAFileThatChangesWhileItIsRead(t *testing.T) {
	f := newField(t)
	file := filepath.Join(f.dir, "state")
	writes := 0
	most := 1
	f.cancel = func(e Event) {
		if e.Kind == Progress && e.Bytes > 0 && writes < most {
			writes++
			time.Sleep(15 * time.Millisecond)
			require.NoError(t, os.WriteFile(file, bytes.Repeat([]byte{'a' + byte(writes%20)}, 5000), 0o600))
		}
	}
	require.NoError(t, os.WriteFile(file, bytes.Repeat([]byte("-"), 5000), 0o600))
	items := "  - {id: state, files: [" + file + "], cut: none}\n"
	round, err := f.collect(context.Background(), items)
	require.NoError(t, err)
	require.Contains(t, f.entries(round)[file].Reason, "read again")
	data, err := os.ReadFile(filepath.Join(round.RawDir(), "desk", "files", file))
	require.NoError(t, err)
	require.Equal(t, string(bytes.Repeat([]byte("b"), 5000)), string(data))

	most = 100
	round, err = f.collect(context.Background(), items+"  - {id: other, run: echo}\n")
	require.NoError(t, err)
	require.Contains(t, f.entries(round)[file].Reason, "may mix two states")
}

// What may heal is tried again after a while, what will not is not.
func TestRetries(t *testing.T) {
	for err, tries := range map[error]int{reach.ErrConnection: 3, fmt.Errorf("%w: reset", reach.ErrLost): 3, reach.ErrLogin: 1, reach.ErrHostKey: 1,
		fmt.Errorf("%w: %w", reach.ErrConnection, reach.ErrSilent): 1} {
		f := newField(t)
		opens := 0
		f.open = func() (reach.System, error) { opens++; return nil, err }
		r, e := f.collect(context.Background(), "  - {id: x, run: echo}\n  - {id: y, run: echo}\n")
		require.NoError(t, e)
		require.Equal(t, tries, opens, "%v", err)
		require.NotEqual(t, round.Taken, r.Coverage[1].State)

		opens = 0
		f.open = func() (reach.System, error) {
			if opens++; opens < 3 {
				return nil, err
			}
			return reach.NewLocal(""), nil
		}
		r, e = f.collect(context.Background(), "  - {id: x, run: echo}\n")
		require.NoError(t, e)
		require.Equal(t, tries == 3, r.Coverage[0].State == round.Taken, "%v", err)
	}
}

// Limits of time and bytes stop a system honestly, and what is required or soon gone comes first.
func TestLimitsOfASystem(t *testing.T) {
	f := newField(t)
	f.system = ", limits: {time: 700ms, bytes: 100kB}"
	for _, n := range []string{"a", "b"} {
		require.NoError(t, os.WriteFile(filepath.Join(f.dir, n), pattern(60_000), 0o600))
	}
	r, err := f.collect(context.Background(), "  - {id: files, files: ["+f.dir+"/*], cut: none}\n  - {id: long, run: sleep 5}\n  - {id: after, run: echo}\n")
	require.NoError(t, err)
	require.Equal(t, []round.State{round.Taken, round.TimedOut, round.TimedOut}, []round.State{r.Coverage[0].State, r.Coverage[1].State, r.Coverage[2].State})
	require.Equal(t, 1, r.Coverage[0].Files)
	require.Contains(t, r.Coverage[0].Reason, "beyond the system's budget of 98 KiB")
	require.Contains(t, r.Coverage[1].Reason, "stopped: the time limit of the system is over")
	require.Contains(t, r.Coverage[2].Reason, "not begun: the time limit of the system is over")

	// While a person is asked, limits of time stand still.
	f.system, f.within = ", limits: {time: 300ms}", 300*time.Millisecond
	f.open = func() (reach.System, error) {
		defer f.patience.Pause()()
		time.Sleep(800 * time.Millisecond)
		return reach.NewLocal("").WithEnv(os.Environ()), nil
	}
	r, err = f.collect(context.Background(), "  - {id: quick, run: echo here}\n")
	require.NoError(t, err)
	require.Equal(t, round.Taken, r.Coverage[0].State, r.Coverage[0].Reason)
	f.open = func() (reach.System, error) { return reach.NewLocal("").WithEnv(os.Environ()), nil }

	f.system, f.within = "", 600*time.Millisecond
	r, err = f.collect(context.Background(), "  - {id: last, run: sleep 5}\n  - {id: needed, run: echo here, required: true}\n  - {id: gone, run: echo, volatile: true}\n")
	require.NoError(t, err)
	require.Equal(t, []round.State{round.TimedOut, round.Taken, round.Taken}, []round.State{r.Coverage[0].State, r.Coverage[1].State, r.Coverage[2].State})
}
