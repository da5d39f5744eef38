package round

import (
	"envask/internal/ask"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Tally makes the cell of an item from its entries, which come one by one.
type Tally struct {
	State  State
	count  map[State]int
	first  map[State]string // reasons
	files  int
	bytes  int64
	left   int
	notes  []string
	demand *ask.Demanded

	item    *ask.Item
	members map[string]*ask.Demanded // of an item that is taken for each member: what there is of each
}

func NewTally(item *ask.Item) *Tally {
	return &Tally{State: Missing, count: map[State]int{}, first: map[State]string{}, demand: item.Each.Begin(), item: item,
		members: map[string]*ask.Demanded{}}
}

// Add takes an entry into account.
func (t *Tally) Add(e *Entry) {
	if isTakenFile(e) {
		t.demand.Saw(e.Source)
	}
	t.ofMember(e)
	if e.Special {
		t.note(e) // a FIFO among log files is no evidence, so it does not decide the state
		return
	}
	if t.count[e.State]++; t.count[e.State] == 1 {
		t.first[e.State] = reasonOf(*e)
	}
	if weight(e.State) > weight(t.State) {
		t.State = e.State
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

// ofMember counts what there is of a member.
func (t *Tally) ofMember(e *Entry) {
	if e.Member == "" {
		return
	}
	if t.members[e.Member] == nil {
		t.members[e.Member] = t.item.Each.Begin()
	}
	if e.Name != "" && (e.State == Taken || e.State == Cut) {
		t.members[e.Member].Saw(e.Name)
	}
}

// unmet says what the item demands and is not there: of each system, or of each member where it is taken for each.
func (t *Tally) unmet() string {
	if t.item.EachMember == "" {
		return t.demand.Unmet()
	}
	why := ""
	for _, name := range slices.Sorted(maps.Keys(t.members)) {
		if lacks := t.members[name].Unmet(); lacks != "" {
			why = Join(why, name+": "+lacks)
		}
	}
	return why
}

func (t *Tally) note(e *Entry) {
	if len(t.notes) < MaxNotes {
		t.notes = append(t.notes, strings.TrimSuffix(e.Called()+": "+e.Reason, ": "))
	}
}

// Fill fills a cell with what was counted, and holds it against what the item demands of each system.
func (t *Tally) Fill(cell Cell) Cell {
	cell.State, cell.Files, cell.Bytes, cell.Left, cell.Notes = t.State, t.files, t.bytes, t.left, t.notes
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
	if why := t.unmet(); why != "" {
		cell.State, cell.Code, cell.Reason = Failed, CodeDemand, Join("not all that it demands: "+why, cell.Reason)
	}
	return cell
}

func cellReason(cell Cell, count map[State]int, first map[State]string) string {
	if len(count) == 0 {
		return "nothing matches the patterns"
	}
	if cell.State == Empty {
		if cell.Left == 1 {
			return "1 file found, not in the window"
		}
		return fmt.Sprintf("%d files found, none in the window", cell.Left)
	}
	reason := ""
	for i := len(States) - 1; i >= 0; i-- {
		s := States[i]
		switch n := count[s]; {
		case n == 0:
		case s == Empty:
			reason = Join(reason, fmt.Sprintf("%d outside the window left", n))
		case s == Taken || s == cell.State && len(count) == 1 && n == 1:
			reason = Join(reason, first[s])
		default:
			reason = Join(reason, fmt.Sprintf("%d %s: %s", n, s, first[s]))
		}
	}
	return reason
}

func Join(a, b string) string {
	if a == "" || b == "" {
		return a + b
	}
	return a + "; " + b
}
