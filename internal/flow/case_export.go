package flow

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/go-json-experiment/json/v1"
	"github.com/klauspost/compress/zstd"

	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/seal"
)

// A case that is moved is a tar in Zstandard, encrypted with age: first movedHead, then the files of the case by their paths, last movedEnd
// with a digest of all before it.
const (
	movedHead    = "case.json"
	movedEnd     = "end.json"
	movedFiles   = "files/"
	movedFormat  = 1
	elsewhereDir = "from-elsewhere" // of a case that came: the ask and the systems file as they were there
)

// movedCase is what stands at the head of a moved case.
type movedCase struct {
	Format  int       `json:"format"`
	Case    string    `json:"case"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Raw     bool      `json:"raw"` // the evidence as taken is in it
	Version string    `json:"version"`
}

// movedSums is what stands at its end.
type movedSums struct {
	Files  int    `json:"files"`
	Bytes  int64  `json:"bytes"`
	Digest string `json:"digest"` // SHA-256 over path, size and SHA-256 of each file, in order
}

// digest sums up files in their order.
type digest struct {
	movedSums
	h hash.Hash
}

func newDigest() *digest { return &digest{h: sha256.New()} }

func (d *digest) add(name string, size int64, sum []byte) {
	d.Files++
	d.Bytes += size
	fmt.Fprintf(d.h, "%d %q %x\n", size, name, sum)
}

func (d *digest) done() movedSums {
	d.Digest = hex.EncodeToString(d.h.Sum(nil))
	return d.movedSums
}

// ExportRequest is how a case is moved.
type ExportRequest struct {
	File      string
	EncryptTo []string // public keys; none: it is not encrypted, which has to be said
	NoRaw     bool     // without the evidence as taken
}

// exportedRecord is a case that was moved elsewhere. It is in the ledger that goes along.
type exportedRecord struct {
	To  []string `json:"encrypted_to"`
	Raw bool     `json:"raw"`
	By  string   `json:"by"`
}

// Exported is what came of it.
type Exported struct {
	File   string `json:"file"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
	Files  int    `json:"files"`
	Bytes  int64  `json:"bytes"`
	Raw    bool   `json:"raw"`
}

// MoveProgress says how much of a case was written or read.
type MoveProgress struct {
	Name string
	Done int64 // bytes
}

// Export writes a whole case into one file, for a colleague's machine.
func (a *App) Export(ctx context.Context, c *casefile.Case, q ExportRequest) (*Exported, error) {
	var recipients []age.Recipient
	for _, k := range q.EncryptTo {
		r, err := seal.Recipient(k)
		if err != nil {
			return nil, fault.New(fault.Usage, "", "--encrypt-to", err.Error(), "")
		}
		recipients = append(recipients, r)
	}
	if _, err := os.Lstat(q.File); err == nil {
		return nil, fault.New(fault.Usage, "write", q.File, "there is a file of that name already",
			"choose another name; nothing is overwritten")
	}
	w, err := a.write(c)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	if err := w.Ledger.Append(kindExported, exportedRecord{append([]string{}, q.EncryptTo...), !q.NoRaw, a.Who}); err != nil {
		return nil, fault.Wrap("write the ledger", c.Name, err)
	}
	out := &Exported{File: q.File, Raw: !q.NoRaw}
	err = durable.Write(q.File, 0o600, func(to io.Writer) error {
		sum := sha256.New()
		counted := &counter{w: io.MultiWriter(to, sum)}
		m := &mover{app: a, ctx: ctx, digest: newDigest()}
		if err := m.write(counted, c, q, recipients); err != nil {
			return err
		}
		out.Size, out.SHA256, out.Files, out.Bytes = counted.n, hex.EncodeToString(sum.Sum(nil)), m.digest.Files, m.digest.Bytes
		return nil
	})
	if ctx.Err() != nil {
		return nil, &fault.Error{Class: fault.Interrupted, Op: "export", Err: errors.New("interrupted"), Hint: "run it again"}
	}
	return out, fault.Wrap("export", c.Name, err)
}

// counter counts what is written.
type counter struct {
	w io.Writer
	n int64
}

func (c *counter) Write(b []byte) (int, error) {
	n, err := c.w.Write(b)
	c.n += int64(n)
	return n, err
}

// mover writes the files of a case.
type mover struct {
	app    *App
	ctx    context.Context
	tw     *tar.Writer
	digest *digest
}

func (m *mover) write(to io.Writer, c *casefile.Case, q ExportRequest, recipients []age.Recipient) error {
	var sealed io.WriteCloser
	var err error
	if len(recipients) > 0 {
		if sealed, err = age.Encrypt(to, recipients...); err != nil {
			return err
		}
		to = sealed
	}
	z, err := zstd.NewWriter(to, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(2))
	if err != nil {
		return err
	}
	m.tw = tar.NewWriter(z)
	head := movedCase{movedFormat, c.Name, m.app.Who, m.app.Now().UTC().Truncate(time.Second), !q.NoRaw, m.app.Version}
	err = m.json(movedHead, head)
	if err == nil {
		err = m.folder(c, q)
	}
	for name, file := range map[string]string{"ask.yaml": c.Ask, "systems.yaml": c.Systems} {
		if err == nil {
			err = m.input(name, file)
		}
	}
	if err == nil {
		err = m.json(movedEnd, m.digest.done())
	}
	err = errors.Join(err, m.tw.Close(), z.Close())
	if sealed != nil && err == nil {
		err = sealed.Close()
	}
	return err
}

// stays reports whether something of a case folder belongs to this machine alone.
func stays(rel string) bool {
	first, _, _ := strings.Cut(rel, "/")
	return first == "lock" || first == "holder.json" || first == "tmp" || first == "spare" || strings.HasPrefix(first, ".")
}

func (m *mover) folder(c *casefile.Case, q ExportRequest) error {
	return filepath.WalkDir(c.Dir, func(file string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(c.Dir, file)
		if err != nil {
			return err
		}
		rel = filepath.ToSlash(rel)
		raw := strings.HasPrefix(rel, "rounds/") && strings.Count(rel, "/") == 2 && strings.HasSuffix(rel, "/raw")
		switch {
		case rel == ".":
			return nil
		case stays(rel) || q.NoRaw && raw || strings.HasPrefix(rel, elsewhereDir+"/"):
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		case !d.Type().IsRegular():
			return nil
		}
		return m.file(movedFiles+rel, file)
	})
}

// input takes an input file along, if it is still there: an approved ask is in the case by its checksum, too.
func (m *mover) input(name, file string) error {
	if info, err := os.Stat(file); err != nil || !info.Mode().IsRegular() {
		m.app.note("%s is no longer there and does not go along", file)
		return nil
	}
	return m.file(movedFiles+elsewhereDir+"/"+name, file)
}

func (m *mover) file(name, file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	h := &tar.Header{Typeflag: tar.TypeReg, Name: name, Size: info.Size(), Mode: 0o600,
		ModTime: info.ModTime().Round(time.Second), Format: tar.FormatPAX}
	if err := m.tw.WriteHeader(h); err != nil {
		return err
	}
	sum := sha256.New()
	if _, err := io.Copy(io.MultiWriter(m.tw, sum), durable.Until(m.ctx, io.LimitReader(f, info.Size()))); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	m.digest.add(name, info.Size(), sum.Sum(nil))
	m.app.report(MoveProgress{name, m.digest.Bytes})
	return nil
}

func (m *mover) json(name string, v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	if err := m.tw.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Size: int64(len(data)), Mode: 0o600,
		Format: tar.FormatPAX}); err != nil {
		return err
	}
	_, err = m.tw.Write(data)
	return err
}
