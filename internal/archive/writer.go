package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"hash"
	"io"
	"path"
	"runtime"
	"sort"
	"strings"
	"time"
)

// All sizes in bytes.
const (
	pieceSize = 4 << 20   // of content that is compressed at a time
	smallFile = 256 << 10 // files up to this size share pieces of a tar file
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
	SHA256 string // of what was read back

	at, packed int64 // where a member of a zip file lies, and its size there
	crc        uint32
}

// Storage is where an archive is written. It is read back from there.
type Storage interface {
	io.Writer
	io.ReaderAt
}

// counted knows how much was written.
type counted struct {
	file Storage
	size int64
}

func (c *counted) Write(b []byte) (int, error) {
	n, err := c.file.Write(b)
	c.size += int64(n)
	return n, err
}

// Writer writes one archive.
type Writer struct {
	out    *counted
	format *Format
	level  Level
	top    string
	tmpDir string
	plain  bytes.Buffer // of a tar file, not yet compressed
	zip    *zip.Writer  // nil for tar files
	done   []Written
	names  map[string]bool

	inspect Inspect
	read    int       // files of done that were read back
	readTo  int64     // of out
	end     int64     // of the last member of a zip file
	sum     hash.Hash // of what was read back of out
}

// NewWriter begins an archive with one top folder in an empty file. Large files are kept in tmpDir until their turn comes.
// inspect (which may be nil) sees each file as it was read back.
func NewWriter(out Storage, top, tmpDir string, format *Format, level Level, inspect Inspect) *Writer {
	w := &Writer{out: &counted{file: out}, format: format, level: level, top: top, tmpDir: tmpDir, names: map[string]bool{},
		inspect: inspect, sum: sha256.New()}
	if format.zip {
		w.zip = zip.NewWriter(w.out)
	}
	return w
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
			s := &spool{src: src, format: w.format, level: w.level, tmpDir: w.tmpDir, ready: make(chan struct{})}
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

// put writes one prepared file.
func (w *Writer) put(s *spool) error {
	if s.err != nil {
		return fmt.Errorf("%s: %w", s.src.Name, s.err)
	}
	if w.names[s.src.Name] {
		return fmt.Errorf("%s: two files of this name", s.src.Name)
	}
	w.names[s.src.Name] = true
	w.done = append(w.done, Written{Name: s.src.Name, Size: s.size, crc: s.crc})
	if w.zip != nil {
		return w.member(s)
	}
	if err := w.header(s); err != nil {
		return err
	}
	if s.frames == nil {
		w.plain.Write(s.buf)
	} else {
		if err := w.flush(); err != nil {
			return err
		}
		if _, err := s.frames.WriteTo(w.out); err != nil {
			return err
		}
	}
	if over := s.size % 512; over != 0 {
		w.plain.Write(make([]byte, 512-over))
	}
	if w.plain.Len() >= pieceSize {
		return w.flush()
	}
	return nil
}

// member writes one prepared file into a zip file. Names are UTF-8, and files beyond 4 GiB go by Zip64.
func (w *Writer) member(s *spool) error {
	mod := modified(s)
	if mod.Year() < 1980 { // before which zip files know no time
		mod = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)
	}
	h := &zip.FileHeader{Name: path.Join(w.top, s.src.Name), Method: zip.Deflate, Modified: mod, CRC32: s.crc,
		UncompressedSize64: uint64(s.size), CompressedSize64: uint64(len(s.packed))}
	h.SetMode(0o644)
	prepare(h)
	if s.frames != nil {
		h.CompressedSize64 = uint64(s.frames.size)
	}
	out, err := w.zip.CreateRaw(h)
	if err != nil {
		return err
	}
	d := &w.done[len(w.done)-1]
	d.at, d.packed = w.end+zipHead+int64(len(h.Name)+len(h.Extra)), int64(h.CompressedSize64)
	w.end = d.at + d.packed
	if s.frames == nil {
		_, err = out.Write(s.packed)
	} else {
		_, err = s.frames.WriteTo(out)
	}
	return err
}

// Of the ZIP format (APPNOTE.TXT): the flag of names in UTF-8 (4.4.4), the extra field of the time of the last change in seconds
// since 1970 (0x5455), the lowest version that can read it (2.0: DEFLATE), and the size of what stands before a member's name
// (4.3.7).
const (
	zipUTF8      = 0x800
	zipTimeField = 0x5455
	zipVersion   = 20
	zipHead      = 30
)

// prepare fills in what the zip writer leaves to those who give it compressed bytes.
func prepare(h *zip.FileHeader) {
	for _, c := range []byte(h.Name) {
		if c >= 0x80 {
			h.Flags |= zipUTF8
		}
	}
	h.ReaderVersion = zipVersion
	t := h.Modified
	//lint:ignore SA1019 the writer sets them from Modified only where it compresses by itself
	h.ModifiedDate = uint16(t.Day() + int(t.Month())<<5 + (t.Year()-1980)<<9)
	//lint:ignore SA1019 the same
	h.ModifiedTime = uint16(t.Second()/2 + t.Minute()<<5 + t.Hour()<<11)
	h.Extra = binary.LittleEndian.AppendUint16(nil, zipTimeField)
	h.Extra = append(h.Extra, 5, 0, 1)
	h.Extra = binary.LittleEndian.AppendUint32(h.Extra, uint32(t.Unix()))
}

// modified gives a time that every format has room for.
func modified(s *spool) time.Time {
	mod := s.src.ModTime.UTC().Truncate(time.Second)
	if mod.Unix() < 0 || mod.Year() > 2100 {
		mod = time.Unix(0, 0).UTC()
	}
	return mod
}

func (w *Writer) header(s *spool) error {
	mod := modified(s)
	return tar.NewWriter(&w.plain).WriteHeader(&tar.Header{
		Typeflag: tar.TypeReg, Name: path.Join(w.top, s.src.Name), Size: s.size, Mode: 0o644, ModTime: mod,
	})
}

func (w *Writer) flush() error {
	if w.plain.Len() == 0 {
		return nil
	}
	err := w.format.put(w.out, w.plain.Bytes(), w.level)
	w.plain.Reset()
	return err
}

// Written reads back what was written so far, and gives it in order.
func (w *Writer) Written(ctx context.Context) ([]Written, error) {
	err := w.readBack(ctx)
	return w.done, err
}

// Close writes the list of checksums over all files, ends the archive and reads back what was not read back yet.
func (w *Writer) Close(ctx context.Context, modified time.Time) error {
	done, err := w.Written(ctx)
	if err != nil {
		return err
	}
	sums := Sums(done)
	err = w.Add(ctx, []Source{{Name: SumsName, ModTime: modified, Write: func(out io.Writer) error {
		_, err := io.WriteString(out, sums)
		return err
	}}})
	if err != nil {
		return err
	}
	if w.zip == nil {
		w.plain.Write(make([]byte, 1024)) // two empty blocks end a tar file
		return w.readBack(ctx)
	}
	if err := w.readBack(ctx); err != nil {
		return err
	}
	if err := w.zip.Close(); err != nil {
		return err
	}
	return w.list(ctx)
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
