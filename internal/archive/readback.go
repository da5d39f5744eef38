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
	"envask/internal/spill"

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

// readBack reads the files that were not read back yet and gives them with their checksums.
func (w *Writer) readBack(ctx context.Context, each func(*Written) error) error {
	flush := w.flush
	if w.zip != nil {
		flush = w.zip.Flush
	}
	if err := flush(); err != nil {
		return err
	}
	if w.batch.Len() == 0 && w.readTo == w.out.size {
		return nil
	}
	sum := newBesideHash()
	defer sum.Close()
	b := &backReader{w: w, ctx: ctx, sum: sum, each: each, done: spill.NewList[Written](w.tmpDir)}
	w.done = append(w.done, b.done)
	read := b.tar
	if w.zip != nil {
		read = b.members
	}
	if err := read(); err != nil {
		return err
	}
	err := w.batch.Close()
	w.batch = spill.NewList[Written](w.tmpDir)
	return err
}

// backReader is one reading back.
type backReader struct {
	w    *Writer
	ctx  context.Context
	sum  *besideHash
	done *spill.List[Written] // with their checksums
	each func(*Written) error
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
	err = w.batch.Each(func(d *Written) error {
		h, err := tr.Next()
		if err != nil {
			return notRead(d.Name, err.Error())
		}
		if h.Name != path.Join(w.top, d.Name) || h.Size != d.Size || h.Typeflag != tar.TypeReg {
			return notRead(d.Name, "another file stands in its place")
		}
		return b.content(d, tr)
	})
	if err != nil {
		return err
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
	err := w.batch.Each(func(d *Written) error {
		packed.Reset(b.section(d.At, d.Packed))
		if err := zr.(flate.Resetter).Reset(packed, nil); err != nil {
			return err
		}
		return b.member(d, zr)
	})
	w.readTo = w.out.size
	return err
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
	return b.checked(d, content, func() error {
		if crc.Sum32() != d.CRC {
			return notRead(d.Name, "its CRC-32 is another")
		}
		return nil
	})
}

// content reads one file.
func (b *backReader) content(d *Written, content io.Reader) error {
	return b.checked(d, content, func() error { return nil })
}

// checked reads one file of which more is to be right than its size.
func (b *backReader) checked(d *Written, content io.Reader, right func() error) error {
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
	if err := right(); err != nil {
		return err
	}
	d.SHA256 = hex.EncodeToString(sum[:])
	if b.each != nil {
		if err := b.each(d); err != nil {
			return err
		}
	}
	return b.done.Add(d)
}

// list reads the list of files at the end of a zip file, and all of it for its checksum.
func (w *Writer) list(ctx context.Context) error {
	z, err := zip.NewReader(w.out.file, w.out.size)
	if err != nil {
		return notRead("", err.Error())
	}
	i, files := 0, z.File
	err = w.eachDone(func(d *Written) error {
		if i == len(files) {
			return notRead(d.Name, "it is not in the list of files")
		}
		f := files[i]
		i++
		at, err := f.DataOffset()
		if err != nil || f.Name != path.Join(w.top, d.Name) || at != d.At || f.CRC32 != d.CRC ||
			f.CompressedSize64 != uint64(d.Packed) || f.UncompressedSize64 != uint64(d.Size) {
			return notRead(d.Name, "the list of files says something else of it")
		}
		return nil
	})
	if err != nil {
		return err
	}
	if i != len(files) {
		return notRead("", fmt.Sprintf("%d files are in its list of %d", len(files), i))
	}
	w.sum.Reset()
	_, err = io.Copy(w.sum, durable.Until(ctx, io.NewSectionReader(w.out.file, 0, w.out.size)))
	return err
}

// Sum gives the size of the closed archive in bytes, and its SHA-256.
func (w *Writer) Sum() (int64, [sha256.Size]byte) {
	return w.out.size, [sha256.Size]byte(w.sum.Sum(nil))
}
