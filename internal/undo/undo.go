package undo

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"slices"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/casefile"
	"envask/internal/device"
)

// Ledger record kinds.
const (
	KindMade   = "change-made"   // written before the change
	KindUndone = "change-undone" // written after it was undone
)

// Change is one temporary change.
type Change struct {
	ID    string    `json:"id"`
	Kind  string    `json:"kind"`         // what it is: "file"
	Where string    `json:"where"`        // system or route
	Path  string    `json:"path"`         // of the thing that was made there
	Of    string    `json:"of,omitempty"` // SHA-256 of what it is a part of
	At    time.Time `json:"at"`
	// Do takes it back, where that is more than removing the thing at Path.
	Do []device.Undo `json:"do,omitempty"`
}

// KindCommand is a change that other commands take back: Path then is the item that it was made for.
const KindCommand = "command"

type undone struct {
	ID  string `json:"id"`
	How string `json:"how"` // "removed", "became NAME", "was not there"
}

// Log writes changes to one case's ledger.
type Log struct{ Ledger *casefile.Ledger }

// Begin writes a change down before it is made. One of the same thing that was not undone, since a run was interrupted, is
// gone on with: it has one record.
func (l Log) Begin(kind, where, path string) (Change, error) { return l.BeginOf(kind, where, path, "") }

// BeginOf does the same, and takes down what the thing is.
func (l Log) BeginOf(kind, where, path, of string) (Change, error) {
	if c, found, err := l.Find(kind, where, path); (found && c.Of == of) || err != nil {
		return c, err
	}
	return l.BeginPart(kind, where, path, of)
}

// Identity begins what is taken down of a file on a system: device and inode follow, so that no other one is ever removed.
const Identity = "inode "

// BeginPart does the same for a part of something whole, told by its SHA-256, so that it can be gone on with later.
func (l Log) BeginPart(kind, where, path, of string) (Change, error) {
	c, err := newChange(kind, where, path)
	if err != nil {
		return c, err
	}
	c.Of = of
	return c, l.Ledger.Append(KindMade, c)
}

func newChange(kind, where, path string) (Change, error) {
	id := make([]byte, 6)
	if _, err := rand.Read(id); err != nil {
		return Change{}, err
	}
	return Change{ID: hex.EncodeToString(id), Kind: kind, Where: where, Path: path, At: time.Now().UTC().Truncate(time.Second)}, nil
}

// BeginSteps writes down what takes a change back, before it is made for an item of a system.
func (l Log) BeginSteps(where, item string, do []device.Undo) (Change, error) {
	if c, found, err := l.Find(KindCommand, where, item); found || err != nil {
		return c, err
	}
	c, err := newChange(KindCommand, where, item)
	if err != nil {
		return c, err
	}
	c.Do = do
	return c, l.Ledger.Append(KindMade, c)
}

// PendingSteps gives the changes of a system that are to be taken back by commands, the newest first.
func (l Log) PendingSteps(where string) (out []Change, err error) {
	open, err := l.Pending()
	for _, c := range slices.Backward(open) {
		if c.Kind == KindCommand && c.Where == where {
			out = append(out, c)
		}
	}
	return out, err
}

// Find gives the change of one thing that is not undone yet.
func (l Log) Find(kind, where, path string) (c Change, found bool, err error) {
	open, err := l.Pending()
	for _, ch := range open {
		if ch.Kind == kind && ch.Where == where && ch.Path == path {
			return ch, true, err
		}
	}
	return Change{}, false, err
}

// Pending gives the changes that are not undone yet, oldest first.
func (l Log) Pending() ([]Change, error) { return pending(l.Ledger.Read) }

// Done strikes a change off, saying how it ended.
func (l Log) Done(id, how string) error {
	return l.Ledger.Append(KindUndone, undone{ID: id, How: how})
}

// Pending gives the changes of a case that are not undone yet, oldest first.
func Pending(c *casefile.Case) ([]Change, error) { return pending(c.ReadLedger) }

func pending(read func(func(casefile.Record) error) error) ([]Change, error) {
	var open []Change
	err := read(func(r casefile.Record) error {
		switch r.Kind {
		case KindMade:
			var ch Change
			if err := json.Unmarshal(r.Data, &ch); err != nil {
				return fmt.Errorf("ledger record %d: %w", r.Seq, err)
			}
			open = append(open, ch)
		case KindUndone:
			var u undone
			if err := json.Unmarshal(r.Data, &u); err != nil {
				return fmt.Errorf("ledger record %d: %w", r.Seq, err)
			}
			for i := range open {
				if open[i].ID == u.ID {
					open = append(open[:i], open[i+1:]...)
					break
				}
			}
		}
		return nil
	})
	return open, err
}
