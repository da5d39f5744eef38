package archive

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"envask/internal/durable"
	"envask/internal/late"
)

// Part is one of the pieces of a file that plain cat joins again.
type Part struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"` // bytes
	SHA256 string `json:"sha256"`
}

// MaxParts is what three digits can count.
const MaxParts = 999

// Split cuts a file into parts of a size beside it, in one read: NAME.001, NAME.002, … Each has its name only when it is whole.
func Split(ctx context.Context, file string, size int64, told func(bytes int64)) ([]Part, error) {
	in, err := durable.OpenRegular(file)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return nil, err
	}
	if n := (info.Size() + size - 1) / size; n > MaxParts {
		return nil, fmt.Errorf("it would be %d parts; %d are the most", n, MaxParts)
	}
	// Parts of an earlier cut would be joined with these.
	old, err := filepath.Glob(globEscape(file) + ".[0-9][0-9][0-9]")
	if err != nil {
		return nil, err
	}
	for _, o := range old {
		if err := os.Remove(o); err != nil {
			return nil, err
		}
	}
	var parts []Part
	for at := int64(0); at < info.Size(); at += size {
		p := Part{Name: fmt.Sprintf("%s.%03d", filepath.Base(file), len(parts)+1), Size: min(size, info.Size()-at)}
		if p.SHA256, err = writePart(ctx, filepath.Join(filepath.Dir(file), p.Name), in, p.Size, told); err != nil {
			return nil, err
		}
		parts = append(parts, p)
	}
	return parts, nil
}

// globEscape makes a pattern that only one name fits.
func globEscape(name string) string {
	return strings.NewReplacer("[", "[[]", "*", "[*]", "?", "[?]").Replace(name)
}

func writePart(ctx context.Context, name string, in io.Reader, size int64, told func(int64)) (sum string, err error) {
	h := sha256.New()
	err = durable.Write(name, 0o600, func(out io.Writer) error {
		w := bufio.NewWriterSize(out, 1<<20)
		n, err := io.Copy(io.MultiWriter(w, h), durable.Until(ctx, io.LimitReader(in, size)))
		if err == nil && n < size {
			err = io.ErrUnexpectedEOF
		}
		return errors.Join(err, w.Flush())
	})
	if err == nil && told != nil {
		told(size)
	}
	return hex.EncodeToString(h.Sum(nil)), err
}

// JoinPage is the text that goes with parts: how to join them, and what they must be.
func JoinPage(name, sum string, parts []Part) string {
	var s strings.Builder
	var all []string
	for _, p := range parts {
		all = append(all, p.Name)
	}
	fmt.Fprintf(&s, "%s comes in %d parts. When all of them are in one folder, join them:\n\n", name, len(parts))
	fmt.Fprintf(&s, "  cat %s.[0-9][0-9][0-9] > %s\n", name, name)
	fmt.Fprintf(&s, "\nor on Windows:\n\n  copy /b %s %s\n\nSHA-256, to compare:\n\n", strings.Join(all, "+"), name)
	for _, p := range parts {
		fmt.Fprintf(&s, "  %s  %s\n", p.SHA256, p.Name)
	}
	fmt.Fprintf(&s, "  %s  %s\n", sum, name)
	return s.String()
}

var partName = late.Pattern(`\.[0-9]{3}$`)

// whole is a file, or parts of one as if they were joined.
type whole struct {
	ctx   context.Context
	files []*os.File
	ends  []int64 // of each file, counted from the beginning of the first
}

// openWhole opens a file. The name of one part stands for all of them, from the first on.
func openWhole(ctx context.Context, name string) (*whole, error) {
	names := []string{name}
	if partName().MatchString(name) {
		names = nil
		for n := 1; n <= MaxParts; n++ {
			p := fmt.Sprintf("%s.%03d", name[:len(name)-4], n)
			if _, err := os.Stat(p); err != nil {
				break
			}
			names = append(names, p)
		}
		if len(names) == 0 {
			return nil, fmt.Errorf("%s.001 is not there: the parts begin with it", name[:len(name)-4])
		}
	}
	w := &whole{ctx: ctx}
	size := int64(0)
	for _, n := range names {
		f, err := durable.OpenRegular(n)
		if err != nil {
			return nil, errors.Join(err, w.Close())
		}
		w.files = append(w.files, f)
		info, err := f.Stat()
		if err != nil {
			return nil, errors.Join(err, w.Close())
		}
		size += info.Size()
		w.ends = append(w.ends, size)
	}
	return w, nil
}

func (w *whole) size() int64 { return w.ends[len(w.ends)-1] }

// ReadAt reads over the borders of parts.
func (w *whole) ReadAt(b []byte, at int64) (n int, err error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	begin := int64(0)
	for i, end := range w.ends {
		if at < end && len(b) > 0 {
			want := b[:min(int64(len(b)), end-at)]
			k, err := w.files[i].ReadAt(want, at-begin)
			n += k
			if k < len(want) {
				return n, err
			}
			b, at = b[k:], at+int64(k)
		}
		begin = end
	}
	if len(b) > 0 {
		return n, io.EOF
	}
	return n, nil
}

func (w *whole) Close() error {
	var errs []error
	for _, f := range w.files {
		errs = append(errs, f.Close())
	}
	return errors.Join(errs...)
}
