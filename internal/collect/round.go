package collect

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/window"
)

// Round is one collection run within a case.
type Round struct {
	ID       string        `json:"id"`
	Note     string        `json:"note,omitempty"`
	Started  time.Time     `json:"started"`
	Ended    time.Time     `json:"ended,omitzero"` // zero while it is unfinished
	Ask      string        `json:"ask"`
	Vendor   string        `json:"vendor"`
	Digest   string        `json:"ask_sha256"`
	Site     string        `json:"site"`
	Depth    string        `json:"depth"`
	Window   []window.Span `json:"window"`
	Zone     string        `json:"zone"`
	Same     string        `json:"fingerprint"`        // of the request, to know whether it can be gone on with
	Base     string        `json:"base,omitempty"`     // the same, but for the systems
	Open     bool          `json:"open,omitempty"`     // left open for further passes
	Baseline bool          `json:"baseline,omitempty"` // how the site was before a change, to compare with
	Context  time.Duration `json:"-"`                  // context_seconds in JSON: extra time on both sides of the window
	Clocks   []Clock       `json:"clocks,omitempty"`
	Reached  []Place       `json:"reached,omitempty"` // by which way each system was reached
	Groups   []GroupResult `json:"groups,omitempty"`  // what the ask demands together
	Coverage Coverage      `json:"coverage"`
	Sorted   bool          `json:"sorted,omitempty"` // the log holds each entry once, by system, item and source
	// Discarded is when the raw evidence was removed; what was taken is still known.
	Discarded time.Time `json:"raw_removed,omitzero"`
	// Thinned is when that part of the raw evidence was removed which had been sent.
	Thinned time.Time `json:"sent_raw_removed,omitzero"`

	dir    string
	mu     sync.Mutex
	log    *os.File
	logged int64 // bytes of it
}

// line is one line of a round's log: an entry, a cell that is done, a clock that was read, or how a system was reached.
type line struct {
	Entry *Entry `json:"entry,omitempty"`
	Cell  *Cell  `json:"cell,omitempty"`
	Clock *Clock `json:"clock,omitempty"`
	Place *Place `json:"place,omitempty"`
}

// system gives the system that a line is about.
func (l line) system() string {
	switch {
	case l.Entry != nil:
		return l.Entry.System
	case l.Cell != nil:
		return l.Cell.System
	}
	return ""
}

// Dir is the round's folder; RawDir holds what was taken, as it was taken.
func (r *Round) Dir() string     { return r.dir }
func (r *Round) RawDir() string  { return filepath.Join(r.dir, "raw") }
func (r *Round) partDir() string { return filepath.Join(r.dir, "part") }
func (r *Round) logFile() string { return filepath.Join(r.dir, "entries.jsonl") }

// Finished says whether the round came to its end.
func (r *Round) Finished() bool { return !r.Ended.IsZero() }

// Number is the round's number: 1 for r1.
func (r *Round) Number() int {
	n, _ := strconv.Atoi(strings.TrimPrefix(r.ID, "r"))
	return n
}

// InZone gives the round's window in the zone in which it was given.
func (r *Round) InZone() window.Window {
	zone, err := window.ParseZone(r.Zone)
	if err != nil {
		zone = time.UTC
	}
	w, err := window.New(r.Window, zone)
	if err != nil {
		return window.Window{Zone: zone}
	}
	return w
}

// Rounds lists a case's rounds in their order.
func Rounds(c *casefile.Case) ([]*Round, error) {
	entries, err := os.ReadDir(c.RoundsDir())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []*Round
	for _, e := range entries {
		r, err := LoadRound(c, e.Name())
		if errors.Is(err, fs.ErrNotExist) {
			continue // a folder whose round was never begun
		}
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Number() < out[j].Number() })
	return out, nil
}

// LoadRound reads one round.
func LoadRound(c *casefile.Case, id string) (*Round, error) {
	if n, err := strconv.Atoi(strings.TrimPrefix(id, "r")); err != nil || id != "r"+strconv.Itoa(n) {
		return nil, fmt.Errorf("%q is no round: %w", id, fs.ErrNotExist)
	}
	dir := c.RoundDir(id)
	data, err := os.ReadFile(filepath.Join(dir, "round.json"))
	if err != nil {
		return nil, err
	}
	r := &Round{dir: dir}
	if err := json.Unmarshal(data, r); err != nil {
		return nil, fmt.Errorf("round %s: %w", id, err)
	}
	for i := range r.Coverage {
		r.Coverage[i].Code = codeOfOld(r.Coverage[i])
	}
	return r, nil
}

func newRound(c *casefile.Case, number int, req *Request, note string) *Round {
	id := "r" + strconv.Itoa(number)
	return &Round{ID: id, Note: note, Started: time.Now().UTC().Truncate(time.Second), Ask: req.Ask.Name, Vendor: req.Ask.Vendor,
		Digest: req.Ask.Digest, Site: req.Site.Name, Depth: req.Depth.String(), Window: req.Window.Spans,
		Zone: req.Window.ZoneName(), Context: req.Context, Baseline: req.Baseline, Same: req.Fingerprint(),
		Base: req.base(), dir: c.RoundDir(id)}
}

// MarkDiscarded writes down that the raw evidence is removed now.
func (r *Round) MarkDiscarded(at time.Time) error {
	if r.Discarded.IsZero() {
		r.Discarded = at.UTC().Truncate(time.Second)
	}
	return r.save()
}

// MarkThinned writes down that the part of the raw evidence that was sent is removed now.
func (r *Round) MarkThinned(at time.Time) error {
	r.Thinned = at.UTC().Truncate(time.Second)
	return r.save()
}

func (r *Round) save() error {
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	return durable.WriteFile(filepath.Join(r.dir, "round.json"), append(data, '\n'), 0o600)
}

// openLog opens the round's log for more entries, after dropping a torn last line.
func (r *Round) openLog() error {
	for _, d := range []string{r.RawDir(), r.partDir()} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return err
		}
	}
	if err := dropParts(r.partDir()); err != nil {
		return err
	}
	f, err := os.OpenFile(r.logFile(), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	good, err := readLines(f, nil)
	if err == nil {
		err = f.Truncate(good)
	}
	if err != nil {
		f.Close()
		return err
	}
	r.log, r.logged = f, good
	return nil
}

// A line that does not fit on a full disk is tried again for a while.
const (
	recordTries = 10
	recordPause = 100 * time.Millisecond
)

// record writes one line down, and gives where it stands in the log. Cells are flushed to the disk, and with them the entries before
// them.
func (r *Round) record(l line) (offset int64, err error) {
	data, err := json.Marshal(l)
	if err != nil {
		return 0, err
	}
	data = append(data, '\n')
	r.mu.Lock()
	defer r.mu.Unlock()
	offset = r.logged
	for try := 0; ; try++ {
		if _, err = r.log.WriteAt(data, offset); err == nil {
			break
		}
		if !errors.Is(err, syscall.ENOSPC) || try == recordTries {
			return 0, err
		}
		if err := r.log.Truncate(offset); err != nil { // half a line would spoil what follows
			return 0, err
		}
		time.Sleep(recordPause) // evidence that does not fit is removed meanwhile
	}
	r.logged += int64(len(data))
	durable.Point("after a line of the round")
	if l.Cell != nil {
		return offset, r.log.Sync()
	}
	return offset, nil
}

// length is how long the log is.
func (r *Round) length() int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.logged
}

// closeLog ends the log. An interrupted run does not wait for the disk: what it wrote can be gone on with as far as it got there.
func (r *Round) closeLog(flush bool) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.log == nil {
		return nil
	}
	var err error
	if flush {
		err = r.log.Sync()
	}
	err = errors.Join(err, r.log.Close())
	r.log = nil
	return err
}

// readLines calls each for every whole line, with its offset, and gives the length of the good part.
func readLines(f io.Reader, each func(line, int64) error) (good int64, err error) {
	br, ok := f.(*bufio.Reader)
	if !ok {
		br = bufio.NewReaderSize(f, 256<<10)
	}
	for {
		text, err := br.ReadBytes('\n')
		if err == io.EOF {
			return good, nil // what stands behind the last line end was torn off
		}
		if err != nil {
			return good, err
		}
		var l line
		if err := json.Unmarshal(bytes.TrimSuffix(text, []byte("\n")), &l); err != nil {
			return good, nil // a torn line in the middle: a full disk; what follows it cannot be trusted
		}
		if l.Cell != nil {
			l.Cell.Code = codeOfOld(*l.Cell)
		}
		if each != nil {
			if err := each(l, good); err != nil {
				return good, err
			}
		}
		good += int64(len(text))
	}
}

// Entries calls each for the entries of the round: for every item on every system those of the last time that it was
// taken, sorted by system, item and source.
func (r *Round) Entries(each func(Entry) error) error {
	if r.Sorted {
		return r.eachLine(func(l line, _ int64) error {
			if l.Entry == nil {
				return nil
			}
			return each(*l.Entry)
		})
	}
	all, err := r.entries()
	if err != nil {
		return err
	}
	for _, e := range all {
		if err := each(e); err != nil {
			return err
		}
	}
	return nil
}

// NewestLines gives the time of the newest dated line of each system, in all files whose lines were dated, also those outside the window.
func (r *Round) NewestLines() (map[string]time.Time, error) {
	newest := map[string]time.Time{}
	err := r.eachLine(func(l line, _ int64) error {
		if e := l.Entry; e != nil && e.Last.After(newest[e.System]) {
			newest[e.System] = e.Last
		}
		return nil
	})
	return newest, err
}

type key struct{ system, item, source string }

// entries gives them of a log that was not sorted yet: of a round that is not finished, or was finished by an older version.
func (r *Round) entries() ([]Entry, error) {
	last := map[key]Entry{}
	err := r.eachLine(func(l line, _ int64) error {
		if l.Entry != nil {
			last[key{l.Entry.System, l.Entry.Item, l.Entry.Source}] = *l.Entry
		}
		return nil
	})
	out := make([]Entry, 0, len(last))
	for _, e := range last {
		out = append(out, e)
	}
	sortEntries(out)
	return out, err
}

// sortEntries sorts by system, item and source.
func sortEntries(out []Entry) {
	sort.Slice(out, func(i, j int) bool {
		a, b := &out[i], &out[j]
		if a.System != b.System {
			return a.System < b.System
		}
		if a.Item != b.Item {
			return a.Item < b.Item
		}
		return a.Source < b.Source
	})
}

func (r *Round) eachLine(each func(line, int64) error) error {
	f, err := os.Open(r.logFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = readLines(f, each)
	return err
}

// facts gives the SHA-256 of what was measured and found in the round, in hex: clocks, ways, groups and coverage.
func (r *Round) facts() (string, error) {
	data, err := json.Marshal(struct {
		Clocks   []Clock
		Reached  []Place
		Groups   []GroupResult
		Coverage Coverage
	}{r.Clocks, r.Reached, r.Groups, r.Coverage})
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:]), err
}

// maxReason bounds the text of one reason, in bytes: a server may answer with an error of any length, and hundreds of systems with
// one each. What is longer stands whole in the round's file of reasons. The longest one of our own (a host key that changed, with
// two fingerprints, two places and what to do) fits.
const maxReason = 600

func (r *Round) reasonsFile() string { return filepath.Join(r.dir, "reasons.jsonl") }

// bounded cuts a reason, and keeps the whole of it.
func (r *Round) bounded(system, item, reason string) string {
	if len(reason) <= maxReason {
		return reason
	}
	cut := strings.ToValidUTF8(reason[:maxReason-80], "") + "…"
	if r == nil { // of a dry run
		return cut
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	data, err := json.Marshal(struct {
		System string `json:"system"`
		Item   string `json:"item"`
		Reason string `json:"reason"`
	}{system, item, reason[:min(len(reason), 1<<20)]})
	if err == nil {
		var f *os.File
		if f, err = os.OpenFile(r.reasonsFile(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600); err == nil {
			_, err = f.Write(append(data, '\n'))
			err = errors.Join(err, f.Close())
		}
	}
	if err != nil {
		return cut + " (the rest of it could not be kept)"
	}
	return cut + " (the whole of it: rounds/" + r.ID + "/reasons.jsonl)"
}

// bound cuts all reasons of a cell.
func (r *Round) bound(c *Cell) {
	c.Reason = r.bounded(c.System, c.Item, c.Reason)
	c.Together = r.bounded(c.System, c.Item, c.Together)
	for _, list := range [][]string{c.Notes, c.Unmet} {
		for i := range list {
			list[i] = r.bounded(c.System, c.Item, list[i])
		}
	}
}

// digest gives the SHA-256 of the round's log, by which the ledger vouches for every entry.
func (r *Round) digest() (string, error) { return durable.FileSum(context.Background(), r.logFile()) }
