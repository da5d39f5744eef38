package durable

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// asideEnding ends the names of files that are not whole yet. They begin with a dot.
const asideEnding = ".tmp"

// WriteFile writes a file so that its name only ever holds whole content: written aside, flushed, renamed, and the folder
// flushed. What stands aside is removed on failure; what a kill leaves there, Sweep removes.
func WriteFile(name string, data []byte, perm os.FileMode) error {
	return Write(name, perm, func(w io.Writer) error {
		_, err := w.Write(data)
		return err
	})
}

// Write is WriteFile for content that is made as it is written.
func Write(name string, perm os.FileMode, fill func(io.Writer) error) error {
	dir := filepath.Dir(name)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(dir, "."+filepath.Base(name)+".*"+asideEnding)
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) // fails harmlessly after the rename
	hold(f)
	err = fill(f)
	if err == nil {
		err = f.Chmod(perm)
	}
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	Point("before " + filepath.Base(name))
	if err := os.Rename(f.Name(), name); err != nil {
		return err
	}
	Point("after " + filepath.Base(name))
	return SyncDir(dir)
}

// OpenRegular opens a regular file for reading. Anything else is refused before it is opened: a FIFO or a device would hold us, where
// no signal reaches.
func OpenRegular(name string) (*os.File, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return nil, fmt.Errorf("%s is a folder; name files", name)
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is not a regular file", name)
	}
	return os.Open(name)
}

// SyncDir flushes a folder, so that a rename in it survives a power cut. Windows has no such call and needs none.
func SyncDir(dir string) error {
	if runtime.GOOS == "windows" {
		return nil
	}
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// Sweep removes what killed runs of WriteFile left in a folder. Only one process at a time may write there.
func Sweep(dir string) error { return sweep(dir, func(string) bool { return true }) }

// SweepShared does the same in a folder where several processes may write: what one of them still writes is left.
func SweepShared(dir string) error {
	return sweep(dir, func(name string) bool {
		info, err := os.Lstat(name)
		return err == nil && time.Since(info.ModTime()) > justBegun && orphaned(name)
	})
}

// justBegun is how long a file may be there before its writer holds it.
const justBegun = 2 * time.Second

func sweep(dir string, goes func(name string) bool) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Type().IsRegular() && strings.HasPrefix(e.Name(), ".") && strings.HasSuffix(e.Name(), asideEnding) &&
			goes(filepath.Join(dir, e.Name())) {
			err = errors.Join(err, os.Remove(filepath.Join(dir, e.Name())))
		}
	}
	return err
}

// FileSum gives the SHA-256 of a file, in hex, unless the context ends before.
func FileSum(ctx context.Context, name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return Sum(ctx, f)
}

// Sum gives the SHA-256 of what a reader gives to its end, in hex, unless the context ends before.
func Sum(ctx context.Context, r io.Reader) (string, error) {
	h := sha256.New()
	if _, err := io.Copy(h, Until(ctx, r)); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// Until gives a reader that stops with the context's error when that ends.
func Until(ctx context.Context, r io.Reader) io.Reader { return &untilEnd{ctx, r, nil} }

// Told is Until, and says how many bytes each read gave to whom it may concern (told may be nil).
func Told(ctx context.Context, r io.Reader, told func(bytes int64)) io.Reader {
	return &untilEnd{ctx, r, told}
}

type untilEnd struct {
	ctx  context.Context
	r    io.Reader
	told func(int64)
}

func (u *untilEnd) Read(b []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := u.r.Read(b)
	if n > 0 && u.told != nil {
		u.told(int64(n))
	}
	return n, err
}

// maxName is the longest name of one file, in bytes: what every file system takes.
const maxName = 255

// PlainName says whether a name that was read from a file, an archive or a server can name one file of ours in one folder, and
// nothing else: no path, no device, no hidden file, nothing that a terminal would not show.
func PlainName(name string) error {
	switch {
	case name == "":
		return errors.New("an empty name")
	case len(name) > maxName:
		return fmt.Errorf("a name of %d bytes; %d at most", len(name), maxName)
	case !utf8.ValidString(name) || strings.ContainsFunc(name, func(r rune) bool {
		return unicode.IsControl(r) ||
			unicode.Is(unicode.Cf, r)
	}):
		return fmt.Errorf("%+q holds characters that cannot be shown", name)
	case strings.ContainsAny(name, `/\:`) || strings.HasPrefix(name, "."):
		return fmt.Errorf("%q is not the plain name of a file", name)
	}
	return nil
}

// LocalPath says whether a slash-separated path that was read from outside stays below the folder that it is used in.
func LocalPath(p string) error {
	if !fs.ValidPath(p) || p == "." || !filepath.IsLocal(filepath.FromSlash(p)) || strings.ContainsAny(p, "\\\x00") {
		return fmt.Errorf("%+q leads out of its folder", p)
	}
	return nil
}
