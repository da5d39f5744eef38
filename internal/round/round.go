package round

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"envask/internal/casefile"
	"envask/internal/durable"
	"envask/internal/window"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-json-experiment/json/v1"
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
	Members  []Members     `json:"members,omitempty"` // what systems said about their fellows
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

// Dir is the round's folder; RawDir holds what was taken, as it was taken.
func (r *Round) Dir() string     { return r.dir }
func (r *Round) RawDir() string  { return filepath.Join(r.dir, "raw") }
func (r *Round) PartDir() string { return filepath.Join(r.dir, "part") }
func (r *Round) LogFile() string { return filepath.Join(r.dir, "entries.jsonl") }

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

// List lists a case's rounds in their order.
func List(c *casefile.Case) ([]*Round, error) {
	entries, err := os.ReadDir(c.RoundsDir())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []*Round
	for _, e := range entries {
		r, err := Load(c, e.Name())
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

// Load reads one round.
func Load(c *casefile.Case, id string) (*Round, error) {
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

// New gives a round of a case that begins now. It writes nothing.
func New(c *casefile.Case, number int) *Round {
	id := "r" + strconv.Itoa(number)
	return &Round{ID: id, Started: time.Now().UTC().Truncate(time.Second), dir: c.RoundDir(id)}
}

// MarkDiscarded writes down that the raw evidence is removed now.
func (r *Round) MarkDiscarded(at time.Time) error {
	if r.Discarded.IsZero() {
		r.Discarded = at.UTC().Truncate(time.Second)
	}
	return r.Save()
}

// MarkThinned writes down that the part of the raw evidence that was sent is removed now.
func (r *Round) MarkThinned(at time.Time) error {
	r.Thinned = at.UTC().Truncate(time.Second)
	return r.Save()
}

func (r *Round) Save() error {
	data, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	return durable.WriteFile(filepath.Join(r.dir, "round.json"), append(data, '\n'), 0o600)
}

// Facts gives the SHA-256 of what was measured and found in the round, in hex: clocks, ways, groups and coverage.
func (r *Round) Facts() (string, error) {
	data, err := json.Marshal(struct {
		Clocks   []Clock
		Reached  []Place
		Groups   []GroupResult
		Coverage Coverage
		Members  []Members `json:",omitempty"`
	}{r.Clocks, r.Reached, r.Groups, r.Coverage, r.Members})
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:]), err
}

// LogSum gives the SHA-256 of the round's log, by which the ledger vouches for every entry.
func (r *Round) LogSum() (string, error) { return durable.FileSum(context.Background(), r.LogFile()) }
