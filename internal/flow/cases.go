package flow

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"envask/internal/fault"
	"envask/internal/submit"
)

// State says how far a case is.
type State string

// The states, in the order in which a case goes through them.
const (
	CaseOpen       State = "open"       // nothing was collected yet
	CaseUnfinished State = "unfinished" // the newest round can be resumed
	CaseCollected  State = "collected"  // the newest round is not packed yet
	CasePacked     State = "packed"     // the newest archive was not sent yet
	CaseSent       State = "sent"
)

// States are all of them.
var States = []State{CaseOpen, CaseUnfinished, CaseCollected, CasePacked, CaseSent}

// state tells how far the newest round of a case is.
func (v *CaseView) state() State {
	if len(v.Rounds) == 0 {
		return CaseOpen
	}
	last := v.Rounds[len(v.Rounds)-1]
	switch {
	case !last.Finished:
		return CaseUnfinished
	case len(v.Archives) == 0 || !slices.Contains(strings.Split(v.Archives[len(v.Archives)-1].Round, ","), last.ID):
		return CaseCollected
	case v.lastSent(v.Archives[len(v.Archives)-1].SHA256) == nil:
		return CasePacked
	}
	return CaseSent
}

// lastSent gives the newest receipt of the archive with a SHA-256, or of any for ""; what is only ready to hand over does not count.
func (v *CaseView) lastSent(sum string) *submit.Receipt {
	for i := len(v.Receipts) - 1; i >= 0; i-- {
		if _, of := v.Receipts[i].Plain(); !v.Receipts[i].Handed && (sum == "" || of == sum) {
			return &v.Receipts[i]
		}
	}
	return nil
}

// LastSent gives the newest receipt of a case; nil when nothing was sent.
func (v *CaseView) LastSent() *submit.Receipt { return v.lastSent("") }

// CaseFilter says which cases to list, and how.
type CaseFilter struct {
	Sort      string // one of CaseOrders; "" is the first
	State     string // "" is any
	Vendor    string // a part of its name, whatever the case of letters
	SentSince time.Time
}

// caseOrder is one order of cases.
type caseOrder struct {
	name string
	less func(a, b *CaseView) int
}

var caseOrders = []caseOrder{
	{"opened", func(a, b *CaseView) int { return b.Opened.Compare(a.Opened) }},
	{"case", func(a, b *CaseView) int { return strings.Compare(a.Name, b.Name) }},
	{"vendor", func(a, b *CaseView) int { return strings.Compare(a.Vendor, b.Vendor) }},
	{"title", func(a, b *CaseView) int { return strings.Compare(a.Title, b.Title) }},
	{"state", func(a, b *CaseView) int { return slices.Index(States, a.State) - slices.Index(States, b.State) }},
	{"size", func(a, b *CaseView) int { return cmp.Compare(b.Bytes, a.Bytes) }},
	{"sent", func(a, b *CaseView) int { return sentAt(b).Compare(sentAt(a)) }},
}

func sentAt(v *CaseView) time.Time {
	if r := v.LastSent(); r != nil {
		return r.Finished
	}
	return time.Time{}
}

// CaseOrders are the words for orders: the newest and the largest come first, names in their own order.
func CaseOrders() []string {
	var names []string
	for _, o := range caseOrders {
		names = append(names, o.name)
	}
	return names
}

// BrokenCase is one that cannot be read.
type BrokenCase struct {
	Name string
	Err  error
}

// Cases lists the cases that a filter lets through, and those that cannot be read.
func (a *App) Cases(f CaseFilter) ([]*CaseView, []BrokenCase, error) {
	i := slices.IndexFunc(caseOrders, func(o caseOrder) bool { return o.name == orElse(f.Sort, caseOrders[0].name) })
	if i < 0 {
		return nil, nil, fault.New(fault.Usage, "--sort", f.Sort, "write one of: "+strings.Join(CaseOrders(), ", "), "")
	}
	if f.State != "" && !slices.Contains(States, State(f.State)) {
		return nil, nil, fault.New(fault.Usage, "--state", f.State, fmt.Sprintf("write one of: %s", strings.Trim(fmt.Sprint(States), "[]")),
			"")
	}
	list, err := a.Home.Cases()
	if err != nil {
		return nil, nil, fault.Wrap("list the cases", a.Home.Dir, err)
	}
	views, broken := []*CaseView{}, []BrokenCase{}
	for _, l := range list {
		if l.Err != nil {
			broken = append(broken, BrokenCase{l.Name, l.Err})
			continue
		}
		v, err := a.ShowCase(l.Case)
		if err != nil {
			broken = append(broken, BrokenCase{l.Name, err})
			continue
		}
		if f.State != "" && v.State != State(f.State) || !strings.Contains(strings.ToLower(v.Vendor), strings.ToLower(f.Vendor)) ||
			!f.SentSince.IsZero() && sentAt(v).Before(f.SentSince) {
			continue
		}
		views = append(views, v)
	}
	slices.SortStableFunc(views, caseOrders[i].less)
	return views, broken, nil
}
