package flow

import (
	"context"
	"crypto/sha512"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"
	"github.com/go-json-experiment/json/v1"
	"golang.org/x/crypto/ssh"

	"envask/internal/archive"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/seal"
	"envask/internal/submit"
)

// Sealed is an archive encrypted for those who may read it.
type Sealed struct {
	File       string   `json:"file"`
	Size       int64    `json:"size"` // bytes
	SHA256     string   `json:"sha256"`
	Recipients []string `json:"recipients"`
	Passphrase bool     `json:"passphrase,omitempty"`
	HowTo      string   `json:"how_to"` // page that says how to open it
	Same       bool     `json:"same"`   // it was there already
}

// recipients reads the public keys for which an archive is encrypted: those of the ask, and the engineer's.
func (p *packing) recipients() error {
	keys := append(slices.Clone(p.ask.EncryptTo), p.q.EncryptTo...)
	var list []age.Recipient
	for _, k := range keys {
		r, err := seal.Recipient(k)
		if err != nil {
			return &fault.Error{Class: fault.Usage, Op: "--encrypt-to", Err: err}
		}
		list = append(list, r)
	}
	if p.q.Passphrase == nil {
		p.sealTo, p.keys = list, keys
		return nil
	}
	if len(list) > 0 {
		return fault.New(fault.Usage, "--passphrase", "", "an archive is encrypted for keys or by a passphrase, not both",
			"leave the one or the other out")
	}
	text, err := p.q.Passphrase()
	if err != nil {
		return err
	}
	r, err := seal.Passphrase(text)
	p.sealTo = []age.Recipient{r}
	return err
}

// encrypts says whether the archive may only go encrypted.
func (p *packing) encrypts() bool { return len(p.sealTo) > 0 }

// plainEnding ends the name of an archive that may only go encrypted: the plain one stays here, and no name that could be sent
// ever holds its bytes.
const plainEnding = ".plain"

// seal encrypts the archive beside itself. What was encrypted for the same keys before stays as it is.
func (p *packing) seal(ctx context.Context, w *casefile.Writer, out *Packed) error {
	if !p.encrypts() {
		return nil
	}
	keys := append([]string{}, p.keys...)
	old, err := sealedOf(p.c, out.SHA256, true)
	if err != nil {
		return err
	}
	same := old != nil && p.q.Passphrase == nil && !old.Passphrase && slices.Equal(old.Recipients, keys)
	if same {
		sum, err := durable.FileSum(ctx, filepath.Join(p.c.OutDir(), old.Sealed))
		same = err == nil && sum == old.SHA256
	}
	rec := sealedRecord{Archive: filepath.Base(out.Archive), OfSHA256: out.SHA256, Recipients: keys, Passphrase: p.q.Passphrase != nil}
	if same {
		rec.Sealed, rec.Size, rec.SHA256 = old.Sealed, old.Size, old.SHA256
	} else if rec.Sealed, err = p.freeSealed(out); err != nil {
		return err
	}
	file := filepath.Join(p.c.OutDir(), rec.Sealed)
	out.Sealed = &Sealed{File: file, Recipients: keys, Passphrase: rec.Passphrase, HowTo: file + ".how-to-open.txt", Same: same}
	if !out.Sealed.Same {
		p.begin("encrypting", out.Size)
		if err := seal.File(ctx, out.Archive, file, p.progress, p.sealTo...); err != nil {
			return err
		}
		info, err := os.Stat(file)
		if err != nil {
			return err
		}
		sum, err := durable.FileSum(ctx, file)
		if err != nil {
			return err
		}
		rec.Size, rec.SHA256 = info.Size(), sum
	}
	out.Sealed.Size, out.Sealed.SHA256 = rec.Size, rec.SHA256
	if err := durable.WriteFile(out.Sealed.HowTo, []byte(howToOpen(rec, p.writing.format)), 0o600); err != nil {
		return err
	}
	return w.Ledger.Append(kindSealed, rec)
}

// signer reads the key with which the manifest is signed; nil is none.
func (j *job) signer() (ssh.Signer, error) {
	if j.q.SignWith == "" {
		return nil, nil
	}
	d, err := j.app.Dialer(nil, nil)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	signer, err := d.Signer(d.Path(j.q.SignWith))
	if err != nil {
		return nil, &fault.Error{Class: fault.Usage, Op: "--sign", Err: err}
	}
	return signer, nil
}

// sign writes the signature of the manifest.
func (w *writing) sign(out io.Writer, m *archive.Manifest) error {
	sum := sha512.New()
	if err := m.Write(sum); err != nil {
		return err
	}
	signed, err := seal.SignOf(w.signer, sum.Sum(nil))
	if err != nil {
		return err
	}
	_, err = io.WriteString(out, signed)
	return err
}

// freeSealed gives the name of an encrypted archive. One that was sent is never overwritten.
func (p *packing) freeSealed(out *Packed) (string, error) {
	receipts, err := receiptsOf(p.c)
	if err != nil {
		return "", err
	}
	base := strings.TrimSuffix(filepath.Base(out.Archive), plainEnding)
	name := base + seal.Ending
	for n := 2; slices.ContainsFunc(receipts, func(r submit.Receipt) bool { return r.Name == name }); n++ {
		name = fmt.Sprintf("%s-%d.%s%s", archive.TrimEnding(base), n, p.writing.format.Name, seal.Ending)
	}
	return name, nil
}

// howToOpen is the page for the vendor.
func howToOpen(r sealedRecord, f *archive.Format) string {
	var s strings.Builder
	plain := strings.TrimSuffix(r.Archive, plainEnding)
	key := "age -d -i KEYFILE"
	if r.Passphrase {
		key = "age -d"
		fmt.Fprintf(&s, "%s is encrypted by a passphrase, which comes another way.\n", r.Sealed)
	} else {
		fmt.Fprintf(&s, "%s is encrypted for the owners of:\n", r.Sealed)
		for _, k := range r.Recipients {
			fmt.Fprintf(&s, "  %s\n", k)
		}
	}
	open := map[string]string{"tar.gz": "tar -xzf ", "tar.zst": "tar --zstd -xf ", "zip": "unzip "}[f.Name]
	fmt.Fprintf(&s, "\nThe form is open (age, https://age-encryption.org/v1), and so are programs that read it. With one of them:\n\n  "+
		"%s %s > %s\n  %s%s\n", key, r.Sealed, plain, open, plain)
	fmt.Fprintf(&s, "\nSHA-256, to compare:\n\n  %s  %s\n  %s  %s\n", r.SHA256, r.Sealed, r.OfSHA256, plain)
	return s.String()
}

// sealedOf gives the last encryption of the archive with a SHA-256; nil when it was packed again without since, unless any
// one will do.
func sealedOf(c *casefile.Case, sum string, any bool) (*sealedRecord, error) {
	var last *sealedRecord
	err := c.ReadLedger(func(r casefile.Record) error {
		switch r.Kind {
		case kindPacked:
			var p packedRecord
			if err := json.Unmarshal(r.Data, &p); err != nil {
				return err
			}
			if p.SHA256 == sum && !any {
				last = nil
			}
		case kindSealed:
			var s sealedRecord
			if err := json.Unmarshal(r.Data, &s); err != nil {
				return err
			}
			if s.OfSHA256 == sum {
				last = &s
			}
		}
		return nil
	})
	return last, err
}

// sealedBy finds the encryption of which a file is the result.
func sealedBy(c *casefile.Case, name string) (*sealedRecord, error) {
	var found *sealedRecord
	err := c.ReadLedger(func(r casefile.Record) error {
		if r.Kind != kindSealed {
			return nil
		}
		var s sealedRecord
		if err := json.Unmarshal(r.Data, &s); err != nil {
			return err
		}
		if s.Sealed == name {
			found = &s
		}
		return nil
	})
	if err == nil && found == nil {
		err = errors.New("this case did not encrypt it; what is in it cannot be checked before it goes")
	}
	return found, err
}

// split cuts what is sent into parts, when it is larger than one.
func (p *packing) split(ctx context.Context, w *casefile.Writer, out *Packed) error {
	file, sum, size := out.Archive, out.SHA256, out.Size
	if out.Sealed != nil {
		file, sum, size = out.Sealed.File, out.Sealed.SHA256, out.Sealed.Size
	}
	if p.q.Split <= 0 || size <= p.q.Split {
		return nil
	}
	p.begin("splitting", size)
	parts, err := archive.Split(ctx, file, p.q.Split, p.progress)
	if err != nil {
		return err
	}
	rec := splitRecord{Name: filepath.Base(file), SHA256: sum, Parts: parts, Page: filepath.Base(file) + ".how-to-join.txt"}
	out.JoinPage = filepath.Join(p.c.OutDir(), rec.Page)
	if err := durable.WriteFile(out.JoinPage, []byte(archive.JoinPage(rec.Name, sum, parts)), 0o600); err != nil {
		return err
	}
	out.Parts = parts
	return w.Ledger.Append(kindSplit, rec)
}

// splitOf gives how the file with a SHA-256 was split last; nil when it was packed again without since.
func splitOf(c *casefile.Case, sum string) (*splitRecord, error) {
	var last *splitRecord
	err := c.ReadLedger(func(r casefile.Record) error {
		switch r.Kind {
		case kindPacked:
			last = nil // whatever was packed since goes as it is, unless it is split again
		case kindSplit:
			var s splitRecord
			if err := json.Unmarshal(r.Data, &s); err != nil {
				return err
			}
			if s.SHA256 == sum {
				last = &s
			}
		}
		return nil
	})
	return last, err
}
