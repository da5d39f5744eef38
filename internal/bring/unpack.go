package bring

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"envask/internal/durable"
	"envask/internal/logset"
)

// Limits of an archive that is opened: what it claims is looked at before anything is written, and what comes out is counted.
const (
	MaxMembers  = 100_000
	MaxUnpacked = 64 << 30 // bytes of all members
	maxRatio    = 200      // bytes out for each byte in, beyond freeRatio
	freeRatio   = 64 << 20 // bytes out that any archive may have
)

// BadArchiveError says why an archive is not opened.
type BadArchiveError struct{ Why string }

func (e *BadArchiveError) Error() string { return e.Why }

func bad(format string, args ...any) error { return &BadArchiveError{fmt.Sprintf(format, args...)} }

// unpacking writes the members of one archive.
type unpacking struct {
	ctx   context.Context
	dir   string
	in    int64 // bytes of the archive
	files int
	out   int64
}

// Unpack writes the regular files of an archive (zip, or tar in a compression that logs come in too) below a folder, and gives how many
// there are; 0 says that the file is no archive. Names that lead out of the folder are an error, and nothing of the archive is kept
// then. Links and special files stay out.
func Unpack(ctx context.Context, file, dir string) (files int, err error) {
	in, err := os.Open(file)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return 0, err
	}
	u := &unpacking{ctx: ctx, dir: dir, in: info.Size()}
	head := make([]byte, 4)
	if n, _ := in.ReadAt(head, 0); n == 4 && string(head) == "PK\x03\x04" {
		z, err := zip.NewReader(in, info.Size())
		if err != nil {
			return 0, bad("it is no whole zip archive (%v)", err)
		}
		return u.files, u.zip(z, &u.files)
	}
	r, end, err := logset.Plain(in)
	if err != nil {
		return 0, bad("it cannot be unpacked (%v)", err)
	}
	defer end()
	br := bufio.NewReaderSize(r, 1<<10)
	if head, _ := br.Peek(512); len(head) < 512 || !isTar(head) {
		return 0, nil
	}
	err = u.tar(tar.NewReader(br))
	return u.files, err
}

// isTar tells a tar header (POSIX.1-1988 ustar and what GNU makes of it).
func isTar(head []byte) bool { return string(head[257:262]) == "ustar" }

func (u *unpacking) zip(z *zip.Reader, files *int) error {
	for _, m := range z.File {
		if m.FileInfo().IsDir() || !m.Mode().IsRegular() {
			continue
		}
		if m.Flags&1 != 0 {
			return bad("%q in it is encrypted", m.Name)
		}
		r, err := m.Open()
		if err != nil {
			return bad("%q in it cannot be read (%v)", m.Name, err)
		}
		err = u.file(m.Name, r, m.Modified)
		r.Close()
		if err != nil {
			return err
		}
	}
	*files = u.files
	return nil
}

func (u *unpacking) tar(t *tar.Reader) error {
	for {
		h, err := t.Next()
		switch {
		case err == io.EOF:
			return nil
		case err != nil && u.ctx.Err() != nil:
			return u.ctx.Err()
		case err != nil:
			return bad("it is cut off or damaged after %d files (%v)", u.files, err)
		case h.Typeflag != tar.TypeReg:
			continue
		}
		if err := u.file(h.Name, t, h.ModTime); err != nil {
			return err
		}
	}
}

// file writes one member.
func (u *unpacking) file(name string, r io.Reader, modified time.Time) error {
	clean := path.Clean(strings.ReplaceAll(name, `\`, "/"))
	if clean == "." || path.IsAbs(clean) || clean == ".." || strings.HasPrefix(clean, "../") || strings.ContainsRune(clean, 0) ||
		!filepath.IsLocal(filepath.FromSlash(clean)) {
		return bad("the name %q in it leads out of it", name)
	}
	if u.files++; u.files > MaxMembers {
		return bad("it has more than %d files", MaxMembers)
	}
	to := filepath.Join(u.dir, filepath.FromSlash(clean))
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, os.ErrExist) {
		return bad("it has two files called %q", name)
	}
	if err != nil {
		return err
	}
	room := min(MaxUnpacked, max(freeRatio, u.in*maxRatio)) - u.out
	n, err := io.Copy(out, io.LimitReader(durable.Until(u.ctx, r), room+1))
	u.out += n
	err = errors.Join(err, out.Close())
	switch {
	case u.ctx.Err() != nil:
		return u.ctx.Err()
	case n > room:
		return bad("it unpacks to more than %d times its size", maxRatio)
	case err != nil:
		var p *os.PathError
		if errors.As(err, &p) {
			return err // of our own disk
		}
		return bad("%q in it is damaged (%v)", name, err)
	}
	if !modified.IsZero() {
		_ = os.Chtimes(to, time.Time{}, modified) // it helps the person; what counts is in the file
	}
	return nil
}
