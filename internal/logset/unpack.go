package logset

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// Content is a file's bytes, wherever they come from. ReadAt may be nil: then it can be read in order only.
type Content struct {
	Open   func() (io.ReadCloser, error)
	ReadAt func(p []byte, off int64) (int, error)
	Size   int64
	Far    bool // it is read over a network
	// Stretch, if not nil, may give the bytes from..to in a way that is faster for large ones; a nil reader means that
	// it is not.
	Stretch func(ctx context.Context, from, to int64) (io.ReadCloser, error)
}

// packing is one way in which a member of a set may be compressed.
type packing struct {
	Name   string
	Suffix []string
	Magic  []byte
	Open   func(r io.Reader) (io.Reader, func(), error)
}

// packings is the table of compressions.
var packings = []packing{
	{"gzip", []string{".gz", ".gzip"}, []byte{0x1f, 0x8b}, openGzip},
	{"bzip2", []string{".bz2"}, []byte("BZh"), func(r io.Reader) (io.Reader, func(), error) { return bzip2.NewReader(r), func() {}, nil }},
	{"xz", []string{".xz"}, []byte("\xfd7zXZ\x00"), openXZ},
	{"zstd", []string{".zst", ".zstd"}, []byte{0x28, 0xb5, 0x2f, 0xfd}, openZstd},
	{"zip", []string{".zip"}, []byte("PK\x03\x04"), nil}, // needs random reads, see Unpacked
}

// readers are kept from file to file: a collection looks into many.
var readers = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, 64<<10) }}

// window memory that foreign data may ask for, in bytes.
const maxUnpackMemory = 128 << 20

func openGzip(r io.Reader) (io.Reader, func(), error) {
	z, err := gzip.NewReader(r)
	if err != nil {
		return nil, nil, err
	}
	return z, func() { z.Close() }, nil
}

func openXZ(r io.Reader) (io.Reader, func(), error) {
	z, err := xz.ReaderConfig{DictCap: maxUnpackMemory}.NewReader(r)
	return z, func() {}, err
}

func openZstd(r io.Reader) (io.Reader, func(), error) {
	z, err := zstd.NewReader(r, zstd.WithDecoderMaxMemory(maxUnpackMemory), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, nil, err
	}
	return z, z.Close, nil
}

// PackingOf tells by its first bytes how a file is compressed; "" when it is not.
func PackingOf(head []byte) string {
	for _, p := range packings {
		if bytes.HasPrefix(head, p.Magic) {
			return p.Name
		}
	}
	return ""
}

// Plain gives a stream without its compression, told by its first bytes; one that is not compressed comes as it is. A zip archive, which
// needs random reads, comes as it is, too.
func Plain(r io.Reader) (io.Reader, func(), error) {
	br := bufio.NewReaderSize(r, 64<<10)
	head, err := br.Peek(6)
	if err != nil && err != io.EOF {
		return nil, nil, err
	}
	for _, p := range packings {
		if p.Open != nil && bytes.HasPrefix(head, p.Magic) {
			return p.Open(br)
		}
	}
	return br, func() {}, nil
}

// Unsuffixed takes the suffix of a compression off a name.
func Unsuffixed(name string) (plain string, packed bool) {
	for _, p := range packings {
		for _, s := range p.Suffix {
			if len(name) > len(s) && strings.EqualFold(name[len(name)-len(s):], s) {
				return name[:len(name)-len(s)], true
			}
		}
	}
	return name, false
}

// ErrSeveral means a zip archive that is no compressed log but holds several files.
var ErrSeveral = errors.New("an archive of several files")

// unpacked is an opened file, decompressed if it was compressed.
type unpacked struct {
	io.Reader
	packing string // "" when it was plain
	close   func()
}

func (u *unpacked) Close() error { u.close(); return nil }

// Unpack opens a file and decompresses it. A head that only looks compressed is given as it is.
func (c Content) unpack() (*unpacked, error) {
	f, err := c.Open()
	if err != nil {
		return nil, err
	}
	br := readers.Get().(*bufio.Reader)
	br.Reset(f)
	end := func() { br.Reset(nil); readers.Put(br); f.Close() }
	head, err := br.Peek(6)
	if err != nil && err != io.EOF {
		end()
		return nil, err
	}
	for _, p := range packings {
		if !bytes.HasPrefix(head, p.Magic) {
			continue
		}
		if p.Open == nil {
			end()
			return c.unzip()
		}
		r, done, err := p.Open(br)
		if err != nil {
			end()
			return nil, fmt.Errorf("it looks like %s and is damaged: %w", p.Name, err)
		}
		return &unpacked{Reader: r, packing: p.Name, close: func() { done(); end() }}, nil
	}
	return &unpacked{Reader: br, close: end}, nil
}

type readerAt func(p []byte, off int64) (int, error)

func (f readerAt) ReadAt(p []byte, off int64) (int, error) { return f(p, off) }

// unzip opens the one file in a zip archive.
func (c Content) unzip() (*unpacked, error) {
	if c.ReadAt == nil {
		return nil, errors.New("a zip archive can only be read at random")
	}
	z, err := zip.NewReader(readerAt(c.ReadAt), c.Size)
	if err != nil {
		return nil, fmt.Errorf("it looks like zip and is damaged: %w", err)
	}
	var only *zip.File
	for _, f := range z.File {
		if f.FileInfo().IsDir() {
			continue
		}
		if only != nil {
			return nil, ErrSeveral
		}
		only = f
	}
	if only == nil {
		return &unpacked{Reader: bytes.NewReader(nil), packing: "zip", close: func() {}}, nil
	}
	r, err := only.Open()
	if err != nil {
		return nil, err
	}
	return &unpacked{Reader: r, packing: "zip", close: func() { r.Close() }}, nil
}

// Unpacked opens a file and decompresses it, if it is compressed.
func Unpacked(c Content) (io.ReadCloser, error) { return c.unpack() }
