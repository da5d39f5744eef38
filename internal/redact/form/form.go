package form

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"time"

	"envask/internal/redact/alias"
)

// Kind says how a file was looked at.
type Kind string

// The forms. Containers and compressed files are opened, redacted inside and closed again.
const (
	Plain   Kind = "text"
	UTF16   Kind = "utf-16"
	HAR     Kind = "har"
	Gzip    Kind = "gzip"
	Zstd    Kind = "zstd"
	Bzip2   Kind = "bzip2"
	XZ      Kind = "xz"
	Tar     Kind = "tar"
	Zip     Kind = "zip"
	Capture Kind = "capture" // of packets: cut after the transport header, addresses replaced
	Image   Kind = "image"   // cannot be read; what the camera wrote into it is taken out
	Opaque  Kind = "opaque"  // cannot be read; nothing in it was redacted
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

// Counts is how many findings each rule had.
type Counts map[string]int

// Add adds the counts of another.
func (c Counts) Add(other Counts) {
	for k, n := range other {
		c[k] += n
	}
}

// Total gives the sum.
func (c Counts) Total() int {
	sum := 0
	for _, n := range c {
		sum += n
	}
	return sum
}

// Result is what became of one file.
type Result struct {
	Form   Kind
	Inner  Kind // of what a compressed file holds
	Counts Counts
	Note   string   // what could not be done
	Unread []string // members of a container that cannot be read
}

// Worker is what is done with what stands in files: it is replaced, or values are searched for in it.
type Worker interface {
	// Text takes a text of a file of a name. A nil w only learns.
	Text(w io.Writer, r io.Reader, name string) (Counts, error)
	// Short takes a short text, such as a name, and gives what stands in its place.
	Short(text string) (string, Counts)
	// Secret takes the value of a secret; replaced is false when it stays.
	Secret(rule, value string) (instead string, replaced bool)
	// Identity takes an identity that does not stand in text; replaced is false when it stays.
	Identity(class alias.Class, rule, text string) (instead string, replaced bool)
	// Searches says whether nothing is replaced, but values are searched for: Unread takes then what cannot be read.
	Searches() bool
	// Unread takes what cannot be read.
	Unread(r io.Reader) error
}

// Source says what is known of a file besides its content.
type Source struct {
	Name   string                 // its path; some forms are told by it
	Unread bool                   // what cannot be read goes along unread, on the engineer's word
	Within func(t time.Time) bool // packets of other times are left out; nil keeps all
	Opaque bool                   // an earlier reading found that it is no text, whatever it begins with
	Once   bool                   // nobody read it before: whether it is text is seen only at its end
	depth  int
}

// Opener opens files, one at a time. Its memory does not depend on their length.
type Opener struct {
	worker  Worker
	temp    string // folder for members of containers that are too long for memory
	formats []format
	readers []*bufio.Reader // for looking at the head of a file, one for each depth; kept, since there may be very many files
	opened  Kind            // of the current file unless it is plain text
	member  string          // of a container, that is looked at
	growth  *growth         // of what is compressed; nil outside of it
}

// NewOpener makes an opener. Without a folder for temporary files it keeps short members only.
func NewOpener(w Worker, temp string) *Opener {
	return &Opener{worker: w, temp: temp, formats: formats()}
}

// Opened is the form of the current file, or "" when it is plain text.
func (o *Opener) Opened() Kind { return o.opened }

// Member is the member of a container that is looked at, or "".
func (o *Opener) Member() string { return o.member }

// format redacts files of one form.
type format struct {
	Form  Kind
	Is    func(head []byte, name string) bool
	Apply func(o *Opener, w io.Writer, r io.Reader, in Source) (Result, error)
}

// formats gives the table of forms; the first that fits is used.
func formats() []format {
	return []format{
		{Gzip, begins("\x1f\x8b\x08"), applyCompressed(Gzip)},
		{Zstd, begins("\x28\xb5\x2f\xfd"), applyCompressed(Zstd)},
		{Bzip2, isBzip2, applyCompressed(Bzip2)},
		{XZ, begins("\xfd7zXZ\x00"), applyCompressed(XZ)},
		{Zip, begins("PK\x03\x04"), applyZip},
		{Tar, isTar, applyTar},
		{Capture, begins("\xd4\xc3\xb2\xa1", "\xa1\xb2\xc3\xd4", "\x4d\x3c\xb2\xa1", "\xa1\xb2\x3c\x4d"), applyPcap},
		{Capture, begins("\x0a\x0d\x0d\x0a"), applyPcapng},
		{UTF16, isUTF16, applyUTF16},
		{Image, isImage, applyImage},
		{Opaque, isOpaque, applyOpaque},
		{HAR, isHAR, applyHAR},
		{Plain, func([]byte, string) bool { return true }, applyText},
	}
}

// File redacts one file of any form. A file that cannot be read at all is not written unless the source says so:
// Result.Unreadable tells, and the caller decides. A nil w only learns.
func (o *Opener) File(w io.Writer, r io.Reader, in Source) (Result, error) {
	if in.depth == 0 {
		o.member = ""
	}
	for len(o.readers) <= in.depth {
		o.readers = append(o.readers, bufio.NewReaderSize(nil, headSize))
	}
	br := o.readers[in.depth]
	br.Reset(r)
	defer br.Reset(nil)
	head, err := br.Peek(headSize)
	if err != nil && err != io.EOF && err != bufio.ErrBufferFull {
		return Result{}, err
	}
	for _, f := range o.formats {
		if !f.Is(head, in.Name) {
			continue
		}
		if in.Opaque && in.depth == 0 && f.Form == Plain {
			res, err := applyOpaque(o, w, br, in)
			res.Form = Opaque
			return res, err
		}
		if in.depth >= MaxDepth && f.Form != Plain && f.Form != Opaque {
			res, err := applyOpaque(o, w, br, in)
			res.Form, res.Note = Opaque, "it lies too deep within other files"
			return res, err
		}
		if in.depth == 0 {
			if o.opened = f.Form; f.Form == Plain {
				o.opened = ""
			}
		}
		res, err := f.Apply(o, w, br, in)
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
func (o *Opener) inner(w io.Writer, r io.Reader, in Source, name string) (Result, error) {
	in.Name = name
	in.depth++
	return o.File(w, r, in)
}

// applyOpaque copies what cannot be read, if it may go along unread.
func applyOpaque(o *Opener, w io.Writer, r io.Reader, in Source) (Result, error) {
	if o.worker.Searches() {
		return Result{}, o.worker.Unread(r)
	}
	if !in.Unread || w == nil {
		return Result{}, nil
	}
	_, err := io.Copy(w, r)
	return Result{}, err
}

func applyText(o *Opener, w io.Writer, r io.Reader, in Source) (Result, error) {
	if w != nil && !in.Once || o.worker.Searches() {
		counts, err := o.worker.Text(w, r, in.Name)
		return Result{Counts: counts}, err
	}
	j, r := judgedText(r)
	counts, err := o.worker.Text(w, r, in.Name)
	if err == nil && j.isBinary() {
		return Result{Form: Opaque, Counts: counts, Note: "it begins like text and is binary"}, nil
	}
	return Result{Counts: counts}, err
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
