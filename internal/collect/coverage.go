package collect

import (
	"envask/internal/ask"
	"fmt"
	"strings"
	"time"
)

// State is what became of one item on one system, or of one file of it.
type State string

// The states, and no others.
const (
	Taken    State = "taken"
	Cut      State = "cut"       // taken, but a limit cut it
	Empty    State = "empty"     // nothing in the window
	Missing  State = "missing"   // not there
	Denied   State = "denied"    // no permission
	Refused  State = "refused"   // for safety
	Failed   State = "failed"    // something broke
	TimedOut State = "timed-out" // took too long
	Skipped  State = "skipped"   // not wanted this time
)

// States lists all states in the order of their weight: in a cell with several, the last one counts. A file that was
// refused or that vanished does not spoil an item of which others were taken (the reason tells of it); one that was denied
// or failed does.
var States = []State{Skipped, Missing, Empty, Refused, Taken, Cut, Denied, TimedOut, Failed}

func weight(s State) int {
	for i, x := range States {
		if x == s {
			return i
		}
	}
	return -1
}

// Cell is one field of the coverage table: one item on one system.
type Cell struct {
	System   string        `json:"system"` // "" when no system plays a role that the item wants
	Item     string        `json:"item"`
	Required bool          `json:"required,omitempty"`
	State    State         `json:"state"`
	Reason   string        `json:"reason,omitempty"`
	Code     Code          `json:"code,omitempty"`     // why, for programs; the reason tells it to people
	Files    int           `json:"files"`              // taken
	Bytes    int64         `json:"bytes"`              // taken
	Left     int           `json:"left,omitempty"`     // there, but outside the window
	Took     time.Duration `json:"-"`                  // took_seconds in JSON
	Unmet    []string      `json:"unmet,omitempty"`    // what the item needs and is not so
	Together string        `json:"together,omitempty"` // whether its group is of one state
	Notes    []string      `json:"notes,omitempty"`    // further reasons, one for each file that could not be taken (MaxNotes at most)
}

// MaxNotes bounds the notes of one cell; the entries hold them all.
const MaxNotes = 20

// Lacking says whether a required item is not wholly there. One that the engineer did not choose this time is lacking too:
// an archive of this round alone does not have it.
func (c Cell) Lacking() bool {
	return c.Required && (c.State != Taken && c.State != Cut || len(c.Unmet) > 0)
}

// NotChosen says whether the engineer left this field out of the round by choosing others.
func (c Cell) NotChosen() bool {
	return c.State == Skipped && (c.Code == CodeNotChosen || c.Code == CodeHad)
}

// NotBegun says whether the time was over before the field was begun.
func (c Cell) NotBegun() bool { return c.Code == CodeNotBegun }

// Code says for programs why a cell is as it is.
type Code string

// The codes. A cell that was taken without any remark has none.
const (
	CodeNotChosen   Code = "not-chosen"       // the engineer chose other systems or items
	CodeHad         Code = "had-before"       // an earlier round has it, and only what is missing was asked for
	CodeDepth       Code = "deeper"           // it is taken from another depth on
	CodeNoRole      Code = "no-role"          // no system plays a role that the item wants
	CodeNotBegun    Code = "not-begun"        // a limit of time was over before
	CodeTimeLimit   Code = "time-limit"       // a limit of time was over in its middle
	CodeHostKey     Code = "host-key"         // the system showed a key that is not trusted
	CodeLogin       Code = "login-refused"    // the system did not let us in
	CodeUnreachable Code = "unreachable"      // there is no connection to it
	CodeSilent      Code = "no-answer"        // it did not answer in time
	CodeLost        Code = "connection-lost"  // in the middle
	CodeNeeds       Code = "needs-unmet"      // what the item needs is not so
	CodeDemand      Code = "files-each-unmet" // fewer files came than it demands
	CodeNothing     Code = "nothing-matches"  // no file matches the patterns
	CodeOutside     Code = "outside-window"   // what is there belongs to other times
	CodeSome        Code = "some-files"       // it is so of some of its files; the entries tell each
	CodeBroken      Code = "broken"           // a mistake of ours, or an error of the whole item
)

// Codes lists them all.
var Codes = []Code{CodeNotChosen, CodeHad, CodeDepth, CodeNoRole, CodeNotBegun, CodeTimeLimit, CodeHostKey, CodeLogin, CodeUnreachable,
	CodeSilent, CodeLost, CodeNeeds, CodeDemand, CodeNothing, CodeOutside, CodeSome, CodeBroken}

// codeOfOld reads the code of a cell of before there were codes out of its reason.
func codeOfOld(c Cell) Code {
	switch {
	case c.Code != "" || c.Reason == "":
	case c.State == Skipped && strings.HasSuffix(c.Reason, "was not chosen"):
		return CodeNotChosen
	case c.State == Skipped && strings.HasPrefix(c.Reason, "not asked for again"):
		return CodeHad
	case strings.HasPrefix(c.Reason, "not begun: "):
		return CodeNotBegun
	}
	return c.Code
}

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
}

// Ran is how a command went.
type Ran struct {
	Line    string        `json:"line"`
	Exit    int           `json:"exit"` // -1 when it did not end by itself
	Started time.Time     `json:"started"`
	Took    time.Duration `json:"-"`                       // took_seconds in JSON
	Output  string        `json:"output_sha256,omitempty"` // of its standard output, where that is compared later
}

// tally makes the cell of an item from its entries, which come one by one.
type tally struct {
	state  State
	count  map[State]int
	first  map[State]string // reasons
	files  int
	bytes  int64
	left   int
	notes  []string
	demand *ask.Demanded
}

func newTally(item *ask.Item) *tally {
	return &tally{state: Missing, count: map[State]int{}, first: map[State]string{}, demand: item.Each.Begin()}
}

// add takes an entry into account.
func (t *tally) add(e *Entry) {
	if isTakenFile(e) {
		t.demand.Saw(e.Source)
	}
	if e.Special {
		t.note(e) // a FIFO among log files is no evidence, so it does not decide the state
		return
	}
	if t.count[e.State]++; t.count[e.State] == 1 {
		t.first[e.State] = reasonOf(*e)
	}
	if weight(e.State) > weight(t.state) {
		t.state = e.State
	}
	if e.State == Empty {
		t.left++
	}
	if e.Name != "" {
		t.files++
		t.bytes += e.Bytes
	}
	if e.State != Taken && e.State != Empty || e.Command != nil && e.Reason != "" {
		t.note(e)
	}
}

func (t *tally) note(e *Entry) {
	if len(t.notes) < MaxNotes {
		t.notes = append(t.notes, strings.TrimSuffix(e.called()+": "+e.Reason, ": "))
	}
}

// fill fills a cell with what was counted, and holds it against what the item demands of each system.
func (t *tally) fill(cell Cell) Cell {
	cell.State, cell.Files, cell.Bytes, cell.Left, cell.Notes = t.state, t.files, t.bytes, t.left, t.notes
	if cell.State == Missing && t.count[Missing] == 0 && t.count[Skipped] > 0 {
		cell.State = Skipped
	}
	cell.Reason = cellReason(cell, t.count, t.first)
	switch {
	case len(t.count) == 0:
		cell.Code = CodeNothing
	case cell.State == Empty:
		cell.Code = CodeOutside
	case cell.State != Taken || len(t.count) > 1:
		cell.Code = CodeSome
	}
	if cell.State != Taken && cell.State != Cut {
		return cell
	}
	if why := t.demand.Unmet(); why != "" {
		cell.State, cell.Code, cell.Reason = Failed, CodeDemand, join("not all that it demands: "+why, cell.Reason)
	}
	return cell
}

func reasonOf(e Entry) string {
	switch {
	case e.State == Taken && e.Command == nil:
		return "" // why it was taken stands with the file
	case e.Reason == "" || e.State == Taken:
		return e.Reason
	}
	return e.called() + ": " + e.Reason
}

// called is how a reason names what an entry is of: a script goes by its first line.
func (e Entry) called() string {
	first, _, more := strings.Cut(e.Source, "\n")
	if e.Command == nil && !more || len(first) <= maxCalled && !more {
		return e.Source
	}
	return strings.ToValidUTF8(first[:min(len(first), maxCalled)], "") + " …"
}

// maxCalled bounds how much of a command line stands in a reason, in bytes.
const maxCalled = 60

func cellReason(cell Cell, count map[State]int, first map[State]string) string {
	if len(count) == 0 {
		return "nothing matches the patterns"
	}
	if cell.State == Empty {
		return fmt.Sprintf("%d files found, none in the window", cell.Left)
	}
	reason := ""
	for i := len(States) - 1; i >= 0; i-- {
		s := States[i]
		switch n := count[s]; {
		case n == 0:
		case s == Empty:
			reason = join(reason, fmt.Sprintf("%d outside the window left", n))
		case s == Taken || s == cell.State && len(count) == 1 && n == 1:
			reason = join(reason, first[s])
		default:
			reason = join(reason, fmt.Sprintf("%d %s: %s", n, s, first[s]))
		}
	}
	return reason
}

func join(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "; " + b
}

// Coverage is the table systems × items of a round.
type Coverage []Cell

// Lacking gives the cells in which something required is not wholly there.
func (c Coverage) Lacking() []Cell {
	var out []Cell
	for _, cell := range c {
		if cell.Lacking() {
			out = append(out, cell)
		}
	}
	return out
}

// Totals gives the number of files and bytes taken.
func (c Coverage) Totals() (files int, bytes int64) {
	for _, cell := range c {
		files += cell.Files
		bytes += cell.Bytes
	}
	return files, bytes
}

// Count gives the number of cells in each state.
func (c Coverage) Count() map[State]int {
	m := map[State]int{}
	for _, cell := range c {
		m[cell.State]++
	}
	return m
}
