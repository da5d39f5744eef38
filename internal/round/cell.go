package round

import (
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

// Worse gives the state that counts of two.
func Worse(a, b State) State {
	if weight(b) > weight(a) {
		return b
	}
	return a
}

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
// an archive of this round alone does not have it. What lies elsewhere is told of, with its address.
func (c Cell) Lacking() bool {
	there := c.State == Taken || c.State == Cut || c.Code == CodeElsewhere
	return c.Required && (!there || len(c.Unmet) > 0)
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
	CodeToBring     Code = "to-bring"         // a person has to bring it
	CodeElsewhere   Code = "elsewhere"        // it lies elsewhere, under an address that the entry gives
	CodeBroken      Code = "broken"           // a mistake of ours, or an error of the whole item
)

// Codes lists them all.
var Codes = []Code{CodeNotChosen, CodeHad, CodeDepth, CodeNoRole, CodeNotBegun, CodeTimeLimit, CodeHostKey, CodeLogin, CodeUnreachable,
	CodeSilent, CodeLost, CodeNeeds, CodeDemand, CodeNothing, CodeOutside, CodeSome, CodeToBring, CodeElsewhere, CodeBroken}

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
