package archive

import (
	"fmt"
	"io"
	"strings"
	"sync"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
)

// Format is one form that an archive can have. All of them are written in pieces that are compressed for themselves, on all
// processors; where pieces begin depends only on the sizes of the files, so that the same content gives the same bytes.
type Format struct {
	Name  string // as the engineer writes it, and the ending of the file
	Doc   string
	Level Level // when nobody says otherwise
	zip   bool
	begin func(w io.Writer, level Level) (piece, error)
	magic string
	open  func(r io.Reader) (io.ReadCloser, error) // of tar files
}

// Level is how much work goes into making it small.
type Level int

// The levels.
const (
	Balanced Level = iota
	Fast
	Small
)

// Levels are their words.
var Levels = []string{"balanced", "fast", "small"}

// Formats is the table of formats; the first one is used when nobody says otherwise.
var Formats = []Format{
	// On logs, gzip's fast level is a tenth faster for 2 to 4 % more bytes, and still smaller than what gzip -1 makes.
	{Name: "tar.gz", Doc: "for every system", Level: Fast, begin: beginGzip, magic: "\x1f\x8b", open: openGzip},
	{Name: "tar.zst", Doc: "smaller and faster to unpack, for systems that have zstd", begin: beginZstd,
		magic: "\x28\xb5\x2f\xfd", open: openZstd},
	{Name: "zip", Doc: "for Windows, which opens it by itself", begin: beginDeflate, magic: "PK", zip: true},
}

// FormatOf gives the format of a name; "" is the first one.
func FormatOf(name string) (*Format, error) {
	if name == "" {
		return &Formats[0], nil
	}
	var known []string
	for i := range Formats {
		if Formats[i].Name == name {
			return &Formats[i], nil
		}
		known = append(known, Formats[i].Name)
	}
	return nil, fmt.Errorf("%q is no format of archives; known are %s", name, strings.Join(known, ", "))
}

// LevelOf gives the level of a word; "" is the format's own.
func (f *Format) LevelOf(word string) (Level, error) {
	if word == "" {
		return f.Level, nil
	}
	for i, w := range Levels {
		if w == word {
			return Level(i), nil
		}
	}
	return 0, fmt.Errorf("%q is no level; write %s", word, strings.Join(Levels, ", "))
}

// TrimEnding takes the ending of a format from the name of an archive.
func TrimEnding(name string) string {
	name = strings.TrimSuffix(name, ".plain") // of one that may only go encrypted
	for _, f := range Formats {
		if base, ok := strings.CutSuffix(name, "."+f.Name); ok {
			return base
		}
	}
	return name
}

// deflateLevels are the levels of DEFLATE for our own. On logs, its second one makes nothing larger than its fourth.
var deflateLevels = [...]int{Balanced: 2, Fast: gzip.BestSpeed, Small: gzip.BestCompression}

// Writers of each level are used again: their tables take more to set up than a small piece takes to compress.
var gzipWriters, flateWriters [len(deflateLevels)]sync.Pool

// piece is one that is being compressed. It is written as it comes, while it is near.
type piece interface {
	io.Writer
	// end ends it. last says that nothing of the same file follows.
	end(last bool) error
}

// put compresses a whole piece.
func (f *Format) put(w io.Writer, data []byte, level Level) error {
	p, err := f.begin(w, level)
	if err != nil {
		return err
	}
	if _, err := p.Write(data); err != nil {
		return err
	}
	return p.end(true)
}

// gzipPiece is a gzip member (RFC 1952, section 2.2); members one after the other are one gzip file.
type gzipPiece struct {
	*gzip.Writer
	level Level
}

func beginGzip(w io.Writer, level Level) (piece, error) {
	if zw, ok := gzipWriters[level].Get().(*gzip.Writer); ok {
		zw.Reset(w)
		return gzipPiece{zw, level}, nil
	}
	zw, err := gzip.NewWriterLevel(w, deflateLevels[level])
	return gzipPiece{zw, level}, err
}

func (p gzipPiece) end(bool) error {
	defer gzipWriters[p.level].Put(p.Writer)
	return p.Close()
}

func openGzip(r io.Reader) (io.ReadCloser, error) { return gzip.NewReader(r) }

// zstdPiece is a Zstandard frame (RFC 8878, section 3.1); frames one after the other are one file.
type zstdPiece struct {
	w     io.Writer
	level Level
	all   *[]byte
}

// pieceBuffers hold a piece each.
var pieceBuffers = sync.Pool{New: func() any {
	b := make([]byte, 0, pieceSize)
	return &b
}}

func beginZstd(w io.Writer, level Level) (piece, error) {
	return &zstdPiece{w: w, level: level, all: pieceBuffers.Get().(*[]byte)}, nil
}

func (p *zstdPiece) Write(b []byte) (int, error) {
	*p.all = append(*p.all, b...)
	return len(b), nil
}

func (p *zstdPiece) end(bool) error {
	defer func() {
		*p.all = (*p.all)[:0]
		pieceBuffers.Put(p.all)
	}()
	zw, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithLowerEncoderMem(true), zstd.WithWindowSize(pieceSize),
		zstd.WithEncoderLevel([...]zstd.EncoderLevel{zstd.SpeedDefault, zstd.SpeedFastest, zstd.SpeedBestCompression}[p.level]))
	if err != nil {
		return err
	}
	_, err = p.w.Write(zw.EncodeAll(*p.all, nil))
	return err
}

func openZstd(r io.Reader) (io.ReadCloser, error) {
	zr, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(128<<20))
	if err != nil {
		return nil, err
	}
	return zr.IOReadCloser(), nil
}

// deflatePiece is a piece of a DEFLATE stream (RFC 1951). All but the last end with an empty stored block, on a whole byte, so
// that what follows can be put behind them.
type deflatePiece struct {
	*flate.Writer
	level Level
}

func beginDeflate(w io.Writer, level Level) (piece, error) {
	if zw, ok := flateWriters[level].Get().(*flate.Writer); ok {
		zw.Reset(w)
		return deflatePiece{zw, level}, nil
	}
	zw, err := flate.NewWriter(w, deflateLevels[level])
	return deflatePiece{zw, level}, err
}

func (p deflatePiece) end(last bool) error {
	defer flateWriters[p.level].Put(p.Writer)
	if last {
		return p.Close()
	}
	return p.Flush()
}
