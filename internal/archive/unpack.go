package archive

import (
	"archive/tar"
	"archive/zip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"envask/internal/durable"
	"envask/internal/logset"
)

// Limits on unpacking a foreign archive. They guard against one that is made to fill a disk.
const (
	maxUnpackedFiles = 1_000_000
	maxUnpackedBytes = 200 << 30
	maxUnpackRatio   = 2000
)

// Unpack unpacks the plain files of any tar (also compressed) or zip archive below a folder, with their times. Links and
// special files are left out, and so is what a name would put elsewhere; skipped says how many.
func Unpack(ctx context.Context, file, dir string) (skipped int, err error) {
	f, err := durable.OpenRegular(file)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	u := &unpacking{ctx: ctx, dir: dir, left: min(maxUnpackedBytes, max(info.Size(), 1<<20)*maxUnpackRatio)}
	head := make([]byte, 4)
	n, _ := f.ReadAt(head, 0)
	if logset.PackingOf(head[:n]) == "zip" {
		err = u.zip(f, info.Size())
		return u.skipped, err
	}
	r, err := logset.Unpacked(logset.Content{Open: func() (io.ReadCloser, error) { return os.Open(file) }, Size: info.Size()})
	if err != nil {
		return 0, err
	}
	defer r.Close()
	err = u.tar(tar.NewReader(r))
	return u.skipped, err
}

type unpacking struct {
	ctx     context.Context
	dir     string
	left    int64
	files   int
	skipped int
}

func (u *unpacking) tar(tr *tar.Reader) error {
	for {
		h, err := tr.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("it is no archive, or a damaged one: %w", err)
		}
		if h.Typeflag != tar.TypeReg {
			if h.Typeflag != tar.TypeDir {
				u.skipped++
			}
			continue
		}
		if err := u.file(h.Name, h.ModTime, tr); err != nil {
			return err
		}
	}
}

func (u *unpacking) zip(f io.ReaderAt, size int64) error {
	z, err := zip.NewReader(f, size)
	if err != nil {
		return fmt.Errorf("it is no archive, or a damaged one: %w", err)
	}
	for _, e := range z.File {
		if !e.Mode().IsRegular() {
			if !e.Mode().IsDir() {
				u.skipped++
			}
			continue
		}
		r, err := e.Open()
		if err != nil {
			return err
		}
		if err := errors.Join(u.file(e.Name, e.Modified, r), r.Close()); err != nil {
			return err
		}
	}
	return nil
}

func (u *unpacking) file(name string, modified time.Time, r io.Reader) error {
	if err := u.ctx.Err(); err != nil {
		return err
	}
	name = path.Clean("/" + strings.ReplaceAll(name, `\`, "/"))[1:]
	if !fs.ValidPath(name) || name == "." || !filepath.IsLocal(filepath.FromSlash(name)) {
		u.skipped++
		return nil
	}
	if u.files++; u.files > maxUnpackedFiles {
		return fmt.Errorf("it holds more than %d files", maxUnpackedFiles)
	}
	target := filepath.Join(u.dir, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(target), 0o700); err != nil {
		return err
	}
	out, err := os.OpenFile(target, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, io.LimitReader(r, u.left+1))
	if err = errors.Join(err, out.Close()); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if u.left -= n; u.left < 0 {
		return errors.New("decompressed size exceeds the limit (possible decompression bomb)")
	}
	if modified.IsZero() {
		return nil
	}
	return os.Chtimes(target, time.Time{}, modified)
}
