package redact

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"strings"
)

// The forms. Containers and compressed files are opened, redacted inside and closed again.
const (
	Plain   Form = "text"
	UTF16   Form = "utf-16"
	HAR     Form = "har"
	Gzip    Form = "gzip"
	Zstd    Form = "zstd"
	Bzip2   Form = "bzip2"
	XZ      Form = "xz"
	Tar     Form = "tar"
	Zip     Form = "zip"
	Capture Form = "capture" // of packets: cut after the transport header, addresses replaced
	Image   Form = "image"   // cannot be read; what the camera wrote into it is taken out
	Opaque  Form = "opaque"  // cannot be read; nothing in it was redacted
)

// headSize is how much of a file is looked at to tell its form, in bytes.
const headSize = 8 << 10

// Limits on what is opened, against files that are made to fill a disk: MaxExpanded bounds what one file may grow to, in
// bytes; MaxRatio, how many times larger than its compressed data it may be; MaxDepth, how many containers may stand within
// each other; MaxMembers, how many files a container may hold.
const (
	MaxExpanded = 64 << 30
	MaxRatio    = 1200
	MaxDepth    = 8
	MaxMembers  = 1_000_000
)

// ErrBomb means that a compressed file grows beyond all measure.
var ErrBomb = errors.New("decompressed size exceeds the limit (possible decompression bomb)")

// Unreadable says whether nothing of the file could be read.
func (r Result) Unreadable() bool {
	return r.Form == Opaque || r.Form == Image || r.Inner == Opaque || r.Inner == Image
}

// File redacts one file of any form. A file that cannot be read at all is not written unless the source says so:
// Result.Unreadable tells, and the caller decides. A nil w only learns.
func (e *Engine) File(w io.Writer, r io.Reader, in Source) (Result, error) {
	if in.depth == 0 {
		e.sampler, e.tally, e.place, e.member = in.Sampler, in.Tally, in.Place, ""
	}
	for len(e.readers) <= in.depth {
		e.readers = append(e.readers, bufio.NewReaderSize(nil, headSize))
	}
	br := e.readers[in.depth]
	br.Reset(r)
	defer br.Reset(nil)
	head, err := br.Peek(headSize)
	if err != nil && err != io.EOF && err != bufio.ErrBufferFull {
		return Result{}, err
	}
	for _, f := range e.formats {
		if !f.Is(head, in.Name) {
			continue
		}
		if in.Opaque && in.depth == 0 && f.Form == Plain {
			res, err := applyOpaque(e, w, br, in)
			res.Form = Opaque
			return res, err
		}
		if in.depth >= MaxDepth && f.Form != Plain && f.Form != Opaque {
			res, err := applyOpaque(e, w, br, in)
			res.Form, res.Note = Opaque, "it lies too deep within other files"
			return res, err
		}
		if in.depth == 0 {
			if e.opened = f.Form; f.Form == Plain {
				e.opened = ""
			}
		}
		res, err := f.Apply(e, w, br, in)
		if res.Form == "" {
			res.Form = f.Form
		}
		if errors.Is(err, ErrBomb) && w == nil {
			return Result{Form: res.Form, Inner: Opaque, Note: err.Error()}, nil
		}
		return res, err
	}
	panic("the last form takes everything")
}

// inner redacts what a file holds.
func (e *Engine) inner(w io.Writer, r io.Reader, in Source, name string) (Result, error) {
	in.Name = name
	in.depth++
	return e.File(w, r, in)
}

// applyOpaque copies what cannot be read, if it may go along unread.
func applyOpaque(e *Engine, w io.Writer, r io.Reader, in Source) (Result, error) {
	if e.scan != nil {
		return Result{}, e.scan.opaque(e, r)
	}
	if !in.Unread || w == nil {
		return Result{}, nil
	}
	_, err := io.Copy(w, r)
	return Result{}, err
}

func applyText(e *Engine, w io.Writer, r io.Reader, in Source) (Result, error) {
	e.bare = bareStyle(in.Name)
	defer func() { e.bare = asIs }()
	if w != nil && !in.Once || e.scan != nil {
		counts, err := e.Text(w, r)
		return Result{Counts: counts}, err
	}
	j, r := judgedText(r)
	counts, err := e.Text(w, r)
	if err == nil && j.isBinary() {
		return Result{Form: Opaque, Counts: counts, Note: "it begins like text and is binary"}, nil
	}
	return Result{Counts: counts}, err
}

const (
	asIs   style = iota
	yamlly       // YAML: what begins with [ is a list, so a placeholder must be quoted
	tomlly       // TOML: a value without quotes is a number or a date
)

func bareStyle(name string) style {
	switch name = strings.ToLower(name); {
	case strings.HasSuffix(name, ".yaml"), strings.HasSuffix(name, ".yml"):
		return yamlly
	case strings.HasSuffix(name, ".toml"):
		return tomlly
	}
	return asIs
}

// begins makes a test for files that begin in one of some ways.
func begins(magics ...string) func(head []byte, _ string) bool {
	return func(head []byte, _ string) bool {
		for _, m := range magics {
			if bytes.HasPrefix(head, []byte(m)) {
				return true
			}
		}
		return false
	}
}

func isBzip2(head []byte, _ string) bool {
	return len(head) > 10 && string(head[:3]) == "BZh" && head[3] >= '1' && head[3] <= '9' && (string(head[4:10]) == "1AY&SY" ||
		string(head[4:10]) == "\x17\x72\x45\x38\x50\x90")
}

func isTar(head []byte, _ string) bool { return len(head) > 262 && string(head[257:262]) == "ustar" }

// opaqueMagics begin files whose inside is not text and is not opened.
var opaqueMagics = begins("7z\xbc\xaf\x27\x1c", "\x7fELF", "SQLite format 3\x00",
	"%PDF", "\xca\xfe\xba\xbe", "LPKSHHRH", "MZ\x90", "ElfFile\x00", "Rar!\x1a\x07",
	"\x1f\x9d", "JAVA PROFILE", "age-encryption.org/", "Salted__", "PAGEDU", "MDMP", "\x80\x02\x00\x00", "wOF2", "\x00asm", "BZh")

// isOpaque tells from its beginning that a file is no text: it begins like a known binary form, or more than a tenth of
// it are control characters. A text file with NUL bytes at its end (as a power cut leaves them) is text.
func isOpaque(head []byte, name string) bool {
	if opaqueMagics(head, name) && !bytes.HasPrefix(head, []byte("BZh")) {
		return true
	}
	body := bytes.TrimRight(head, "\x00")
	if len(body) == 0 {
		return false // empty, or nothing but NUL bytes
	}
	control := 0
	for _, c := range body {
		if c < 0x20 && c != '\n' && c != '\r' && c != '\t' && c != 0x1b && c != '\f' && c != '\b' || c == 0x7f {
			control++
		}
	}
	return control*10 > len(body)
}
