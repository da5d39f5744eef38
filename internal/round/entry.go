package round

import (
	"envask/internal/logset"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

// Entry is one file or one command's output of a round, whether it was taken or not.
type Entry struct {
	System  string    `json:"system"`
	Item    string    `json:"item"`
	Source  string    `json:"source"`           // path on the system (escaped, see SafePath) or the command line
	Name    string    `json:"name,omitempty"`   // below raw/<system>/ and systems/<system>/; "" when nothing was taken
	State   State     `json:"state"`            // of this file alone
	Reason  string    `json:"reason,omitempty"` // why it was left, cut or could not be taken; also why it was taken
	Size    int64     `json:"size"`             // on the system, in bytes
	Bytes   int64     `json:"bytes"`            // taken
	SHA256  string    `json:"sha256,omitempty"` // of the bytes taken, in hex
	ModTime time.Time `json:"modified,omitzero"`
	First   time.Time `json:"first,omitzero"` // first dated line of the file, where it was looked for
	Last    time.Time `json:"last,omitzero"`  // the last
	Cut     *CutInfo  `json:"cut,omitempty"`  // how it was cut to the window, when it was
	Special bool      `json:"special,omitempty"`
	Through string    `json:"through,omitempty"` // the words that gave the right to read it, where the account alone may not
	Price   *Price    `json:"price,omitempty"`   // of a dry run
	Command *Ran      `json:"command,omitempty"`
	Member  string    `json:"member,omitempty"`  // of a stack or cluster, for which it was taken
	Brought *Brought  `json:"brought,omitempty"` // by a person
}

// Ran is how a command went.
type Ran struct {
	Line    string        `json:"line"`
	Exit    int           `json:"exit"` // -1 when it did not end by itself
	Started time.Time     `json:"started"`
	Took    time.Duration `json:"-"`                       // took_seconds in JSON
	Typed   bool          `json:"typed,omitempty"`         // on the command line of a device, which tells no exit code
	Prompt  string        `json:"prompt,omitempty"`        // at which the device waited then
	Session string        `json:"session,omitempty"`       // below raw/<system>/: the session as it came, which is never packed
	Output  string        `json:"output_sha256,omitempty"` // of its standard output, where that is compared later
}

// Price is what a file of a dry run would cost, and what an hour more would add.
type Price struct {
	Bytes    int64 `json:"bytes"`            // that would be taken
	HourMore int64 `json:"hour_more"`        // bytes that would be added if the window began an hour earlier
	Exact    bool  `json:"exact"`            // found by looking; else in proportion to the time that the file covers
	Packed   bool  `json:"packed,omitempty"` // Bytes are unpacked ones
}

// CutInfo is how a file was cut to the window.
type CutInfo struct {
	Lines    int64     `json:"lines"`              // kept; -1 where they were not counted
	Of       int64     `json:"of_lines"`           // in the file; -1 where it was not read whole
	First    time.Time `json:"first"`              // the first and last moment of what was kept
	Last     time.Time `json:"last"`               //
	Sure     string    `json:"sure"`               // "read whole", or "assumed sorted after n probes"
	Unpacked string    `json:"unpacked,omitempty"` // how the file is compressed on the system; it was taken as plain text
	Notes    []string  `json:"notes,omitempty"`
}

// Words tells how a file was cut.
func (c *CutInfo) Words(zone *time.Location) string {
	if zone == nil {
		zone = time.UTC
	}
	s := "cut to " + logset.SpanText(c.First, c.Last, zone)
	if c.Of >= 0 {
		s += fmt.Sprintf(", %s of %s lines", humanize.Comma(c.Lines), humanize.Comma(c.Of))
	}
	if c.Unpacked != "" {
		s += ", unpacked from " + c.Unpacked
	}
	s = Join(s, c.Sure)
	return Join(s, strings.Join(c.Notes, "; "))
}

func reasonOf(e Entry) string {
	switch {
	case e.State == Taken && e.Command == nil:
		return "" // why it was taken stands with the file
	case e.Reason == "" || e.State == Taken:
		return e.Reason
	}
	return e.Called() + ": " + e.Reason
}

// Called is how a reason names what an entry is of: a script goes by its first line.
func (e Entry) Called() string {
	first, _, more := strings.Cut(e.Source, "\n")
	if e.Command == nil && !more || len(first) <= maxCalled && !more {
		return e.Source
	}
	return strings.ToValidUTF8(first[:min(len(first), maxCalled)], "") + " …"
}

// maxCalled bounds how much of a command line stands in a reason, in bytes.
const maxCalled = 60

// isTakenFile reports whether an entry is a file of an item that was taken.
func isTakenFile(e *Entry) bool {
	return e.Name != "" && !e.Special && e.Command == nil && (e.State == Taken || e.State == Cut)
}
