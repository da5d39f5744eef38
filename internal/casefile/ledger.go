package casefile

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"
)

// MaxRecord is the longest line of the ledger, in bytes.
const MaxRecord = 1 << 20

// Record is one line of the ledger. Prev is the SHA-256 of the line before (without its line end), so that a line that
// is changed, removed or put in between is noticed.
type Record struct {
	Seq  int             `json:"seq"` // from 1
	At   time.Time       `json:"at"`
	Prev string          `json:"prev"` // 64 zeros for the first
	Kind string          `json:"kind"`
	Data json.RawMessage `json:"data,omitempty"`
}

// Ledger is a case's append-only record of all that was done. Each line is flushed to the disk before Append returns.
type Ledger struct {
	mu      sync.Mutex
	f       *os.File
	next    int
	last    string
	Dropped bool // a torn last line was dropped when the ledger was opened
}

const noHash = "0000000000000000000000000000000000000000000000000000000000000000"

func ledgerFile(dir string) string { return filepath.Join(dir, "ledger.jsonl") }

// ChainError says at which line a ledger stops making sense.
type ChainError struct {
	File string
	Line int
	Why  string
}

func (e *ChainError) Error() string {
	return fmt.Sprintf("%s:%d: %s; the ledger was changed from outside", e.File, e.Line, e.Why)
}

// readChain walks the ledger, calling each for every good line, and gives the length of the good part in bytes, the
// last sequence number and hash, and whether a torn line follows. A whole line that does not fit is a ChainError.
func readChain(name string, each func(Record) error) (good int64, seq int, last string, torn bool, err error) {
	last = noHash
	f, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, 0, last, false, nil
	}
	if err != nil {
		return 0, 0, last, false, err
	}
	defer f.Close()
	br := bufio.NewReaderSize(f, 64<<10)
	for {
		line, err := readLine(br)
		if err == io.EOF {
			return good, seq, last, len(line) > 0, nil
		}
		if err != nil {
			return good, seq, last, false, err
		}
		var r Record
		body := bytes.TrimSuffix(line, []byte("\n"))
		if err := json.Unmarshal(body, &r); err != nil {
			return good, seq, last, false, &ChainError{name, seq + 1, "is not a record"}
		}
		if r.Seq != seq+1 || r.Prev != last {
			return good, seq, last, false, &ChainError{name, seq + 1, "does not follow the line before it"}
		}
		if each != nil {
			if err := each(r); err != nil {
				return good, seq, last, false, err
			}
		}
		sum := sha256.Sum256(body)
		good, seq, last = good+int64(len(line)), r.Seq, hex.EncodeToString(sum[:])
	}
}

func readLine(br *bufio.Reader) ([]byte, error) {
	var line []byte
	for {
		part, err := br.ReadSlice('\n')
		line = append(line, part...)
		if len(line) > MaxRecord {
			return nil, fmt.Errorf("a ledger line is longer than %d bytes", MaxRecord)
		}
		if err != bufio.ErrBufferFull {
			return line, err
		}
	}
}

// openLedger checks the whole chain, drops a torn last line and opens the ledger for appending.
func openLedger(dir string) (*Ledger, error) {
	name := ledgerFile(dir)
	good, seq, last, torn, err := readChain(name, nil)
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if torn {
		err = f.Truncate(good)
	}
	if err == nil {
		_, err = f.Seek(good, io.SeekStart)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return &Ledger{f: f, next: seq + 1, last: last, Dropped: torn}, nil
}

// Append writes one record and flushes it.
func (l *Ledger) Append(kind string, data any) error {
	raw, err := json.Marshal(data)
	if err != nil {
		return err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	body, err := json.Marshal(Record{Seq: l.next, At: time.Now().UTC().Truncate(time.Millisecond), Prev: l.last, Kind: kind, Data: raw})
	if err != nil {
		return err
	}
	if len(body)+1 > MaxRecord {
		return fmt.Errorf("ledger record %q is longer than %d bytes", kind, MaxRecord)
	}
	start, err := l.f.Seek(0, io.SeekCurrent)
	if err != nil {
		return err
	}
	if _, err := l.f.Write(append(body, '\n')); err != nil {
		// A full disk may have taken half a line: take it back, so that the next line does not stand behind it.
		if e := l.f.Truncate(start); e == nil {
			_, _ = l.f.Seek(start, io.SeekStart)
		}
		return fmt.Errorf("write the ledger: %w", err)
	}
	if err := l.f.Sync(); err != nil {
		return fmt.Errorf("flush the ledger: %w", err)
	}
	sum := sha256.Sum256(body)
	l.next, l.last = l.next+1, hex.EncodeToString(sum[:])
	return nil
}

// Read calls each for every record that is there.
func (l *Ledger) Read(each func(Record) error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	_, _, _, _, err := readChain(l.f.Name(), each)
	return err
}

// Close closes the ledger's file.
func (l *Ledger) Close() error { return l.f.Close() }

// ReadLedger calls each for every record of a case, checking the chain on the way. It takes no lock.
func (c *Case) ReadLedger(each func(Record) error) error {
	_, _, _, _, err := readChain(ledgerFile(c.Dir), each)
	return err
}
