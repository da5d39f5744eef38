package casefile

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/durable"
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
	head    *os.File
	next    int
	last    string
	Dropped bool // a torn last line was dropped when the ledger was opened
}

const noHash = "0000000000000000000000000000000000000000000000000000000000000000"

func ledgerFile(dir string) string { return filepath.Join(dir, "ledger.jsonl") }

// ChainError says at which record a ledger stops making sense.
type ChainError struct {
	File string
	Line int // of the first record that cannot be trusted, from 1
	Why  string
}

func (e *ChainError) Error() string {
	return fmt.Sprintf("%s:%d: %s; the ledger was damaged or changed from outside", e.File, e.Line, e.Why)
}

// chain is what a walk along a ledger found.
type chain struct {
	good int64  // bytes up to the last record that fits
	seq  int    // its number
	last string // its hash
	torn bool   // half a line follows: a crash or a full disk

	before int64 // bytes up to the record before that
	doubt  bool  // the record that follows was written behind another one than the last: that one was changed
}

// readChain walks the ledger, calling each for every good record. A whole line that does not fit, and an end that is not the one
// that was written last (see head), are a ChainError; each was called for what stands before it.
func readChain(name string, each func(Record) error) (c chain, err error) {
	c.last = noHash
	end, err := readHead(name) // first: a writer appends to the ledger before it moves the head
	if err != nil {
		return c, err
	}
	f, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return c, end.check(name, c)
	}
	if err != nil {
		return c, err
	}
	defer f.Close()
	br := bufio.NewReaderSize(f, 64<<10)
	for {
		line, err := readLine(br)
		if err == io.EOF {
			c.torn = len(line) > 0
			return c, end.check(name, c)
		}
		if errors.Is(err, errLongLine) {
			return c, &ChainError{name, c.seq + 1, err.Error()}
		}
		if err != nil {
			return c, err
		}
		var r Record
		body := bytes.TrimSuffix(line, []byte("\n"))
		if err := json.Unmarshal(body, &r); err != nil {
			return c, &ChainError{name, c.seq + 1, "is not a record"}
		}
		if r.Seq != c.seq+1 || r.Prev != c.last {
			c.doubt = r.Seq == c.seq+1 && c.seq > 0
			return c, &ChainError{name, c.seq + 1, "does not follow the record before it"}
		}
		sum := hashOf(body)
		if r.Seq == end.seq && sum != end.hash {
			return c, &ChainError{name, r.Seq, "is not the record that was written"}
		}
		if each != nil {
			if err := each(r); err != nil {
				return c, err
			}
		}
		c.before, c.good, c.seq, c.last = c.good, c.good+int64(len(line)), r.Seq, sum
	}
}

func hashOf(body []byte) string {
	sum := sha256.Sum256(body)
	return hex.EncodeToString(sum[:])
}

var errLongLine = fmt.Errorf("is longer than %d bytes", MaxRecord)

func readLine(br *bufio.Reader) ([]byte, error) {
	var line []byte
	for {
		part, err := br.ReadSlice('\n')
		line = append(line, part...)
		if len(line) > MaxRecord {
			return nil, errLongLine
		}
		if err != bufio.ErrBufferFull {
			return line, err
		}
	}
}

// openLedger checks the whole chain, drops a torn last line and opens the ledger for appending.
func openLedger(dir string) (*Ledger, error) {
	name := ledgerFile(dir)
	c, err := readChain(name, nil)
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if c.torn {
		err = f.Truncate(c.good)
	}
	if err == nil {
		_, err = f.Seek(c.good, io.SeekStart)
	}
	var h *os.File
	if err == nil {
		h, err = openHead(name)
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return &Ledger{f: f, head: h, next: c.seq + 1, last: c.last, Dropped: c.torn}, nil
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
	durable.Point("before ledger " + kind)
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
	durable.Point("between ledger and head, " + kind)
	end := head{l.next, hashOf(body)}
	l.next, l.last = l.next+1, end.hash
	err = end.write(l.head)
	durable.Point("after ledger " + kind)
	return err
}

// Head gives the hash of the last record.
func (l *Ledger) Head() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.last
}

// Read calls each for every record that is there.
func (l *Ledger) Read(each func(Record) error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	_, err := readChain(l.f.Name(), each)
	return err
}

// Close closes the ledger's file.
func (l *Ledger) Close() error { return errors.Join(l.f.Close(), l.head.Close()) }

// ReadLedger calls each for every record of a case, checking the chain on the way. It takes no lock.
func (c *Case) ReadLedger(each func(Record) error) error {
	_, err := readChain(ledgerFile(c.Dir), each)
	return err
}
