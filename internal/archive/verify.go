package archive

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"regexp"
	"sort"
	"strings"

	"github.com/klauspost/readahead"

	"envask/internal/seal"
)

// Limits on what is read from an archive, in bytes and files.
const (
	maxSums     = 512 << 20
	maxManifest = 1 << 30
	maxFiles    = 20_000_000
	maxBrief    = 1 << 20
	maxSigned   = 64 << 10
	maxListed   = 1000 // differences
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
	Manifest    *Manifest    `json:"-"`
	Brief       string       `json:"-"` // the write-up, up to maxBrief
}

// Good says whether nothing differs.
func (r *Report) Good() bool { return len(r.Differences) == 0 }

func (r *Report) differ(p, what, why string) {
	if len(r.Differences) < maxListed {
		r.Differences = append(r.Differences, Difference{p, what, why})
	}
}

// Inspect may look at the content of each file while it is verified; what it leaves unread is read for it.
type Inspect func(name string, r io.Reader) error

// VerifyFile checks an archive against its checksums and its manifest, in one read. What is wrong with the archive is in
// the report; the error is for what kept it from being read at all. The name of one part of a split archive stands for all.
func VerifyFile(ctx context.Context, name string, inspect Inspect) (*Report, error) {
	f, err := openWhole(ctx, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	sum := sha256.New()
	r := &Report{Name: name, Lacking: []string{}, Differences: []Difference{}}
	count := &byteCounter{}
	head := make([]byte, 4)
	n, _ := f.ReadAt(head, 0)
	format := formatOf(head[:n])
	if format != nil && format.zip {
		if err := errors.Join(r.verifyZip(f, f.size(), inspect), ctx.Err()); err != nil {
			return nil, err
		}
	}
	all := io.TeeReader(io.NewSectionReader(f, 0, f.size()), io.MultiWriter(sum, count))
	br := bufio.NewReaderSize(all, 1<<20)
	if format == nil || !format.zip {
		if err := errors.Join(r.verify(br, format, inspect), ctx.Err()); err != nil { // what a reader says of the end of the context is no damage
			return nil, err
		}
	}
	if _, err := io.Copy(io.Discard, br); err != nil {
		return nil, err
	}
	r.Size, r.SHA256 = count.n, hex.EncodeToString(sum.Sum(nil))
	sort.SliceStable(r.Differences, func(i, j int) bool { return r.Differences[i].Path < r.Differences[j].Path })
	return r, nil
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

// verifyZip reads the members of a zip file in the order of its list.
func (r *Report) verifyZip(f io.ReaderAt, size int64, inspect Inspect) error {
	v := newVerifier(r, inspect)
	defer v.sum.Close()
	z, err := zip.NewReader(f, size)
	if err != nil {
		r.differ("", "truncated", fmt.Sprintf("its list of files cannot be read (%v)", err))
		v.compare()
		return nil
	}
	for _, e := range z.File {
		kind := byte(tar.TypeReg)
		if e.Mode().IsDir() {
			kind = tar.TypeDir
		} else if !e.Mode().IsRegular() {
			kind = tar.TypeSymlink
		}
		if name, err := nameThere(f, e); err != nil || name != e.Name {
			r.differ(e.Name, "changed", "its beginning says another name than the list of files")
		}
		content, err := e.Open()
		if err != nil {
			r.differ(e.Name, "truncated", fmt.Sprintf("cannot be read (%v)", err))
			continue
		}
		err = v.entry(&tar.Header{Typeflag: kind, Name: e.Name, Size: int64(min(e.UncompressedSize64, 1<<62))}, content)
		content.Close()
		var ins *inspectError
		if errors.As(err, &ins) {
			return ins.err
		}
		if v.report.Files > maxFiles {
			return err
		}
	}
	v.compare()
	return nil
}

// nameThere reads the name that stands before a member's content; some programs go by that one.
func nameThere(f io.ReaderAt, e *zip.File) (string, error) {
	at, err := e.DataOffset()
	if err != nil {
		return "", err
	}
	name := make([]byte, len(e.Name))
	_, err = f.ReadAt(name, at-int64(len(e.Extra))-int64(len(name)))
	return string(name), err
}

func (r *Report) verify(in io.Reader, format *Format, inspect Inspect) error {
	if format == nil {
		if head, ok := in.(*bufio.Reader); ok {
			if text, err := head.Peek(len(sealedHead)); err == nil && string(text) == sealedHead {
				r.differ("", "unsafe", "it is encrypted: decrypt it first, or verify the plain archive that it was made of")
				return nil
			}
		}
		r.differ("", "truncated", "this is no archive of Envask, or its beginning is lost")
		return nil
	}
	zr, err := format.open(in)
	if err != nil {
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
	v := newVerifier(r, inspect)
	defer v.sum.Close()
	tr := tar.NewReader(ahead)
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
			r.differ("", "truncated", fmt.Sprintf("cannot be read after file %d (%v)", r.Files, err))
			break
		}
	}
	// The tar reader stops at the end mark; a gzip member that is cut off shows only when the rest is read.
	if _, err := io.Copy(io.Discard, ahead); err != nil && r.Good() {
		r.differ("", "truncated", fmt.Sprintf("its end is damaged (%v)", err))
	}
	v.compare()
	return nil
}

type inspectError struct{ err error }

func (e *inspectError) Error() string { return e.err.Error() }

type verifier struct {
	report   *Report
	inspect  Inspect
	sum      *besideHash
	got      map[string]string // SHA-256 by name below the top folder
	sums     []byte
	manifest []byte
	signed   []byte // the signature of the manifest; nil for none
}

func newVerifier(r *Report, inspect Inspect) *verifier {
	return &verifier{report: r, inspect: inspect, sum: newBesideHash(), got: map[string]string{}}
}

// entry reads one file of the archive.
func (v *verifier) entry(h *tar.Header, content io.Reader) error {
	top, name, ok := strings.Cut(h.Name, "/")
	if v.report.Top == "" {
		v.report.Top = top
	}
	switch {
	case h.Typeflag == tar.TypeDir:
		return nil
	case h.Typeflag != tar.TypeReg:
		v.report.differ(h.Name, "unsafe", "is not a plain file")
		return nil
	case !ok || name == "" || path.Clean("/"+h.Name) != "/"+h.Name || strings.HasPrefix(top, ".."):
		v.report.differ(h.Name, "unsafe", "lies outside the top folder")
		return nil
	case top != v.report.Top:
		v.report.differ(h.Name, "extra", "lies outside the top folder "+v.report.Top)
		return nil
	}
	if _, twice := v.got[name]; twice {
		v.report.differ(name, "extra", "is there twice")
	}
	if v.report.Files++; v.report.Files > maxFiles {
		return errors.New("more files than an archive may hold")
	}
	count := &byteCounter{}
	tee := io.TeeReader(content, io.MultiWriter(v.sum, count))
	var err error
	switch name {
	case SumsName:
		v.sums, err = readUpTo(tee, maxSums)
	case ManifestName:
		v.manifest, err = readUpTo(tee, maxManifest)
	case SignatureName:
		if v.signed, err = readUpTo(tee, maxSigned); err == nil && v.inspect != nil {
			content = bytes.NewReader(v.signed)
		}
	case BriefName:
		var brief []byte
		if brief, err = io.ReadAll(io.LimitReader(tee, maxBrief)); err == nil {
			v.report.Brief = string(brief)
			if v.inspect != nil {
				content = io.MultiReader(bytes.NewReader(brief), tee)
			}
		}
	}
	if err == nil && v.inspect != nil {
		src := tee
		if name == SumsName {
			src = bytes.NewReader(v.sums)
		} else if name == ManifestName {
			src = bytes.NewReader(v.manifest)
		} else if name == BriefName || name == SignatureName {
			src = content
		}
		if e := v.inspect(name, src); e != nil {
			return &inspectError{e}
		}
	}
	if err == nil {
		_, err = io.Copy(io.Discard, tee)
	}
	sum := v.sum.Sum()
	if err != nil {
		v.report.differ(name, "truncated", fmt.Sprintf("ends after %d of %d bytes", count.n, h.Size))
		v.got[name] = "-"
		return err
	}
	v.report.Bytes += count.n
	v.got[name] = hex.EncodeToString(sum[:])
	return nil
}

func readUpTo(r io.Reader, limit int64) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(data)) > limit {
		err = errors.New("larger than it may be")
	}
	return data, err
}

var sumLine = regexp.MustCompile(`^([0-9a-f]{64})  (.+)$`)

// compare holds what was read against the checksums, and the checksums against the manifest.
func (v *verifier) compare() {
	r := v.report
	if v.sums == nil {
		r.differ(SumsName, "missing", "without it nothing can be checked")
		return
	}
	want := map[string]string{}
	for i, line := range strings.Split(strings.TrimSuffix(string(v.sums), "\n"), "\n") {
		m := sumLine.FindStringSubmatch(line)
		if m == nil {
			r.differ(SumsName, "changed", fmt.Sprintf("line %d is not a checksum and a name", i+1))
			continue
		}
		want[m[2]] = m[1]
	}
	for name, sum := range want {
		switch got, ok := v.got[name]; {
		case !ok:
			r.differ(name, "missing", "stands in "+SumsName+" and is not there")
		case got != sum && got != "-":
			r.differ(name, "changed", "SHA-256 is "+got[:16]+"…, expected "+sum[:16]+"…")
		}
	}
	for name := range v.got {
		if _, ok := want[name]; !ok && name != SumsName {
			r.differ(name, "extra", "does not stand in "+SumsName)
		}
	}
	v.compareManifest(want)
}

// checkSignature holds the signature against the manifest, and the key that made it against the one that the manifest names.
func (v *verifier) checkSignature(m *Manifest) {
	r := v.report
	if v.signed == nil {
		if m.SignedBy != "" {
			r.differ(SignatureName, "missing", "the manifest says that it is signed")
		}
		return
	}
	by, err := seal.CheckSignature(string(v.signed), v.manifest)
	switch {
	case err != nil:
		r.differ(SignatureName, "changed", err.Error())
	case by != m.SignedBy:
		r.differ(SignatureName, "changed", "another key made it than the manifest names")
	default:
		r.SignedBy = by
	}
}

func (v *verifier) compareManifest(want map[string]string) {
	r := v.report
	if v.manifest == nil {
		if _, ok := want[ManifestName]; !ok {
			r.differ(ManifestName, "missing", "says what the archive holds")
		}
		return
	}
	var m Manifest
	if err := json.Unmarshal(v.manifest, &m); err != nil {
		r.differ(ManifestName, "changed", "cannot be read: "+err.Error())
		return
	}
	r.Manifest, r.Complete = &m, m.Complete
	v.checkSignature(&m)
	if m.Lacking != nil {
		r.Lacking = m.Lacking
	}
	listed := map[string]bool{}
	for _, f := range m.Files {
		listed[f.Path] = true
		if sum, ok := want[f.Path]; !ok {
			r.differ(f.Path, "missing", "stands in "+ManifestName+" and not in "+SumsName)
		} else if sum != f.SHA256 {
			r.differ(f.Path, "changed", "its checksum in "+ManifestName+" is another than in "+SumsName)
		}
	}
	for name := range want {
		if IsEvidence(name) && !listed[name] {
			r.differ(name, "extra", "does not stand in "+ManifestName)
		}
	}
}
