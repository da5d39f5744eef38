package flow

import (
	"bufio"
	"crypto/sha256"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/v1"
	"github.com/klauspost/compress/zstd"

	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/round"
	"envask/internal/submit"
)

// A manifest never tells the checksum of an original: whoever guesses a short secret could prove his guess with it. So the case
// keeps beside each archive which evidence it holds, file by file, named after the archive's own SHA-256. Only by these lists is
// decided what a vendor has already and what tidy may remove.

// held is one piece of evidence that an archive holds whole.
type held struct {
	Round  string `json:"round"`
	System string `json:"system"`
	Item   string `json:"item"`
	Name   string `json:"name"`   // below the system's folder in raw/
	SHA256 string `json:"sha256"` // of the evidence as it was taken
}

func contentsFile(c *casefile.Case, archiveSum string) string {
	return filepath.Join(c.Dir, "contents", archiveSum+".jsonl.zst")
}

func heldOf(r string, e *round.Entry) held {
	return held{r, e.System, e.Item, e.Name, e.SHA256}
}

// contents is the list of what an archive holds while it is written.
type contents struct {
	file *os.File
	z    *zstd.Encoder
	enc  *json.Encoder
}

func newContents(name string) (*contents, error) {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	z, err := zstd.NewWriter(f, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(256<<10))
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return &contents{f, z, json.NewEncoder(z)}, nil
}

// add adds what a piece of the archive stands for. One of which a part stayed behind is not among it.
func (c *contents) add(j *job, x *piece) error {
	if !j.whole(x) {
		return nil
	}
	err := c.enc.Encode(heldOf(x.Round, &x.Entry))
	for _, h := range x.Also {
		err = errors.Join(err, c.enc.Encode(h))
	}
	return err
}

// close ends a list that nobody keeps; one that was saved is closed already.
func (c *contents) close() {
	if c != nil {
		c.file.Close()
	}
}

// save keeps the list for the archive with a SHA-256.
func (c *contents) save(of *casefile.Case, archiveSum string) error {
	if err := errors.Join(c.z.Close(), c.file.Sync(), c.file.Close()); err != nil {
		return err
	}
	name := contentsFile(of, archiveSum)
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return err
	}
	durable.Point("before the contents")
	if err := os.Rename(c.file.Name(), name); err != nil {
		return err
	}
	return durable.SyncDir(filepath.Dir(name))
}

// eachHeld calls each for the evidence that an archive holds. known is false for an archive of before these lists were kept.
func eachHeld(c *casefile.Case, archiveSum string, each func(held)) (known bool, err error) {
	f, err := os.Open(contentsFile(c, archiveSum))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer f.Close()
	z, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return false, err
	}
	defer z.Close()
	for dec := json.NewDecoder(bufio.NewReader(z)); ; {
		var h held
		switch err := dec.Decode(&h); {
		case err == io.EOF:
			return true, nil
		case err != nil:
			return true, err
		}
		each(h)
	}
}

// place names a piece of evidence, and exact also its bytes; hashes, since a round can have a million of them.
type place [16]byte

func placeOf(system, name, sum string) (k place) {
	h := sha256.Sum256([]byte(system + "\x00" + name + "\x00" + sum))
	copy(k[:], h[:])
	return k
}

// sentArchive is an archive that went over a route, by what the ledger says.
type sentArchive struct {
	ArchiveView
	receipt *submit.Receipt // the best of several: with proof, then the newest
}

// sent gives the archives of a case that went over a route; one that is only ready to hand over is none of them.
func (v *CaseView) sent() []sentArchive {
	var out []sentArchive
	for _, x := range v.Archives {
		if r := v.sentOf(func(o ArchiveView) bool { return o.SHA256 == x.SHA256 }); r != nil {
			out = append(out, sentArchive{x, r})
		}
	}
	return out
}

func (x *ArchiveView) rounds() []string { return strings.Split(x.Round, ",") }

// arrivedEvidence gives what is in archives that are proved to have arrived, by system, name and bytes.
func arrivedEvidence(c *casefile.Case, v *CaseView, counts func(*submit.Receipt) bool) (map[place]bool, error) {
	out := map[place]bool{}
	for _, x := range v.sent() {
		if !counts(x.receipt) {
			continue
		}
		if _, err := eachHeld(c, x.SHA256, func(h held) { out[placeOf(h.System, h.Name, h.SHA256)] = true }); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// had is the newest form of a file that a vendor has.
type had struct {
	sum   place // of its SHA-256
	round int
}

// vendorHas gives the newest form of each file that the sent archives of rounds up to a number hold, by system and name. unknown names
// archives of which that is not known.
func vendorHas(c *casefile.Case, v *CaseView, upTo int) (files map[place]had, unknown []string, err error) {
	files = map[place]had{}
	for _, x := range v.sent() {
		if slices.Min(roundNumbers(x.rounds())) > upTo {
			continue
		}
		known, err := eachHeld(c, x.SHA256, func(h held) {
			n, k := roundNumber(h.Round), placeOf(h.System, h.Name, "")
			if old, ok := files[k]; n <= upTo && (!ok || n >= old.round) {
				files[k] = had{placeOf("", "", h.SHA256), n}
			}
		})
		if err != nil {
			return nil, nil, err
		}
		if !known {
			unknown = append(unknown, x.Name)
		}
	}
	return files, unknown, nil
}

func roundNumber(id string) int {
	n, _ := strconv.Atoi(strings.TrimPrefix(id, "r"))
	return n
}

func roundNumbers(ids []string) []int {
	var out []int
	for _, id := range ids {
		out = append(out, roundNumber(id))
	}
	return out
}
