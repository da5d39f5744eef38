package archive

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"path"

	"envask/internal/durable"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/readahead"
)

// What was written is read back from where it lies, once: the checksums are made of what is there, not of what should be, and
// whoever must see every byte (the leak check) sees the same ones. That it is also what was meant is seen by the sum that each
// format keeps of its content: CRC-32 in gzip (RFC 1952, section 2.3.1) and ZIP files, XXH64 in Zstandard (RFC 8878, section 3.1.1).

// errNotRead is the error for an archive that is not on the disk what was given to the writer.
var errNotRead = errors.New("what was written cannot be read back")

func notRead(name, why string) error {
	if name == "" {
		return fmt.Errorf("%w: %s", errNotRead, why)
	}
	return fmt.Errorf("%w: %s: %s", errNotRead, name, why)
}

// readBack reads the files that were not read back yet and fills in their checksums.
func (w *Writer) readBack(ctx context.Context) error {
	flush := w.flush
	if w.zip != nil {
		flush = w.zip.Flush
	}
	if err := flush(); err != nil {
		return err
	}
	if w.read == len(w.done) && w.readTo == w.out.size {
		return nil
	}
	sum := newBesideHash()
	defer sum.Close()
	b := &backReader{w: w, ctx: ctx, sum: sum}
	if w.zip != nil {
		return b.members()
	}
	return b.tar()
}

// backReader is one reading back.
type backReader struct {
	w   *Writer
	ctx context.Context
	sum *besideHash
}

// section reads a part of the archive; it ends with the context.
func (b *backReader) section(from, size int64) io.Reader {
	return durable.Until(b.ctx, io.NewSectionReader(b.w.out.file, from, size))
}

// tar reads the entries of a tar file that came since the last time. They begin with a compressed piece.
func (b *backReader) tar() error {
	w := b.w
	raw := io.TeeReader(b.section(w.readTo, w.out.size-w.readTo), w.sum)
	zr, err := w.format.open(bufio.NewReaderSize(raw, 1<<20))
	if err != nil {
		return notRead("", err.Error())
	}
	defer zr.Close()
	ahead, err := readahead.NewReaderSize(zr, readAheadBuffers, readAheadSize) // unpacking goes on beside hashing and searching
	if err != nil {
		return err
	}
	defer ahead.Close()
	tr := tar.NewReader(ahead)
	for ; w.read < len(w.done); w.read++ {
		d := &w.done[w.read]
		h, err := tr.Next()
		if err != nil {
			return notRead(d.Name, err.Error())
		}
		if h.Name != path.Join(w.top, d.Name) || h.Size != d.Size || h.Typeflag != tar.TypeReg {
			return notRead(d.Name, "another file stands in its place")
		}
		if err := b.content(d, tr); err != nil {
			return err
		}
	}
	if _, err := tr.Next(); err != io.EOF {
		return notRead("", "more stands behind the last file")
	}
	// The sum of the last piece stands behind it. (A read-ahead that came to its end calls copying from it a failure.)
	if _, err := io.Copy(io.Discard, ahead); err != nil && err != io.EOF {
		return notRead("", err.Error())
	}
	w.readTo = w.out.size
	return nil
}

// members reads the members of a zip file that came since the last time.
func (b *backReader) members() error {
	w := b.w
	packed := bufio.NewReaderSize(nil, 256<<10)
	zr := flate.NewReader(packed)
	for ; w.read < len(w.done); w.read++ {
		d := &w.done[w.read]
		packed.Reset(b.section(d.at, d.packed))
		if err := zr.(flate.Resetter).Reset(packed, nil); err != nil {
			return err
		}
		if err := b.member(d, zr); err != nil {
			return err
		}
	}
	w.readTo = w.out.size
	return nil
}

// member reads one member. Unpacking a large one goes on beside hashing and searching.
func (b *backReader) member(d *Written, content io.Reader) error {
	crc := crc32.NewIEEE()
	content = io.TeeReader(content, crc)
	if d.Size > readAheadBuffers*readAheadSize {
		ahead, err := readahead.NewReaderSize(content, readAheadBuffers, readAheadSize)
		if err != nil {
			return err
		}
		defer ahead.Close()
		content = ahead
	}
	if err := b.content(d, content); err != nil {
		return err
	}
	if crc.Sum32() != d.crc {
		return notRead(d.Name, "its CRC-32 is another")
	}
	return nil
}

// content reads one file.
func (b *backReader) content(d *Written, content io.Reader) error {
	count := &byteCounter{}
	tee := io.TeeReader(content, io.MultiWriter(b.sum, count))
	if b.w.inspect != nil {
		if err := b.w.inspect(d.Name, tee); err != nil {
			return err
		}
	}
	_, err := io.Copy(io.Discard, tee)
	sum := b.sum.Sum()
	if err := b.ctx.Err(); err != nil {
		return err
	}
	if err != nil {
		return notRead(d.Name, err.Error())
	}
	if count.n != d.Size {
		return notRead(d.Name, fmt.Sprintf("%d bytes are there of %d", count.n, d.Size))
	}
	d.SHA256 = hex.EncodeToString(sum[:])
	return nil
}

// list reads the list of files at the end of a zip file, and all of it for its checksum.
func (w *Writer) list(ctx context.Context) error {
	z, err := zip.NewReader(w.out.file, w.out.size)
	if err != nil {
		return notRead("", err.Error())
	}
	if len(z.File) != len(w.done) {
		return notRead("", fmt.Sprintf("%d files are in its list of %d", len(z.File), len(w.done)))
	}
	for i, f := range z.File {
		d := &w.done[i]
		at, err := f.DataOffset()
		if err != nil || f.Name != path.Join(w.top, d.Name) || at != d.at || f.CRC32 != d.crc || f.CompressedSize64 != uint64(d.packed) ||
			f.UncompressedSize64 != uint64(d.Size) {
			return notRead(d.Name, "the list of files says something else of it")
		}
	}
	w.sum.Reset()
	_, err = io.Copy(w.sum, durable.Until(ctx, io.NewSectionReader(w.out.file, 0, w.out.size)))
	return err
}

// Sum gives the size of the closed archive in bytes, and its SHA-256.
func (w *Writer) Sum() (int64, [sha256.Size]byte) {
	return w.out.size, [sha256.Size]byte(w.sum.Sum(nil))
}
