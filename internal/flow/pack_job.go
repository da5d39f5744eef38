package flow

import (
	"encoding/hex"
	"hash"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"envask/internal/archive"
	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/fault"
	"envask/internal/redact"
	"envask/internal/round"
	"envask/internal/site"
)

// Packing goes through stages: which rounds (selection), by which rules (ruleset), which pieces of evidence (evidence), which of them
// are learned from, the archive (writing), what is said of it (telling), and what comes beside it. Each stage has its own type and
// adds to what is known of a piece; between the stages the pieces wait in lists that need not fit in memory.

// job is what all stages of one run of Pack share.
type job struct {
	app *App
	c   *casefile.Case
	ask *ask.Ask
	q   PackRequest
	tmp string // folder of this run, for what does not fit in memory
	meter
}

// meter tells how far a run is, and keeps how long each stage took.
type meter struct {
	report func(any)
	total  int64 // bytes
	done   atomic.Int64
	stage  atomic.Value
	begun  time.Time // the stage; the first one with what comes before it
	told   atomic.Int64
	took   []StageTime
}

// tellEvery is how often progress is told at most: nobody reads faster, and evidence can be a million small files.
const tellEvery = 40 * time.Millisecond

// begin begins a stage in which so many bytes are gone through.
func (m *meter) begin(stage string, total int64) {
	m.end()
	m.stage.Store(stage)
	m.total = total
	m.done.Store(0)
	m.told.Store(0)
	m.report(PackProgress{stage, 0, total})
}

// end takes down how long the stage took.
func (m *meter) end() {
	if stage, ok := m.stage.Load().(string); ok {
		m.took = append(m.took, StageTime{stage, time.Since(m.begun).Round(time.Millisecond).Seconds()})
		m.begun = time.Now()
	}
}

func (m *meter) progress(n int64) {
	done := m.done.Add(n)
	now := time.Since(m.begun).Nanoseconds()
	if last := m.told.Load(); (now-last < int64(tellEvery) || !m.told.CompareAndSwap(last, now)) && done < m.total {
		return
	}
	m.report(PackProgress{m.stage.Load().(string), done, m.total})
}

// piece is one file of evidence on its way into the archive. What each stage finds out of it is exported, since it waits on the disk.
type piece struct {
	Entry   round.Entry
	Round   string
	Dir     string // of the raw evidence of that round
	Earlier bool   // a later round of the archive has another form of it
	AsIs    bool   // it stays as it is, on the engineer's word
	Also    []held // other evidence with the same bytes: this piece stands for it, too
	Out     bool   // it stays behind: opaque, or left out

	// From learning:
	Form    redact.Form
	Opaque  bool
	Learned bool   // from when it arrived; whether it is still the same is seen when it is written
	Check   string // of a piece learned on arrival, see arrived

	// From writing:
	Path    string // in the archive
	Renamed bool   // its name there is another, so that every system can hold it
	Active  bool   // a browser might run or draw it
	Result  redact.Result
}

// raw is where it lies on the disk.
func (x *piece) raw() string {
	return filepath.Join(x.Dir, x.Entry.System, filepath.FromSlash(x.Entry.Name))
}

func (x *piece) cell() cellKey { return cellKey{x.Entry.System, x.Entry.Item} }

// folder is where a piece's system stands in the archive.
func (x *piece) folder() string {
	folder := "systems/" + x.Entry.System + "/"
	if x.Entry.System == site.Case {
		folder = "" // what a person brought for the case stands in added/
	}
	if x.Earlier {
		return archive.Earlier + x.Round + "/" + folder
	}
	return folder
}

// unchanged makes sure that what was read is what was collected.
func (x *piece) unchanged(sum hash.Hash, want string) error {
	if hex.EncodeToString(sum.Sum(nil)) != want {
		return fault.New(fault.Refused, "", x.raw(), "it was changed since it was collected",
			"collect it again (envask collect makes a new round)")
	}
	return nil
}

// without says whether the engineer wants a piece to stay behind. It is learned from all the same: what it shows next to a key
// may stand bare in what goes.
func (j *job) without(x *piece) bool { return slices.Contains(j.q.Without, x.Entry.Item) }

func (j *job) mayGoUnread(x *piece) bool { return slices.Contains(j.q.Opaque, x.Entry.Item) }

// whole reports whether all of a piece is in the archive.
func (j *job) whole(x *piece) bool {
	return !x.Out && (len(x.Result.Unread) == 0 || j.mayGoUnread(x))
}

// checkRequest makes sure that the items of which the engineer speaks are of the ask.
func (j *job) checkRequest() error {
	for _, id := range j.q.Opaque {
		if j.ask.Item(id) == nil {
			return fault.New(fault.Usage, "--opaque", id, "there is no such item in the ask", "")
		}
	}
	for _, id := range j.q.Without {
		if j.ask.Item(id) == nil && id != ask.Vitals {
			var known []string
			for _, it := range j.ask.Items {
				known = append(known, it.ID)
			}
			return fault.New(fault.Usage, "--without", id, "the ask names no such item; known: "+strings.Join(known, ", "), "")
		}
	}
	return nil
}
