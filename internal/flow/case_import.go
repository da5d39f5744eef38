package flow

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/go-json-experiment/json/v1"
	"github.com/klauspost/compress/zstd"

	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/round"
	"envask/internal/seal"
)

// ImportRequest is a moved case.
type ImportRequest struct {
	File string
	Key  []byte // the private key, where it is encrypted
}

// Imported is what came of it.
type Imported struct {
	Case    string `json:"case"`
	By      string `json:"exported_by"`
	Files   int    `json:"files"`
	Bytes   int64  `json:"bytes"`
	Raw     bool   `json:"raw"`
	Records int    `json:"ledger_records"` // whose chain was checked
}

// importedRecord is a case that came from elsewhere: from here on its ledger is continued by somebody else.
type importedRecord struct {
	From string `json:"from"` // who exported it
	At   string `json:"exported_at"`
	Raw  bool   `json:"raw"`
	By   string `json:"by"`
}

// Bounds of a moved case: what is more is no case of ours.
const (
	maxMovedFiles = 10_000_000
	maxMovedJSON  = 64 << 10
	maxMovedPath  = 4096
)

// Import takes in a case from a file that Export wrote elsewhere. Nothing of it counts before all of it is here, its digest fits and the
// chain of its ledger holds.
func (a *App) Import(ctx context.Context, q ImportRequest) (*Imported, error) {
	f, err := os.Open(q.File)
	if err != nil {
		return nil, &fault.Error{Class: fault.Usage, Op: "import", Err: err}
	}
	defer f.Close()
	plain, err := openMoved(f, q)
	if err != nil {
		return nil, err
	}
	z, err := zstd.NewReader(plain, zstd.WithDecoderMaxMemory(256<<20), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, fault.Wrap("import", q.File, err)
	}
	defer z.Close()
	at, err := a.Home.Arrive()
	if err != nil {
		return nil, fault.Wrap("import", q.File, err)
	}
	defer at.Close()
	r := &receiver{app: a, ctx: ctx, tr: tar.NewReader(z), dir: at.Dir, digest: newDigest()}
	head, err := r.all()
	if ctx.Err() != nil {
		return nil, &fault.Error{Class: fault.Interrupted, Op: "import", Err: errors.New("interrupted"),
			Hint: "run it again; nothing was kept"}
	}
	if err != nil {
		return nil, fault.New(fault.Failed, "import", q.File, err.Error(), "nothing was kept; ask for it again")
	}
	return a.settle(at, head, r, q.File)
}

// openMoved decrypts a moved case where it is encrypted.
func openMoved(f *os.File, q ImportRequest) (io.Reader, error) {
	in := bufio.NewReaderSize(f, 256<<10)
	head, _ := in.Peek(32) // a short one is told by what reads it
	if !bytes.HasPrefix(head, []byte("age-encryption.org/")) && !bytes.HasPrefix(head, []byte("-----BEGIN AGE")) {
		return in, nil
	}
	if len(q.Key) == 0 {
		return nil, fault.New(fault.Usage, "import", q.File, "it is encrypted", "give the private key: --key FILE")
	}
	ids, err := seal.Identity(q.Key)
	var plain io.Reader
	if err == nil {
		plain, err = seal.Open(in, ids...)
	}
	if err != nil {
		return nil, fault.New(fault.Usage, "import", q.File, err.Error(), "give the key for which it was encrypted: --key FILE")
	}
	return plain, nil
}

// settle checks what arrived and makes it a case.
func (a *App) settle(at *casefile.Arriving, head *movedCase, r *receiver, file string) (*Imported, error) {
	c, n, err := at.Check()
	if err != nil {
		return nil, fault.New(fault.Refused, "import", file, "its ledger is not as it was written: "+err.Error(),
			"it was changed on the way or before; nothing was kept")
	}
	for name, to := range map[string]*string{"ask.yaml": &c.Ask, "systems.yaml": &c.Systems} {
		if _, err := os.Stat(filepath.Join(at.Dir, elsewhereDir, name)); err == nil {
			*to = filepath.Join(a.Home.CaseDir(head.Case), elsewhereDir, name)
		}
	}
	c.Name = head.Case
	if err := c.Save(); err != nil {
		return nil, fault.Wrap("import", file, err)
	}
	if c, err = at.Settle(head.Case); err != nil {
		class, hint := fault.Failed, ""
		if errors.Is(err, casefile.ErrExists) {
			class, hint = fault.Usage, "remove yours first (envask cases --remove), or import it into another home (--home)"
		}
		return nil, &fault.Error{Class: class, Op: "import", Err: err, Hint: hint}
	}
	w, err := a.write(c)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	err = w.Ledger.Append(kindImported, importedRecord{head.By, head.At.Format("2006-01-02 15:04:05Z"), head.Raw, a.Who})
	if err == nil && !head.Raw {
		err = a.withoutRaw(c)
	}
	if err == nil {
		err = a.Home.Use(c.Name)
	}
	sums := r.digest.movedSums
	return &Imported{c.Name, head.By, sums.Files, sums.Bytes, head.Raw, n}, fault.Wrap("import", c.Name, err)
}

// withoutRaw marks the rounds of a case whose evidence did not come along.
func (a *App) withoutRaw(c *casefile.Case) error {
	rounds, err := round.List(c)
	for _, r := range rounds {
		err = errors.Join(err, r.MarkDiscarded(a.Now()))
	}
	return err
}

// receiver unpacks a moved case.
type receiver struct {
	app    *App
	ctx    context.Context
	tr     *tar.Reader
	dir    string
	digest *digest
}

func (r *receiver) all() (*movedCase, error) {
	root, err := os.OpenRoot(r.dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	head := new(movedCase)
	if err := r.json(movedHead, head); err != nil {
		return nil, fmt.Errorf("it is no exported case: %w", err)
	}
	if head.Format != movedFormat {
		return nil, fmt.Errorf("it has format %d, which this version does not know", head.Format)
	}
	if err := casefile.CheckName(head.Case); err != nil {
		return nil, err
	}
	for r.digest.Files <= maxMovedFiles {
		h, err := r.tr.Next()
		switch {
		case err == io.EOF:
			return nil, errors.New("it is cut off: its end is missing")
		case err != nil:
			return nil, fmt.Errorf("it is damaged: %w", err)
		case h.Name == movedEnd:
			return head, r.end(h)
		}
		if err := r.file(root, h); err != nil {
			return nil, err
		}
	}
	return nil, fmt.Errorf("it has more than %d files", maxMovedFiles)
}

// end holds what arrived against what was sent.
func (r *receiver) end(h *tar.Header) error {
	var want movedSums
	data, err := io.ReadAll(io.LimitReader(r.tr, min(h.Size, maxMovedJSON)))
	if err == nil {
		err = json.Unmarshal(data, &want)
	}
	if err != nil {
		return fmt.Errorf("it is damaged: %w", err)
	}
	if got := r.digest.done(); got != want {
		return errors.New("it is not what was exported: the digests differ")
	}
	return nil
}

func (r *receiver) json(name string, v any) error {
	h, err := r.tr.Next()
	if err != nil {
		return err
	}
	if h.Name != name || h.Size > maxMovedJSON {
		return fmt.Errorf("%q stands where %s should", h.Name, name)
	}
	data, err := io.ReadAll(io.LimitReader(r.tr, maxMovedJSON))
	if err != nil {
		return err
	}
	return json.Unmarshal(data, v)
}

// movedPath checks the path of a file in a moved case, and gives it below the case's folder.
func movedPath(name string) (string, error) {
	rel, ok := strings.CutPrefix(name, movedFiles)
	bad := !ok || rel == "" || len(rel) > maxMovedPath || path.Clean("/"+rel) != "/"+rel || !utf8.ValidString(rel) ||
		strings.Contains(rel, `\`) ||
		strings.ContainsFunc(rel, unicode.IsControl) || stays(rel)
	if bad {
		return "", fmt.Errorf("%q is no file of a case", name)
	}
	return rel, nil
}

func (r *receiver) file(root *os.Root, h *tar.Header) error {
	rel, err := movedPath(h.Name)
	if err != nil {
		return err
	}
	if h.Typeflag != tar.TypeReg || h.Size < 0 {
		return fmt.Errorf("%q is no regular file", h.Name)
	}
	if free := freeSpace(r.dir); free >= 0 && h.Size > free {
		return fmt.Errorf("%s needs %s, and %s are free", rel, sizeText(h.Size), sizeText(free))
	}
	if err := root.MkdirAll(path.Dir(rel), 0o700); err != nil {
		return err
	}
	f, err := root.OpenFile(rel, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(f, sum), durable.Until(r.ctx, r.tr))
	err = errors.Join(err, f.Close(), root.Chtimes(rel, h.ModTime, h.ModTime))
	if err != nil {
		return fmt.Errorf("%s: %w", rel, err)
	}
	r.digest.add(h.Name, n, sum.Sum(nil))
	r.app.report(MoveProgress{rel, r.digest.Bytes})
	return nil
}
