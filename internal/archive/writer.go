package archive

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"os"
	"path"
	"runtime"
	"sort"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
)

// The archive is a gzip file of several members (RFC 1952, section 2.2), each compressed for itself, so that files are
// compressed on all processors. Where the members begin depends only on the sizes of the files, so that the same content
// gives the same bytes. All sizes in bytes.
const (
	pieceSize = 4 << 20   // of content in one member
	smallFile = 256 << 10 // files up to this size share members
	gzipLevel = 4
)

// Source is one file to be written. Write may be called on any goroutine; it must write the same bytes each time.
type Source struct {
	Name    string // below the top folder
	ModTime time.Time
	Write   func(w io.Writer) error
}

// Written is what became of a source.
type Written struct {
	Name   string
	Size   int64
	SHA256 string
}

// Writer writes one archive.
type Writer struct {
	out    io.Writer
	top    string
	tmpDir string
	plain  bytes.Buffer // not yet compressed
	done   []Written
	names  map[string]bool
}

// NewWriter begins an archive with one top folder. Large files are kept in tmpDir until their turn comes.
func NewWriter(out io.Writer, top, tmpDir string) *Writer {
	return &Writer{out: out, top: top, tmpDir: tmpDir, names: map[string]bool{}}
}

// spool is one file, redacted and (unless it is small) compressed, waiting for its turn.
type spool struct {
	src    Source
	size   int64
	hash   hash.Hash
	buf    []byte   // content that is not compressed yet
	frames *os.File // compressed members; nil while the file is small
	tmpDir string
	err    error
	ready  chan struct{}
}

// Add writes files in the given order, preparing several at a time.
func (w *Writer) Add(ctx context.Context, sources []Source) error {
	workers := runtime.GOMAXPROCS(0)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	queue := make(chan *spool, 4*workers) // bounds how far preparing runs ahead
	slots := make(chan struct{}, workers)
	go func() {
		defer close(queue)
		for _, src := range sources {
			s := &spool{src: src, hash: sha256.New(), tmpDir: w.tmpDir, ready: make(chan struct{})}
			select {
			case slots <- struct{}{}:
			case <-ctx.Done():
				return
			}
			go func() {
				defer func() { <-slots; close(s.ready) }()
				s.fill(ctx)
			}()
			select {
			case queue <- s:
			case <-ctx.Done():
				<-s.ready
				s.discard()
				return
			}
		}
	}()
	var first error
	for s := range queue {
		<-s.ready
		if first == nil {
			if first = w.put(s); first != nil {
				cancel()
			}
		}
		s.discard()
	}
	if first == nil {
		first = ctx.Err()
	}
	return first
}

func (s *spool) fill(ctx context.Context) {
	s.err = s.src.Write(ctxWriter{ctx, s})
	if s.err == nil && (s.frames != nil || len(s.buf) > smallFile) {
		s.err = s.compress()
	}
}

// ctxWriter stops writing when the context ends.
type ctxWriter struct {
	ctx context.Context
	w   io.Writer
}

func (c ctxWriter) Write(b []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.w.Write(b)
}

func (s *spool) Write(b []byte) (int, error) {
	s.hash.Write(b)
	s.size += int64(len(b))
	given := len(b)
	for len(b) > 0 {
		n := min(len(b), pieceSize-len(s.buf))
		s.buf = append(s.buf, b[:n]...)
		b = b[n:]
		if len(s.buf) == pieceSize {
			if err := s.compress(); err != nil {
				return 0, err
			}
		}
	}
	return given, nil
}

// compress writes the buffer as one gzip member to the file of frames.
func (s *spool) compress() error {
	if s.frames == nil {
		f, err := os.CreateTemp(s.tmpDir, "pack-*")
		if err != nil {
			return err
		}
		s.frames = f
	}
	err := writeMember(s.frames, s.buf)
	s.buf = s.buf[:0]
	return err
}

func (s *spool) discard() {
	if s.frames != nil {
		s.frames.Close()
		os.Remove(s.frames.Name())
		s.frames = nil
	}
	s.buf = nil
}

func writeMember(w io.Writer, data []byte) error {
	if len(data) == 0 {
		return nil
	}
	zw, err := gzip.NewWriterLevel(w, gzipLevel)
	if err != nil {
		return err
	}
	if _, err := zw.Write(data); err != nil {
		return err
	}
	return zw.Close()
}

// put writes one prepared file.
func (w *Writer) put(s *spool) error {
	if s.err != nil {
		return fmt.Errorf("%s: %w", s.src.Name, s.err)
	}
	if w.names[s.src.Name] {
		return fmt.Errorf("%s: two files of this name", s.src.Name)
	}
	w.names[s.src.Name] = true
	if err := w.header(s); err != nil {
		return err
	}
	if s.frames == nil {
		w.plain.Write(s.buf)
	} else {
		if err := w.flush(); err != nil {
			return err
		}
		if _, err := s.frames.Seek(0, io.SeekStart); err != nil {
			return err
		}
		if _, err := io.Copy(w.out, s.frames); err != nil {
			return err
		}
	}
	if over := s.size % 512; over != 0 {
		w.plain.Write(make([]byte, 512-over))
	}
	w.done = append(w.done, Written{s.src.Name, s.size, hex.EncodeToString(s.hash.Sum(nil))})
	if w.plain.Len() >= pieceSize {
		return w.flush()
	}
	return nil
}

func (w *Writer) header(s *spool) error {
	mod := s.src.ModTime.UTC().Truncate(time.Second)
	if mod.Unix() < 0 || mod.Year() > 2200 { // tar has no room for it everywhere
		mod = time.Unix(0, 0).UTC()
	}
	return tar.NewWriter(&w.plain).WriteHeader(&tar.Header{
		Typeflag: tar.TypeReg, Name: path.Join(w.top, s.src.Name), Size: s.size, Mode: 0o644, ModTime: mod,
	})
}

func (w *Writer) flush() error {
	err := writeMember(w.out, w.plain.Bytes())
	w.plain.Reset()
	return err
}

// Written gives what was written so far, in order.
func (w *Writer) Written() []Written { return w.done }

// Close writes the list of checksums over all files and ends the archive.
func (w *Writer) Close(ctx context.Context, modified time.Time) error {
	sums := Sums(w.done)
	err := w.Add(ctx, []Source{{Name: SumsName, ModTime: modified, Write: func(out io.Writer) error {
		_, err := io.WriteString(out, sums)
		return err
	}}})
	if err != nil {
		return err
	}
	w.plain.Write(make([]byte, 1024)) // two empty blocks end a tar file
	return w.flush()
}

// Sums gives the list of checksums in the form that sha256sum -c reads. Names never hold a line end or a backslash, see
// collect.SafePath.
func Sums(files []Written) string {
	sorted := append([]Written(nil), files...)
	sort.Slice(sorted, func(i, j int) bool { return sorted[i].Name < sorted[j].Name })
	var b strings.Builder
	for _, f := range sorted {
		fmt.Fprintf(&b, "%s  %s\n", f.SHA256, f.Name)
	}
	return b.String()
}
