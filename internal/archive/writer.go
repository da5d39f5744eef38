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
	"iter"
	"path"
	"runtime"
	"strings"
	"time"

	"envask/internal/spill"
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
	Done    func() error // is called in the order of the files when one is written; nil is allowed
}

// Written is what became of a source.
type Written struct {
	Name   string
	Size   int64
	SHA256 string // of what was read back

	At, Packed int64 // where a member of a zip file lies, and its size there
	CRC        uint32
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
	plain  bytes.Buffer           // of a tar file, not yet compressed
	zip    *zip.Writer            // nil for tar files
	batch  *spill.List[Written]   // what was written since the last reading back
	done   []*spill.List[Written] // what was read back

	inspect Inspect
	readTo  int64     // of out
	end     int64     // of the last member of a zip file
	sum     hash.Hash // of what was read back of out
}

// NewWriter begins an archive with one top folder in an empty file. Large files are kept in tmpDir until their turn comes, and so are
// long lists of files. inspect (which may be nil) sees each file as it was read back.
func NewWriter(out Storage, top, tmpDir string, format *Format, level Level, inspect Inspect) *Writer {
	w := &Writer{out: &counted{file: out}, format: format, level: level, top: top, tmpDir: tmpDir, batch: spill.NewList[Written](tmpDir),
		inspect: inspect, sum: sha256.New()}
	if format.zip {
		w.zip = zip.NewWriter(w.out)
	}
	return w
}

// Add writes files in the given order, preparing several at a time. The list of them is gone through on another goroutine.
func (w *Writer) Add(ctx context.Context, sources iter.Seq2[Source, error]) error {
	workers := runtime.GOMAXPROCS(0)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	queue := make(chan *spool, 4*workers) // bounds how far preparing runs ahead
	open := make(chan *spool)
	for range workers {
		go func() {
			for s := range open {
				if s.err == nil {
					s.fill(ctx)
				}
				close(s.ready)
			}
		}()
	}
	go func() {
		defer close(queue)
		defer close(open)
		for src, err := range sources {
			s := &spool{src: src, format: w.format, level: w.level, tmpDir: w.tmpDir, ready: make(chan struct{}), err: err}
			select {
			case open <- s:
			case <-ctx.Done():
				return
			}
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
	d := &Written{Name: s.src.Name, Size: s.size, CRC: s.crc}
	put := w.entry
	if w.zip != nil {
		put = w.member
	}
	if err := put(s, d); err != nil {
		return err
	}
	if err := w.batch.Add(d); err != nil || s.src.Done == nil {
		return err
	}
	return s.src.Done()
}

// entry writes one prepared file into a tar file.
func (w *Writer) entry(s *spool, _ *Written) error {
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
func (w *Writer) member(s *spool, d *Written) error {
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
	d.At, d.Packed = w.end+zipHead+int64(len(h.Name)+len(h.Extra)), int64(h.CompressedSize64)
	w.end = d.At + d.Packed
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

// ReadBack reads what was written since it was called last, and calls each for every file in order; each may be nil.
func (w *Writer) ReadBack(ctx context.Context, each func(*Written) error) error {
	return w.readBack(ctx, each)
}

// Close writes the list of checksums over all files, ends the archive and reads back what was not read back yet.
func (w *Writer) Close(ctx context.Context, modified time.Time) error {
	if err := w.readBack(ctx, nil); err != nil {
		return err
	}
	sums := spill.NewSorter(ctx, w.tmpDir, func(a, b *Written) int { return strings.Compare(a.Name, b.Name) })
	defer sums.Close()
	if err := w.eachDone(func(d *Written) error { return sums.Add(*d) }); err != nil {
		return err
	}
	err := w.Add(ctx, Sources(Source{Name: SumsName, ModTime: modified, Write: func(out io.Writer) error {
		last := ""
		return sums.Each(func(d *Written) error {
			if d.Name == last {
				return fmt.Errorf("%s: two files of this name", d.Name)
			}
			last = d.Name
			// The form that sha256sum -c reads. Names never hold a line end or a backslash, see collect.SafePath.
			_, err := fmt.Fprintf(out, "%s  %s\n", d.SHA256, d.Name)
			return err
		})
	}}))
	if err != nil {
		return err
	}
	if w.zip == nil {
		w.plain.Write(make([]byte, 1024)) // two empty blocks end a tar file
		return w.readBack(ctx, nil)
	}
	if err := w.readBack(ctx, nil); err != nil {
		return err
	}
	if err := w.zip.Close(); err != nil {
		return err
	}
	return w.list(ctx)
}

// Sources gives files that are known one by one.
func Sources(list ...Source) iter.Seq2[Source, error] {
	return func(yield func(Source, error) bool) {
		for _, s := range list {
			if !yield(s, nil) {
				return
			}
		}
	}
}

// eachDone calls each for all files that were read back.
func (w *Writer) eachDone(each func(*Written) error) error {
	for _, list := range w.done {
		if err := list.Each(each); err != nil {
			return err
		}
	}
	return nil
}

// Discard removes what waits on the disk; the archive stays as it is.
func (w *Writer) Discard() {
	_ = w.batch.Close() // the folder goes, too
	for _, list := range w.done {
		_ = list.Close()
	}
}
