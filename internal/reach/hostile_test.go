//go:build !windows

package reach_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"envask/internal/reach"
	"envask/internal/reach/reachtest"
	"envask/internal/standin"
)

// A hostile SFTP server: each row is one thing that a server does to a reader. Whatever it does, every call ends within bounds, with
// an error or with what is true. To add an attack, add a row.
func TestHostileSFTP(t *testing.T) {
	type answers = map[byte]func(uint32) []byte
	const file = 0o100644
	attrs := func(size uint64) func(uint32) []byte {
		return func(id uint32) []byte { return reachtest.Packet(reachtest.FXPAttrs, id, reachtest.Attrs(size, file)) }
	}
	names := func(list ...string) answers {
		sent := false
		return answers{reachtest.FXPReaddir: func(id uint32) []byte {
			if sent {
				return reachtest.Packet(reachtest.FXPStatus, id, 1, "", "")
			}
			sent = true
			return reachtest.Names(id, reachtest.Attrs(31, file), list...)
		}}
	}
	for _, c := range []struct {
		name    string
		answers answers
		list    string // what a listing gives, or its error
		read    string // the same of reading the file
	}{
		{"honest", nil, "a.log", reachtest.Content},
		{"a size of 2^63", answers{reachtest.FXPLstat: attrs(1 << 63)}, "a.log", "cannot be"},
		{"a size of -5", answers{reachtest.FXPLstat: attrs(1<<64 - 5)}, "a.log", "cannot be"},
		{"a size of -5 of what is open", answers{reachtest.FXPFstat: attrs(1<<64 - 5)}, "a.log", "cannot be"},
		{"a size of 2^63-1 of what is open", answers{reachtest.FXPFstat: attrs(1<<63 - 1)}, "a.log", "cannot be"},
		{"sizes of -5 in a listing", answers{reachtest.FXPReaddir: once(func(id uint32) []byte { return reachtest.Names(id, reachtest.Attrs(1<<64-5, file), "a.log") })}, "a.log", reachtest.Content},
		{"a listing without end", answers{reachtest.FXPReaddir: func(id uint32) []byte {
			return reachtest.Names(id, reachtest.Attrs(31, file), repeated(2000)...)
		}}, "more than", reachtest.Content},
		{"a listing of empty answers without end", answers{reachtest.FXPReaddir: func(id uint32) []byte { return reachtest.Names(id, nil) }}, "sends nothing but empty lists", reachtest.Content},
		{"names that lead elsewhere", names("../../etc/passwd", "/etc/passwd", "..", ".", "", "a\x00b", "x/y", "a.log"), "a.log", reachtest.Content},
		{"a name of 200 kB", names(strings.Repeat("x", 200_000), "a.log"), "a.log", reachtest.Content},
		{"more names than it says", answers{reachtest.FXPReaddir: once(func(id uint32) []byte {
			return reachtest.Packet(reachtest.FXPName, id, 1, "a.log", "", reachtest.Attrs(31, file), "b.log", "", reachtest.Attrs(31, file))
		})}, "a.log", reachtest.Content},
		{"fewer names than it says", answers{reachtest.FXPReaddir: once(func(id uint32) []byte {
			return reachtest.Packet(reachtest.FXPName, id, 1<<31-1, "a.log", "", reachtest.Attrs(31, file))
		})}, "not SFTP", reachtest.Content},
		{"a packet of 4 GiB", answers{reachtest.FXPReaddir: func(id uint32) []byte {
			return append([]byte{0xff, 0xff, 0xff, 0xff}, reachtest.Names(id, nil, "a.log")[4:]...)
		}}, "", ""},
		{"a packet of no bytes", answers{reachtest.FXPLstat: func(uint32) []byte { return []byte{0, 0, 0, 0, 0, 0, 0, 0, 0, 0} }}, "a.log", ""},
		{"answers that nobody asked for", answers{reachtest.FXPLstat: func(id uint32) []byte { return reachtest.Packet(reachtest.FXPAttrs, id+99, reachtest.Attrs(1, file)) }}, "a.log", ""},
		{"names instead of attributes", answers{reachtest.FXPLstat: func(id uint32) []byte { return reachtest.Names(id, reachtest.Attrs(1, file), "x") }}, "a.log", ""},
		{"more content than was asked for", answers{reachtest.FXPRead: func(id uint32) []byte { return reachtest.Packet(reachtest.FXPData, id, strings.Repeat("x", 200_000)) }}, "a.log", ""},
		{"content that never ends", answers{reachtest.FXPRead: func(id uint32) []byte { return reachtest.Packet(reachtest.FXPData, id, "x") }}, "a.log", ""},
		{"empty content without end", answers{reachtest.FXPRead: func(id uint32) []byte { return reachtest.Packet(reachtest.FXPData, id, "") }}, "a.log", ""},
		{"lstat without an answer", answers{reachtest.FXPLstat: nil}, "a.log", silence},
		{"open without an answer", answers{reachtest.FXPOpen: nil}, "a.log", silence},
		{"read without an answer", answers{reachtest.FXPRead: nil}, "a.log", silence},
		{"readdir without an answer", answers{reachtest.FXPReaddir: nil}, silence, ""},
		{"another file is open than stands there", answers{reachtest.FXPFstat: func(id uint32) []byte {
			return reachtest.Packet(reachtest.FXPAttrs, id, reachtest.Attrs(31, 0o100600))
		}}, "a.log", "exchanged"},
		{"a link was there for a moment, and then nothing", answers{reachtest.FXPLstat: thenGone(0), reachtest.FXPFstat: func(id uint32) []byte {
			return reachtest.Packet(reachtest.FXPAttrs, id, reachtest.Attrs(31, 0o100600))
		}}, "a.log", "exchanged"},
		{"the file is gone, and the folder became a link", answers{reachtest.FXPLstat: thenGone(0o120777)}, "a.log", "exchanged"},
		{"the log was rotated away once it was open", answers{reachtest.FXPLstat: thenGone(0)}, "a.log", reachtest.Content},
		{"the folder became a link", answers{reachtest.FXPLstat: func() func(id uint32) []byte {
			n := 0
			return func(id uint32) []byte {
				if n++; n == 1 {
					return reachtest.Packet(reachtest.FXPAttrs, id, reachtest.Attrs(31, file))
				}
				return reachtest.Packet(reachtest.FXPAttrs, id, reachtest.Attrs(31, 0o120777))
			}
		}()}, "a.log", "exchanged"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := hostileSystem(t, reachtest.Wire{Answer: c.answers})
			done := make(chan struct{})
			go func() {
				defer close(done)
				var found []string
				err := reach.EachEntry(context.Background(), s.FS(), "log", func(e fs.DirEntry) error {
					found = append(found, e.Name())
					if info, err := e.Info(); err == nil {
						require.GreaterOrEqual(t, info.Size(), int64(0))
					}
					return nil
				})
				check(t, s, c.list, strings.Join(found, " "), err)
				text, err := readResolved(s.FS(), "log/a.log")
				check(t, s, c.read, text, err)
			}()
			select {
			case <-done:
			case <-time.After(60 * time.Second):
				t.Fatal("it does not end")
			}
		})
	}
}

// silence is what is wanted of a call whose answer never comes.
const silence = "no sign of life"

// check wants a text, or an error with it; "" is anything but a hang.
func check(t *testing.T, s reach.System, want, got string, err error) {
	t.Helper()
	switch {
	case want == "":
	case want == silence:
		require.Error(t, err)
		require.ErrorIs(t, s.(reach.Health).Lost(), reach.ErrSilent)
	case err != nil:
		require.ErrorContains(t, err, want)
	default:
		require.Contains(t, got, want)
	}
}

func repeated(n int) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = "name-of-some-length.log"
	}
	return out
}

// thenGone answers for the file, then that nothing is there, and from then on with a mode; 0 is that nothing is there.
func thenGone(mode uint32) func(uint32) []byte {
	n := 0
	return func(id uint32) []byte {
		switch n++; {
		case n == 1:
			return reachtest.Packet(reachtest.FXPAttrs, id, reachtest.Attrs(31, 0o100644))
		case n > 2 && mode != 0:
			return reachtest.Packet(reachtest.FXPAttrs, id, reachtest.Attrs(31, mode))
		}
		return reachtest.Packet(reachtest.FXPStatus, id, 2, "", "")
	}
}

// once answers a listing once, and then that it is at its end.
func once(answer func(uint32) []byte) func(uint32) []byte {
	sent := false
	return func(id uint32) []byte {
		if sent {
			return reachtest.Packet(reachtest.FXPStatus, id, 1, "", "")
		}
		sent = true
		return answer(id)
	}
}

func readResolved(fsys reach.FS, name string) (string, error) {
	f, err := reach.OpenResolved(fsys, name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if _, err := f.Stat(); err != nil {
		return "", err
	}
	data, err := io.ReadAll(io.LimitReader(f, 4096))
	return string(data), err
}

// hostileSystem reaches a system whose SFTP is served by a Wire.
func hostileSystem(t *testing.T, w reachtest.Wire) reach.System {
	t.Helper()
	_, d, system := standIn(t, func(s *standin.Server) { s.Raw = w.Serve })
	system.Stall = 2 * time.Second
	sys, err := d.Open(context.Background(), system)
	require.NoError(t, err)
	t.Cleanup(func() { sys.Close() })
	return sys
}

// exchange exchanges what stands under a name for a link and back, as fast as it can, until the test is over.
func exchange(t *testing.T, name, link string) (stop func()) {
	t.Helper()
	aside := name + ".aside"
	quit := make(chan struct{})
	var wg sync.WaitGroup
	wg.Add(1)
	go func() {
		defer wg.Done()
		for {
			select {
			case <-quit:
				return
			default:
			}
			_ = os.Rename(name, aside)
			_ = os.Symlink(link, name)
			runtime.Gosched()
			_ = os.Remove(name)
			_ = os.Rename(aside, name)
		}
	}()
	return func() { close(quit); wg.Wait() }
}

// A log, or a folder above it, is exchanged for a link while it is read: what is read is the log, or nothing.
func TestReadingRaces(t *testing.T) {
	sh := func(ctx context.Context, command string, out, errOut io.Writer) (int, error) {
		cmd := exec.CommandContext(ctx, "sh", "-c", command)
		cmd.Stdout, cmd.Stderr = out, errOut
		err := cmd.Run()
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			return exit.ExitCode(), nil
		}
		return 0, err
	}
	ways := map[string]struct {
		fsys  func(t *testing.T) reach.FS
		tries int
	}{
		"local":    {func(*testing.T) reach.FS { return reach.NewLocal("").FS() }, 3000},
		"walk":     {func(*testing.T) reach.FS { return reach.WalkedLocal{} }, 3000},
		"elevated": {func(t *testing.T) reach.FS { return reach.ElevatedShell(t.Context(), sh, "env") }, 60},
	}
	for way, w := range ways {
		for _, what := range []string{"the log", "the folder above"} {
			t.Run(way+" "+what, func(t *testing.T) {
				dir, err := filepath.EvalSymlinks(t.TempDir())
				require.NoError(t, err)
				for name, text := range map[string]string{"log/gate/a.log": "the log\n", "secret/a.log": "THE SECRET\n"} {
					require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
					require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
				}
				target, link := filepath.Join(dir, "log/gate/a.log"), filepath.Join(dir, "secret/a.log")
				if what != "the log" {
					target, link = filepath.Join(dir, "log/gate"), filepath.Join(dir, "secret")
				}
				fsys := w.fsys(t)
				defer exchange(t, target, link)()
				read, refused := 0, 0
				for range w.tries {
					text, err := readResolved(fsys, reach.Name(filepath.Join(dir, "log/gate/a.log")))
					require.NotContains(t, text, "SECRET")
					switch {
					case err == nil && text != "":
						read++
					case errors.Is(err, reach.ErrExchanged):
						refused++
					}
				}
				t.Logf("%d times the log was read, %d times it was refused, of %d", read, refused, w.tries)
			})
		}
	}
}

func FuzzSFTPNames(f *testing.F) {
	f.Add(reachtest.Names(7, reachtest.Attrs(31, 0o100644), "a.log", "b")[9:])
	f.Add([]byte{0xff, 0xff, 0xff, 0xff})
	f.Fuzz(func(t *testing.T, body []byte) {
		n := 0
		_ = reach.EachSFTPName(body, func(info fs.FileInfo) error {
			if n++; n > 1<<16 {
				t.Fatal("more names than bytes")
			}
			_, _ = info.Mode(), info.ModTime()
			return nil
		})
	})
}

func FuzzShellListing(f *testing.F) {
	f.Add("/81a4 6 1773468720 17 ./plain/\n/41ed 0 0 1 ./d/\n")
	f.Add("/81a4 -5 2 3 ./two\nlines/\n")
	f.Add("/81a4 9223372036854775808 2 3 ./x/\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, ls := range []bool{false, true} {
			_, _ = reach.ParseStat(text, ls)
		}
	})
}

// What a listing prints is read as it comes: one without end neither fills the memory nor holds us.
func TestEndlessShellListing(t *testing.T) {
	line := []byte("/81a4 6 1773468720 17 ./name-of-some-length.log/\n")
	endless := func(ctx context.Context, command string, out, _ io.Writer) (int, error) {
		mark := command[strings.Index(command, "envask-"):][:len("envask-")+16]
		if strings.Contains(command, "echo tools") {
			_, _ = io.WriteString(out, mark+"\ntools\nstyle0\n")
			return 0, nil
		}
		_, _ = io.WriteString(out, mark+"\n")
		many := bytes.Repeat(line, 2000)
		for ctx.Err() == nil {
			if _, err := out.Write(many); err != nil {
				return 1, nil
			}
		}
		return -1, ctx.Err()
	}
	fsys := reach.ElevatedShell(t.Context(), endless, "")
	n := 0
	err := reach.EachEntry(context.Background(), fsys, "log", func(fs.DirEntry) error { n++; return nil })
	require.ErrorIs(t, err, reach.ErrManyNames)
	require.Positive(t, n)
}
