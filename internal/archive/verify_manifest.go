package archive

import (
	"errors"
	"io"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/seal"
)

// Limits on what is read from a manifest, in bytes: one entry of its lists, and all else.
const (
	maxElement = 1 << 20
	maxRest    = 24 << 20
)

// manifestReader reads a manifest as it comes: of its two lists that grow with the evidence, one entry is in memory at a time.
type manifestReader struct {
	found   bool
	err     error
	rest    map[string]json.RawMessage
	digests digests
	files   int
}

// begin gives what reads the manifest.
func (m *manifestReader) begin(v *verifier) io.WriteCloser {
	if v.stage == nameThem {
		return readBeside(func(io.Reader) {})
	}
	*m = manifestReader{found: true, digests: newDigests()}
	return readBeside(func(in io.Reader) {
		in = io.TeeReader(in, m.digests.sum512)
		allowed := &allowance{r: in}
		m.err = m.read(v, json.NewDecoder(allowed), allowed)
		_, _ = io.Copy(io.Discard, in) // for the digest
	})
}

// allowance is a reader of which so many bytes may be read until more are allowed.
type allowance struct {
	r    io.Reader
	left int
}

var errLongElement = errors.New("it holds something longer than it may")

func (a *allowance) Read(b []byte) (int, error) {
	if a.left <= 0 {
		return 0, errLongElement
	}
	n, err := a.r.Read(b[:min(len(b), a.left)])
	a.left -= n
	return n, err
}

func (m *manifestReader) read(v *verifier, dec *json.Decoder, allowed *allowance) (err error) {
	m.rest, err = readManifest(dec, allowed, func(f *File) error { return m.file(v, f) }, func(l *LeftOut) error {
		if v.look.LeftOut != nil {
			v.look.LeftOut(l)
		}
		return nil
	})
	return err
}

// ReadManifest reads a manifest by itself. Its list of files goes to a function, entry by entry.
func ReadManifest(r io.Reader, file func(*File) error) (*Manifest, error) {
	allowed := &allowance{r: r}
	rest, err := readManifest(json.NewDecoder(allowed), allowed, file, func(*LeftOut) error { return nil })
	if err != nil {
		return nil, err
	}
	return fromRest(rest)
}

func fromRest(rest map[string]json.RawMessage) (*Manifest, error) {
	data, err := json.Marshal(rest)
	m := &Manifest{}
	if err == nil {
		err = json.Unmarshal(data, m)
	}
	return m, err
}

// readManifest reads a manifest, and gives all of it but its two long lists.
func readManifest(dec *json.Decoder, allowed *allowance, file func(*File) error,
	left func(*LeftOut) error) (map[string]json.RawMessage, error) {
	rest, size := map[string]json.RawMessage{}, 0
	allowed.left = maxElement
	if t, err := dec.Token(); err != nil || t != json.Delim('{') {
		return nil, errors.Join(err, errors.New("it is not an object"))
	}
	for dec.More() {
		allowed.left = maxRest
		t, err := dec.Token()
		if err != nil {
			return nil, err
		}
		switch key := t.(string); key {
		case "files":
			err = eachElement(dec, allowed, file)
		case "left_out":
			err = eachElement(dec, allowed, left)
		default:
			var raw json.RawMessage
			if err = dec.Decode(&raw); err == nil {
				if size += len(raw); size > maxRest {
					return nil, errLongElement
				}
				rest[key] = raw
			}
		}
		if err != nil {
			return nil, err
		}
	}
	allowed.left = maxElement
	if _, err := dec.Token(); err != nil {
		return nil, err
	}
	allowed.left = maxElement
	if _, err := dec.Token(); err != io.EOF {
		return nil, errors.New("something stands behind it")
	}
	return rest, nil
}

// eachElement reads a list, entry by entry; null is an empty one.
func eachElement[T any](dec *json.Decoder, allowed *allowance, each func(*T) error) error {
	t, err := dec.Token()
	if err != nil || t == nil {
		return err
	}
	if t != json.Delim('[') {
		return errors.New("a list is not one")
	}
	for dec.More() {
		allowed.left = maxElement
		var x T
		if err := dec.Decode(&x); err != nil {
			return err
		}
		if err := each(&x); err != nil {
			return err
		}
	}
	allowed.left = maxElement
	_, err = dec.Token()
	return err
}

// file holds one entry of the list of files against the file of its path.
func (m *manifestReader) file(v *verifier, f *File) error {
	r := v.report
	if m.files++; m.files > v.index.n+maxListed && !v.index.sums {
		return errors.New("it names more files than there are")
	}
	s := v.index.find(f.Path)
	switch {
	case s == nil:
		v.missing(f.Path, "stands in "+ManifestName+" and is missing")
	case s.is&inManifest != 0:
		r.differ(f.Path, "changed", "stands in "+ManifestName+" twice")
	case s.is&isOurs != 0:
		r.differ(f.Path, "changed", "stands in "+ManifestName+" and is no evidence")
	default:
		s.is |= inManifest
		if !v.index.agrees(s, []byte(f.SHA256)) || s.is&isCut == 0 && s.size != uint32(f.Size) {
			r.differ(f.Path, "changed", "its checksum or size in "+ManifestName+" is another")
		}
	}
	if v.look.File != nil {
		v.look.File(f)
	}
	return nil
}

// finish says what the manifest as a whole says.
func (m *manifestReader) finish(v *verifier) {
	r := v.report
	switch {
	case !m.found:
		r.differ(ManifestName, "missing", "says what the archive holds")
		return
	case m.err != nil:
		r.differ(ManifestName, "changed", "cannot be read: "+m.err.Error())
		return
	}
	out, err := fromRest(m.rest)
	if err != nil {
		r.differ(ManifestName, "changed", "cannot be read: "+err.Error())
		return
	}
	r.Manifest, r.Complete = out, out.Complete
	if out.Lacking != nil {
		r.Lacking = out.Lacking
	}
	v.checkSignature(out)
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
	by, err := seal.CheckSignatureOf(string(v.signed), v.manifest.digests.sum512.Sum(nil))
	switch {
	case err != nil:
		r.differ(SignatureName, "changed", err.Error())
	case by != m.SignedBy:
		r.differ(SignatureName, "changed", "another key made it than the manifest names")
	default:
		r.SignedBy = by
	}
}
