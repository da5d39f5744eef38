package round

import (
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/go-json-experiment/json/v1"
)

// MaxReason bounds the text of one reason, in bytes: a server may answer with an error of any length, and hundreds of systems with
// one each. What is longer stands whole in the round's file of reasons. The longest one of our own (a host key that changed, with
// two fingerprints, two places and what to do) fits.
const MaxReason = 600

func (r *Round) reasonsFile() string { return filepath.Join(r.dir, "reasons.jsonl") }

// Bounded cuts a reason, and keeps the whole of it.
func (r *Round) Bounded(system, item, reason string) string {
	if len(reason) <= MaxReason {
		return reason
	}
	cut := strings.ToValidUTF8(reason[:MaxReason-80], "") + "…"
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

// Bound cuts all reasons of a cell.
func (r *Round) Bound(c *Cell) {
	c.Reason = r.Bounded(c.System, c.Item, c.Reason)
	c.Together = r.Bounded(c.System, c.Item, c.Together)
	for _, list := range [][]string{c.Notes, c.Unmet} {
		for i := range list {
			list[i] = r.Bounded(c.System, c.Item, list[i])
		}
	}
}
