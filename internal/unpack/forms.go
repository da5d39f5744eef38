package unpack

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"envask/internal/durable"
	"envask/internal/logset"
)

// zip reads the directory of a zip archive. Its members are decompressed when they are read.
func (f *FS) zip(in io.ReaderAt, size int64) error {
	f.Form = "zip"
	z, err := zip.NewReader(in, size)
	if err != nil {
		return bad("it is no whole zip archive (%v)", err)
	}
	for _, m := range z.File {
		n := &node{mode: m.Mode(), modified: m.Modified}
		switch {
		case strings.HasSuffix(m.Name, "/"):
			n.mode = fs.ModeDir | m.Mode().Perm()
		case m.Mode()&fs.ModeSymlink != 0:
			if n.link, err = zipLink(m); err != nil {
				f.Left++
				continue
			}
		case !m.Mode().IsRegular():
		default:
			if n.size, err = sizeOf(m); err != nil {
				return err
			}
			n.open = openZip(m)
		}
		if err := f.put(strings.ReplaceAll(m.Name, `\`, "/"), n); err != nil {
			return err
		}
	}
	return nil
}

// sizeOf gives the size that a member claims, if it can be.
func sizeOf(m *zip.File) (int64, error) {
	size, packed := m.UncompressedSize64, m.CompressedSize64
	if size > MaxBytes || size > freeRatio && packed < size/maxRatio {
		return 0, bad("%q in it says that %d bytes become %d", m.Name, packed, size)
	}
	return int64(size), nil
}

func zipLink(m *zip.File) (string, error) {
	r, err := m.Open()
	if err != nil {
		return "", err
	}
	defer r.Close()
	text, err := io.ReadAll(io.LimitReader(r, maxLink))
	return string(text), err
}

// openZip opens a member; more bytes than it claims are an error of the library.
func openZip(m *zip.File) func() (io.ReadCloser, io.ReaderAt, error) {
	return func() (io.ReadCloser, io.ReaderAt, error) {
		if m.Flags&1 != 0 {
			return nil, nil, errors.New("it is encrypted")
		}
		r, err := m.Open()
		return r, nil, err
	}
}

// tar reads the headers of a tar archive. One that is compressed is decompressed into a file of ours first, since it can be read in
// order only.
func (f *FS) tar(ctx context.Context, in *os.File, size int64) error {
	packing := ""
	head := make([]byte, 6)
	if n, _ := in.ReadAt(head, 0); n > 0 {
		packing = logset.PackingOf(head[:n])
	}
	f.Form = "tar"
	if packing != "" {
		f.Form = "tar (" + packing + ")"
		spooled, err := f.spool(ctx, in, size)
		if err != nil {
			return err
		}
		in = spooled
		if _, err := in.Seek(0, io.SeekStart); err != nil {
			return err
		}
	}
	first := make([]byte, 512)
	if n, _ := in.ReadAt(first, 0); n < len(first) || string(first[257:262]) != "ustar" {
		return bad("it is no archive (tar or zip)")
	}
	t := tar.NewReader(&stopping{ctx, in})
	for {
		h, err := t.Next()
		switch {
		case err == io.EOF:
			return nil
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			f.Cut = cutAfter(f.Files, err)
			return nil
		}
		at, err := in.Seek(0, io.SeekCurrent) // the library reads no further than the header
		if err != nil {
			return err
		}
		if err := f.putTar(h, in, at); err != nil {
			return err
		}
	}
}

func cutAfter(files int, err error) string {
	why := err.Error()
	if errors.Is(err, io.ErrUnexpectedEOF) {
		why = "it ends there"
	}
	return fmt.Sprintf("it is damaged or cut off behind %d files (%s)", files, why)
}

// stopping ends reading with the context. It can be read from anywhere, so that the library steps over content.
type stopping struct {
	ctx context.Context
	*os.File
}

func (s *stopping) Read(b []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	return s.File.Read(b)
}

func (f *FS) putTar(h *tar.Header, in io.ReaderAt, at int64) error {
	n := &node{mode: h.FileInfo().Mode(), modified: h.ModTime}
	switch h.Typeflag {
	case tar.TypeReg:
		if h.Size < 0 || h.Size > MaxBytes {
			return bad("%q in it says that it has %d bytes", h.Name, h.Size)
		}
		n.size = h.Size
		n.open = func() (io.ReadCloser, io.ReaderAt, error) {
			whole := wholeReader{in, at + h.Size}
			s := io.NewSectionReader(whole, at, h.Size)
			return io.NopCloser(s), s, nil
		}
		if sparse(h) {
			n.open = func() (io.ReadCloser, io.ReaderAt, error) {
				return nil, nil, errors.New("it has holes, which only tar itself can read: unpack the archive")
			}
		}
	case tar.TypeLink: // another name of a file that came before
		target, ok := cleanName(h.Linkname)
		old := f.nodes[target]
		if !ok || old == nil || !old.mode.IsRegular() {
			f.Left++
			return nil
		}
		n.mode, n.size, n.open, n.modified = old.mode, old.size, old.open, old.modified
	case tar.TypeSymlink:
		n.link = h.Linkname[:min(len(h.Linkname), maxLink)]
	case tar.TypeDir, tar.TypeFifo, tar.TypeChar, tar.TypeBlock:
	default:
		return nil // of the archive itself
	}
	return f.put(h.Name, n)
}

// wholeReader makes an early end of the archive an error: what is less than the header says is no whole file.
type wholeReader struct {
	io.ReaderAt
	end int64
}

func (w wholeReader) ReadAt(b []byte, off int64) (int, error) {
	n, err := w.ReaderAt.ReadAt(b, off)
	if err == io.EOF && off+int64(n) < w.end {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// sparse says whether the content is not as it stands in the archive (GNU tar manual, "Sparse Formats").
func sparse(h *tar.Header) bool {
	if h.Typeflag == tar.TypeGNUSparse {
		return true
	}
	for k := range h.PAXRecords {
		if strings.HasPrefix(k, "GNU.sparse.") {
			return true
		}
	}
	return false
}

// spool decompresses into a file that nobody else sees, and that is gone with us.
func (f *FS) spool(ctx context.Context, in *os.File, size int64) (*os.File, error) {
	r, end, err := logset.Plain(in)
	if err != nil {
		return nil, bad("it cannot be decompressed (%v)", err)
	}
	defer end()
	out, err := os.CreateTemp("", "envask-archive-*")
	if err != nil {
		return nil, err
	}
	f.close = append(f.close, func() error {
		err := out.Close()
		_ = os.Remove(out.Name()) // it may be gone already
		return err
	})
	_ = os.Remove(out.Name()) // where a file that is open can be removed
	room := min(MaxBytes, max(freeRatio, size*maxRatio))
	n, err := io.Copy(out, io.LimitReader(durable.Until(ctx, bufio.NewReaderSize(r, 256<<10)), room+1))
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case n > room:
		return nil, bad("it unpacks to more than %d bytes, which is more than any archive of its size holds", room)
	case err != nil:
		var ours *os.PathError
		if errors.As(err, &ours) {
			return nil, fmt.Errorf("decompress it in %s: %w", os.TempDir(), err)
		}
		if n < 512 {
			return nil, bad("it cannot be decompressed (%v)", err)
		}
		f.Cut = fmt.Sprintf("its compression is damaged or cut off behind %d bytes", n)
	}
	return out, nil
}
