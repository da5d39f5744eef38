package archive

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"path"
	"slices"
	"strings"

	"envask/internal/durable"

	"github.com/klauspost/readahead"
)

// Limits on what is read from an archive, in bytes and files.
const (
	maxFiles   = 20_000_000
	maxFolders = 100_000
	maxBrief   = 1 << 20
	maxSigned  = 64 << 10
	maxListed  = 1000     // differences
	maxPadding = 64 << 10 // zeros behind the end mark of a tar file; tar pads to 10 KiB
)

// How much is unpacked before it is looked at, in buffers of so many bytes.
const (
	readAheadBuffers = 4
	readAheadSize    = 512 << 10
)

// Difference is one way in which an archive is not what its checksums say.
type Difference struct {
	Path string `json:"path"` // "" means the archive as a whole
	What string `json:"what"` // "missing", "extra", "changed", "truncated", "unsafe"
	Why  string `json:"why"`
}

// Report is the result of verifying.
type Report struct {
	Name        string       `json:"archive"`
	Size        int64        `json:"size"`   // bytes
	SHA256      string       `json:"sha256"` // of the archive file itself
	Top         string       `json:"top"`
	Files       int          `json:"files"`
	Bytes       int64        `json:"bytes"` // of content
	Complete    bool         `json:"complete"`
	Lacking     []string     `json:"lacking"`
	Differences []Difference `json:"differences"`
	SignedBy    string       `json:"signed_by,omitempty"` // public key that made the signature of the manifest
	// Manifest is what the archive says of itself, but for its two lists that grow with the evidence, which go to Look.
	Manifest *Manifest `json:"-"`
	Brief    string    `json:"-"` // the write-up, up to maxBrief
}

// Good says whether nothing differs.
func (r *Report) Good() bool { return len(r.Differences) == 0 }

func (r *Report) differ(p, what, why string) {
	d := Difference{p, what, why}
	if len(r.Differences) < maxListed && !slices.Contains(r.Differences, d) {
		r.Differences = append(r.Differences, d)
	}
}

// Inspect may look at the content of each file while it is verified; what it leaves unread is read for it.
type Inspect func(name string, r io.Reader) error

// Look says what else is looked at while an archive is verified. All of it may be nil.
type Look struct {
	Inspect Inspect
	File    func(*File)    // each of the manifest's list of files
	LeftOut func(*LeftOut) // each of its list of what is not there
	Again   func()         // File and LeftOut begin anew: the lists are read a second time
}

// VerifyFile checks an archive against its checksums and its manifest, in one read. What is wrong with the archive is in
// the report; the error is for what kept it from being read at all. The name of one part of a split archive stands for all.
func VerifyFile(ctx context.Context, name string, inspect Inspect) (*Report, error) {
	return Verify(ctx, name, Look{Inspect: inspect})
}

// Verify is VerifyFile with more to look at. Its memory does not grow with the manifest, the list of checksums or the files but for
// some fifty bytes each: names are told by their hashes, and an archive of which something differs is read once more to name it. An
// archive whose lists do not stand behind the files, as ours do, is read twice too.
func Verify(ctx context.Context, name string, look Look) (*Report, error) {
	f, err := openWhole(ctx, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return verifySource(ctx, f, f.size(), name, look)
}

func verifySource(ctx context.Context, f io.ReaderAt, size int64, name string, look Look) (*Report, error) {
	r := &Report{Name: name, Lacking: []string{}, Differences: []Difference{}}
	v := newVerifier(r, look)
	v.ctx = ctx
	defer v.index.sum.Close()
	if err := v.pass(ctx, f, size); err != nil {
		return nil, err
	}
	if v.index.late { // what came behind the lists is known now
		v.again(readLists)
		if look.Again != nil {
			look.Again()
		}
		if err := v.pass(ctx, f, size); err != nil {
			return nil, err
		}
	}
	if v.compare() {
		v.again(nameThem)
		if err := v.pass(ctx, f, size); err != nil {
			return nil, err
		}
		v.nameUnknown()
	}
	slices.SortStableFunc(r.Differences, func(a, b Difference) int { return strings.Compare(a.Path, b.Path) })
	return r, nil
}

// pass reads the archive once.
func (v *verifier) pass(ctx context.Context, f io.ReaderAt, size int64) error {
	head := make([]byte, 4)
	n, _ := f.ReadAt(head, 0)
	format := formatOf(head[:n])
	if format != nil && format.zip {
		if err := errors.Join(v.zip(f, size), ctx.Err()); err != nil {
			return err
		}
	}
	sum, count := sha256.New(), &byteCounter{}
	all := io.TeeReader(io.NewSectionReader(f, 0, size), io.MultiWriter(sum, count))
	br := bufio.NewReaderSize(all, 1<<20)
	if format == nil || !format.zip {
		if err := errors.Join(v.tar(br, format), ctx.Err()); err != nil { // what a reader says of the end of the context is no damage
			return err
		}
	}
	if v.stage != readAll {
		return nil
	}
	if _, err := io.Copy(io.Discard, br); err != nil {
		return err
	}
	v.report.Size, v.report.SHA256 = count.n, hex.EncodeToString(sum.Sum(nil))
	return nil
}

type byteCounter struct{ n int64 }

func (c *byteCounter) Write(b []byte) (int, error) {
	c.n += int64(len(b))
	return len(b), nil
}

// sealedHead is the beginning of a file that is encrypted with age.
const sealedHead = "age-encryption.org/v1"

// formatOf tells a format by the first bytes; nil is none of ours.
func formatOf(head []byte) *Format {
	for i := range Formats {
		if strings.HasPrefix(string(head), Formats[i].magic) {
			return &Formats[i]
		}
	}
	return nil
}

func (v *verifier) tar(in *bufio.Reader, format *Format) error {
	r := v.report
	if format == nil {
		v.hopeless = true
		if text, err := in.Peek(len(sealedHead)); err == nil && string(text) == sealedHead {
			r.differ("", "unsafe", "it is encrypted: decrypt it first, or verify the plain archive that it was made of")
			return nil
		}
		r.differ("", "truncated", "this is no archive of Envask, or its beginning is lost")
		return nil
	}
	zr, err := format.open(in)
	if err != nil {
		v.hopeless = true
		r.differ("", "truncated", "its beginning is lost")
		return nil
	}
	defer zr.Close()
	// Unpacking goes on beside hashing and searching.
	ahead, err := readahead.NewReaderSize(zr, readAheadBuffers, readAheadSize)
	if err != nil {
		return err
	}
	defer ahead.Close()
	unpacked := durable.Until(v.ctx, ahead) // a little of a file can unpack to much
	tr := tar.NewReader(unpacked)
	for {
		h, err := tr.Next()
		if err == io.EOF {
			break
		}
		if err == nil {
			err = v.entry(h, tr)
		}
		var ins *inspectError
		if errors.As(err, &ins) {
			return ins.err
		}
		if err != nil {
			r.differ("", "truncated", fmt.Sprintf("cannot be read after file %d (%v)", v.files, err))
			return nil
		}
	}
	return v.behindTheEnd(unpacked)
}

// behindTheEnd reads what stands behind the end mark of a tar file: zeros at most, for programs go on reading there. A compressed
// member that is cut off shows only here, too.
func (v *verifier) behindTheEnd(in io.Reader) error {
	buf, n := make([]byte, 32<<10), int64(0)
	for {
		k, err := in.Read(buf)
		n += int64(k)
		if len(bytes.Trim(buf[:k], "\x00")) > 0 || n > maxPadding {
			v.report.differ("", "extra", "something stands behind the end mark of the archive")
			return nil
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			if v.report.Good() {
				v.report.differ("", "truncated", fmt.Sprintf("its end is damaged (%v)", err))
			}
			return nil
		}
	}
}

type inspectError struct{ err error }

func (e *inspectError) Error() string { return e.err.Error() }

// stage is what a pass over the archive is for.
type stage int

const (
	readAll   stage = iota // everything: hashes, lists as far as they stand behind the files, whoever looks
	readLists              // the lists, whose files are known now
	nameThem               // the names of what differs
)

type verifier struct {
	ctx    context.Context
	report *Report
	look   Look
	stage  stage
	files  int // of this pass

	index    index
	pending  []Difference    // what the lists name and was not there when they were read
	folders  map[string]bool // told by the archive
	manifest manifestReader
	signed   []byte // the signature of the manifest; nil for none
	hasSums  bool
	hopeless bool // nothing could be read, which has been said
}

func newVerifier(r *Report, look Look) *verifier {
	v := &verifier{report: r, look: look, folders: map[string]bool{}}
	v.index = newIndex()
	return v
}

// again begins another pass.
func (v *verifier) again(s stage) {
	v.stage, v.files = s, 0
	if s == readLists {
		v.pending = nil
		v.index.forgetLists()
		v.manifest = manifestReader{}
	}
}

// badHeader says what a tar header holds that no archive of ours has, and that could hide something; "" is nothing.
func badHeader(h *tar.Header) string {
	for key := range h.PAXRecords {
		if key != "path" && key != "size" && key != "mtime" {
			return fmt.Sprintf("its header holds more than an archive of Envask does (%.40q)", key)
		}
	}
	return ""
}

// entry reads one file of the archive.
func (v *verifier) entry(h *tar.Header, content io.Reader) error {
	top, name, ok := strings.Cut(h.Name, "/")
	if v.report.Top == "" {
		v.report.Top = top
	}
	r := v.report
	if v.files++; v.files > maxFiles {
		return errors.New("more files than an archive may hold")
	}
	bad := badHeader(h)
	clean := strings.TrimSuffix(h.Name, "/")
	switch {
	case path.Clean("/"+clean) != "/"+clean || strings.HasPrefix(top, "..") || strings.ContainsAny(h.Name, "\\\x00"):
		r.differ(h.Name, "unsafe", "lies outside the top folder")
		return nil
	case top != r.Top:
		r.differ(h.Name, "extra", "lies outside the top folder "+r.Top)
		return nil
	case bad != "":
		r.differ(h.Name, "extra", bad)
		return nil
	case h.Typeflag == tar.TypeDir:
		v.files--
		return v.folder(strings.TrimSuffix(name, "/"), h)
	case h.Typeflag != tar.TypeReg:
		r.differ(h.Name, "unsafe", "is not a regular file")
		return nil
	case !ok || name == "" || strings.HasSuffix(name, "/"):
		r.differ(h.Name, "unsafe", "lies outside the top folder")
		return nil
	}
	switch v.stage {
	case readLists:
		return v.list(name, content)
	case nameThem:
		v.index.tell(name)
		return v.list(name, content)
	}
	return v.file(name, h, content)
}

// folder takes down a folder: it must hold nothing, and files must stand below it.
func (v *verifier) folder(name string, h *tar.Header) error {
	if h.Size != 0 {
		v.report.differ(h.Name, "unsafe", "is marked a folder and has content")
	}
	if len(v.folders) > maxFolders {
		return errors.New("more folders than an archive may hold")
	}
	v.folders[name] = v.folders[name] || name == ""
	return nil
}

// file reads a file whole.
func (v *verifier) file(name string, h *tar.Header, content io.Reader) error {
	for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
		v.index.parent(dir)
	}
	v.report.Files++
	count := &byteCounter{}
	writers := []io.Writer{v.index.sum, count}
	var list io.WriteCloser
	switch name {
	case SumsName, ManifestName:
		list = v.reader(name)
		writers = append(writers, list)
	}
	tee := io.TeeReader(content, io.MultiWriter(writers...))
	err := v.kept(name, tee)
	if err == nil {
		_, err = io.Copy(io.Discard, tee)
	}
	if list != nil {
		list.Close()
	}
	sum := v.index.sum.Sum()
	var ins *inspectError
	if errors.As(err, &ins) {
		return err
	}
	if err != nil {
		v.report.differ(name, "truncated", fmt.Sprintf("ends after %d of %d bytes", count.n, h.Size))
		v.index.add(name, count.n, [sha256.Size]byte{}, true)
		return err
	}
	v.report.Bytes += count.n
	v.index.add(name, count.n, sum, false)
	v.index.listed = v.index.listed || list != nil
	v.index.sums = v.index.sums || name == SumsName
	return nil
}

// kept keeps the beginning of what is small, and lets who wants look at the content.
func (v *verifier) kept(name string, tee io.Reader) error {
	limit := int64(0)
	switch name {
	case SignatureName:
		limit = maxSigned
	case BriefName:
		limit = maxBrief
	}
	src := tee
	if limit > 0 {
		data, err := io.ReadAll(io.LimitReader(tee, limit))
		if err != nil {
			return err
		}
		if src = io.MultiReader(bytes.NewReader(data), tee); name == SignatureName {
			v.signed = data
		} else {
			v.report.Brief = string(data)
		}
	}
	if v.look.Inspect == nil {
		return nil
	}
	if err := v.look.Inspect(name, src); err != nil {
		return &inspectError{err}
	}
	return nil
}

// list reads one of the two lists, in a pass that is for them.
func (v *verifier) list(name string, content io.Reader) error {
	if name != SumsName && name != ManifestName {
		return nil
	}
	w := v.reader(name)
	defer w.Close()
	_, err := io.Copy(w, content)
	return err
}

// reader gives what reads a list as it comes.
func (v *verifier) reader(name string) io.WriteCloser {
	if name == SumsName {
		v.hasSums = true
		return newSumsReader(v)
	}
	return v.manifest.begin(v)
}

// compare says what does not agree, as far as that is known without names; more is true when names are needed.
func (v *verifier) compare() (more bool) {
	r := v.report
	if v.hopeless {
		return false
	}
	if !v.hasSums {
		r.differ(SumsName, "missing", "without it nothing can be checked")
		return false
	}
	for _, d := range v.pending {
		r.differ(d.Path, d.What, d.Why)
	}
	v.manifest.finish(v)
	for dir, has := range v.folders {
		if !has && !v.index.parents[v.index.key(dir)] {
			r.differ(dir, "extra", "is a folder without a file")
		}
	}
	return v.index.unlisted()
}

// missing takes down that a list names what is not there; it may still come.
func (v *verifier) missing(name, why string) {
	if len(v.pending) < maxListed {
		v.pending = append(v.pending, Difference{name, "missing", why})
	}
}

// nameUnknown says what differs of those whose names came to light, or of those whose did not.
func (v *verifier) nameUnknown() {
	for _, u := range v.index.unknown {
		if u.name != "" {
			v.report.differ(u.name, u.what, u.why)
		}
	}
}

// digests makes what a signature is of.
type digests struct{ sum512 hash.Hash }

func newDigests() digests { return digests{sha512.New()} }
