package flow

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/archive"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/late"
	"envask/internal/seal"
)

// An archive that was packed on one machine can be sent from another, where its case is not: on a jump host, by a colleague.
// What the case's ledger says about it (how it was encrypted and split, who approved it) goes along in a file beside it.

// carryFile is the path of that file.
func carryFile(archiveFile string) string {
	return strings.TrimSuffix(archiveFile, plainEnding) + ".carry.json"
}

// plainOf gives the plain archive that a file of out/ is, or was made of.
func plainOf(file string) string {
	base := strings.TrimSuffix(strings.TrimSuffix(file, seal.Ending), plainEnding)
	if _, err := os.Lstat(base + plainEnding); err == nil {
		return base + plainEnding
	}
	return base
}

// maxCarry bounds the files that are read whole, in bytes.
const maxCarry = 4 << 20

// carry is what goes along with an archive. It holds no original.
type carry struct {
	Case    string        `json:"case"`
	Archive string        `json:"archive"` // name
	SHA256  string        `json:"sha256"`
	Records []carryRecord `json:"records"` // of the ledger, about this archive
}

type carryRecord struct {
	Kind string          `json:"kind"`
	At   time.Time       `json:"at"`
	Data json.RawMessage `json:"data"`
}

// writeCarry writes beside an archive what the ledger says about it.
func writeCarry(c *casefile.Case, archiveFile, sum string) error {
	out := carry{Case: c.Number, Archive: filepath.Base(archiveFile), SHA256: sum}
	sums := map[string]bool{sum: true} // of the archive and its encrypted forms
	err := c.ReadLedger(func(r casefile.Record) error {
		var about struct {
			SHA256 string `json:"sha256"`
			Of     string `json:"of_sha256"`
		}
		switch r.Kind {
		case kindPacked, kindSealed, kindSplit, kindApproved:
		default:
			return nil
		}
		if err := json.Unmarshal(r.Data, &about); err != nil {
			return err
		}
		if sums[about.SHA256] || sums[about.Of] {
			sums[about.SHA256] = true
			out.Records = append(out.Records, carryRecord{r.Kind, r.At, r.Data})
		}
		return nil
	})
	if err != nil {
		return err
	}
	data, err := json.MarshalIndent(out, "", " ")
	if err != nil {
		return err
	}
	return durable.WriteFile(carryFile(archiveFile), append(data, '\n'), 0o600)
}

// readSmall reads a file that is small when it is what it should be.
func readSmall(file string) ([]byte, error) {
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > maxCarry {
		return nil, fmt.Errorf("%s: it is no file of that kind", file)
	}
	return os.ReadFile(file)
}

// Carried gives something like a case for an archive whose case is not here: with the routes of an ask, and a ledger of its
// own in the home, so that a submit can be gone on with. The receipts go beside the archive.
func (a *App) Carried(ctx context.Context, file, askFile string) (*casefile.Case, error) {
	file, err := filepath.Abs(file)
	if err != nil {
		return nil, fault.Wrap("submit", file, err)
	}
	if askFile, err = filepath.Abs(askFile); err != nil {
		return nil, fault.Wrap("submit", askFile, err)
	}
	plain := plainOf(file)
	k, err := LoadAsk(askFile)
	if err != nil {
		return nil, err
	}
	along := &carry{}
	data, err := readSmall(carryFile(plain))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		rep, err := archive.VerifyFile(ctx, plain, nil)
		if err != nil || rep.Manifest == nil {
			return nil, fault.New(fault.Usage, "submit", file, "it is no archive of Envask",
				"name the plain archive, or its encrypted form with both beside each other")
		}
		along.Case = rep.Manifest.Case
		if len(k.EncryptTo) > 0 {
			return nil, fault.New(fault.Refused, "submit", file, "the ask wants it encrypted, and nothing is known of how it was",
				"carry "+filepath.Base(carryFile(plain))+" along from out/ of its case")
		}
	case err != nil:
		return nil, fault.Wrap("submit", file, err)
	default:
		if err := along.read(data); err != nil {
			return nil, fault.New(fault.Usage, "submit", carryFile(plain), "it cannot be read: "+err.Error(),
				"carry it along again from out/ of its case")
		}
	}
	if err := casefile.CheckName(along.Case); err != nil {
		return nil, fault.New(fault.Usage, "submit", file, "its case has no number that could be one: "+err.Error(), "")
	}
	probe, err := os.CreateTemp(filepath.Dir(file), ".receipt-")
	if err != nil {
		return nil, fault.New(fault.Failed, "submit", file, "the receipt goes beside it, and that folder cannot be written to",
			"copy it to a folder of yours")
	}
	probe.Close()
	if err := os.Remove(probe.Name()); err != nil {
		return nil, fault.Wrap("submit", file, err)
	}
	c, err := a.Home.Carried(along.Case, filepath.Dir(file), casefile.Info{Number: along.Case, Vendor: k.Vendor, Ask: askFile})
	if err != nil {
		return nil, fault.Wrap("submit", file, err)
	}
	return c, a.takeAlong(c, along)
}

// read reads what went along. It comes from outside: every name in it must be the plain name of a file beside the archive, every
// size and checksum one that can be.
func (c *carry) read(data []byte) error {
	if err := json.Unmarshal(data, c); err != nil {
		return err
	}
	if err := durable.PlainName(c.Archive); err != nil {
		return fmt.Errorf("archive: %w", err)
	}
	for i, r := range c.Records {
		if err := r.check(); err != nil {
			return fmt.Errorf("record %d (%s): %w", i+1, clipped(r.Kind), err)
		}
	}
	return nil
}

func clipped(s string) string { return fmt.Sprintf("%.40q", s) }

// check makes sure that a record from outside names plain files, and says only what can be.
func (r carryRecord) check() error {
	var names []string
	var sums []string
	var sizes []int64
	switch r.Kind {
	case kindPacked:
		var p packedRecord
		if err := json.Unmarshal(r.Data, &p); err != nil {
			return err
		}
		names, sums, sizes = []string{p.Archive}, []string{p.SHA256}, []int64{p.Size, int64(p.Files), int64(p.Lacking)}
	case kindSealed:
		var s sealedRecord
		if err := json.Unmarshal(r.Data, &s); err != nil {
			return err
		}
		names, sums, sizes = []string{s.Archive, s.Sealed}, []string{s.SHA256, s.OfSHA256}, []int64{s.Size}
	case kindSplit:
		var s splitRecord
		if err := json.Unmarshal(r.Data, &s); err != nil {
			return err
		}
		names, sums = []string{s.Name, s.Page}, []string{s.SHA256}
		for _, p := range s.Parts {
			names, sums, sizes = append(names, p.Name), append(sums, p.SHA256), append(sizes, p.Size)
		}
	case kindApproved:
		var p approvedRecord
		if err := json.Unmarshal(r.Data, &p); err != nil {
			return err
		}
		names, sums = []string{p.Archive}, []string{p.SHA256}
	default:
		return errors.New("no record of this kind goes along with an archive")
	}
	return plainFacts(names, sums, sizes)
}

var sha256Text = late.Pattern(`^[0-9a-f]{64}$`)

// plainFacts makes sure that names, checksums and sizes from outside can be what they say.
func plainFacts(names, sums []string, sizes []int64) error {
	for _, n := range names {
		if err := durable.PlainName(n); err != nil {
			return err
		}
	}
	for _, s := range sums {
		if !sha256Text().MatchString(s) {
			return fmt.Errorf("%s is not a SHA-256", clipped(s))
		}
	}
	for _, n := range sizes {
		if n < 0 || n > maxSize {
			return fmt.Errorf("%d is not a size", n)
		}
	}
	return nil
}

// maxSize is the largest size that something from outside may claim, in bytes.
const maxSize = 1 << 53

// takeAlong writes what went along into the ledger that stands for the case's.
func (a *App) takeAlong(c *casefile.Case, along *carry) error {
	w, err := a.write(c)
	if err != nil {
		return err
	}
	defer w.Close()
	known := map[string]bool{}
	err = c.ReadLedger(func(r casefile.Record) error {
		known[r.Kind+string(r.Data)] = true
		return nil
	})
	for _, r := range along.Records {
		var flat bytes.Buffer
		if err != nil || json.Compact(&flat, r.Data) != nil || known[r.Kind+flat.String()] {
			continue
		}
		err = w.Ledger.Append(r.Kind, json.RawMessage(flat.Bytes()))
	}
	return fault.Wrap("write the ledger", c.Dir, err)
}
