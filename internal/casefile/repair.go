package casefile

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/durable"
)

// KindRepaired is the record with which a ledger goes on after a break.
const KindRepaired = "ledger-repaired"

// Repaired says how a damaged ledger goes on.
type Repaired struct {
	Kept    string    `json:"kept"`        // name of the damaged file, in the case folder
	SHA256  string    `json:"kept_sha256"` // of it
	From    int       `json:"from_record"` // the first record that could not be trusted
	Why     string    `json:"why"`
	Good    int       `json:"good_records"`     // before the break; they stand as they were
	Taken   int       `json:"records_taken_on"` // from behind the break, see Repair
	Dropped int       `json:"records_dropped"`  // behind the break; they are in the kept file only
	By      string    `json:"by"`
	At      time.Time `json:"at"`
}

// Repair lets a case go on whose ledger is damaged. The damaged file is kept. The new one holds the records before the break as
// they were, then a record that names the break. From behind the break, records of the kinds in takeOn are appended anew: what
// must still be undone on a system must not be forgotten; all else behind a break proves nothing. An intact ledger gives nil.
func (c *Case) Repair(command, by string, takeOn []string) (*Repaired, error) {
	lock, err := c.takeLock(command)
	if err != nil {
		return nil, err
	}
	defer lock.Unlock()
	name := ledgerFile(c.Dir)
	found, err := readChain(name, nil)
	var broken *ChainError
	if err == nil || !errors.As(err, &broken) {
		return nil, err
	}
	if found.doubt {
		found.good, found.seq = found.before, found.seq-1
	}
	at := time.Now().UTC().Truncate(time.Second)
	rep := &Repaired{From: found.seq + 1, Why: broken.Why, Good: found.seq, By: by, At: at,
		Kept: "ledger.damaged-" + at.Format("20060102T150405Z") + ".jsonl"}
	kept := filepath.Join(c.Dir, rep.Kept)
	if err := copyWhole(name, kept); err != nil {
		return nil, err
	}
	if rep.SHA256, err = durable.FileSum(context.Background(), kept); err != nil {
		return nil, err
	}
	behind, dropped, err := recordsBehind(kept, found.good, takeOn)
	if err != nil {
		return nil, err
	}
	rep.Taken, rep.Dropped = len(behind), dropped
	// The good part under the final name first, then a head that fits: a kill between the two is a break that is repaired again.
	if err := durable.Write(name, 0o600, func(w io.Writer) error { return copyHead(w, kept, found.good) }); err != nil {
		return nil, err
	}
	if err := os.Truncate(headFile(name), 0); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	l, err := openLedger(c.Dir)
	if err != nil {
		return nil, err
	}
	err = l.Append(KindRepaired, rep)
	for _, r := range behind {
		if err == nil {
			err = l.Append(r.Kind, r.Data)
		}
	}
	return rep, errors.Join(err, l.Close())
}

// copyWhole copies a ledger, which may not be there, to a name that is free or holds an earlier copy.
func copyWhole(from, to string) error {
	f, err := os.Open(from)
	if errors.Is(err, os.ErrNotExist) {
		return durable.WriteFile(to, nil, 0o600)
	}
	if err != nil {
		return err
	}
	defer f.Close()
	return durable.Write(to, 0o600, func(w io.Writer) error { _, err := io.Copy(w, f); return err })
}

func copyHead(w io.Writer, from string, n int64) error {
	f, err := os.Open(from)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = io.CopyN(w, f, n)
	return err
}

// recordsBehind gives the records behind a break that are taken on, and how many others stand there.
func recordsBehind(file string, from int64, kinds []string) (out []Record, dropped int, err error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, 0, err
	}
	defer f.Close()
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return nil, 0, err
	}
	br := bufio.NewReaderSize(f, 64<<10)
	for {
		line, err := readLine(br)
		if errors.Is(err, errLongLine) {
			return out, dropped + 1, nil // nothing of that size is ours
		}
		if text := bytes.TrimSpace(line); len(text) > 0 {
			var r Record
			if json.Unmarshal(text, &r) == nil && slices.Contains(kinds, r.Kind) {
				out = append(out, r)
			} else {
				dropped++
			}
		}
		if err == io.EOF {
			return out, dropped, nil
		}
		if err != nil {
			return nil, 0, fmt.Errorf("read behind the break: %w", err)
		}
	}
}
