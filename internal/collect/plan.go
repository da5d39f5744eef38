package collect

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/window"
)

// Request is what to collect.
type Request struct {
	Ask        *ask.Ask
	Site       *site.Site
	Window     window.Window
	Context    time.Duration // extra time on both sides of the window, for what is cut to it
	Depth      ask.Depth
	Systems    []string             // only these; empty means all
	Roles      []string             // only systems with one of these; empty means all
	Items      []string             // only these; empty means all
	AllowPaths []string             // paths and patterns that are taken although they are guarded or not approved
	Jobs       int                  // systems at a time
	Case       string               // the vendor's number, for commands that want it; "" while there is none
	Title      string               // of the case
	Answers    map[string]string    // of the brief, by question, for commands that want one
	Within     time.Duration        // the whole collection stops after so long; 0 is no limit
	Only       map[[2]string]bool   // system and item: only these fields; nil means all
	OnlyWhy    string               // what it says of the others
	Had        map[[2]string]string // system and item: the earlier round into which a person brought it
	Again      []string             // systems of which nothing that is there counts
	Free       func() int64         // bytes free for the case, -1 when that is not known; nil is not asked
	Baseline   bool                 // the round shows how the site was before a change
	Members    []string             // members that are taken although the systems file does not list them
	LeaveOpen  bool                 // the round stays open for further passes over other systems
}

// Check says which chosen name does not exist.
func (r *Request) Check() error {
	for _, name := range r.Systems {
		if r.Site.System(name) == nil {
			return fmt.Errorf("there is no system %q in %s; known: %s", name, r.Site.File, names(r.Site.Systems))
		}
	}
	for _, role := range r.Roles {
		if !slices.ContainsFunc(r.Site.Systems, func(s site.System) bool { return slices.Contains(s.Roles, role) }) {
			return fmt.Errorf("no system plays the role %q in %s", role, r.Site.File)
		}
	}
	for _, id := range r.Items {
		if r.Ask.Item(id) == nil && (id != ask.Vitals || r.Ask.NoVitals) {
			var known []string
			for _, it := range r.Ask.Items {
				known = append(known, it.ID)
			}
			return fmt.Errorf("there is no item %q in %s; known: %s", id, r.Ask.File, strings.Join(known, ", "))
		}
	}
	return nil
}

func names(systems []site.System) string {
	var out []string
	for _, s := range systems {
		out = append(out, s.Name)
	}
	return strings.Join(out, ", ")
}

// chosen says whether a system was chosen on the command line.
func (r *Request) chosen(s *site.System) bool {
	if len(r.Systems) > 0 && !slices.Contains(r.Systems, s.Name) {
		return false
	}
	return len(r.Roles) == 0 || slices.ContainsFunc(s.Roles, func(role string) bool { return slices.Contains(r.Roles, role) })
}

// named says whether a system was chosen by its name.
func (r *Request) named(s *site.System) bool { return slices.Contains(r.Systems, s.Name) }

// wants says whether an item is wanted from a system. One that only others go through gives nothing by itself: an item names it (of:
// [hop]),
// or the engineer does.
func (r *Request) wants(it *ask.Item, s *site.System) bool {
	if !r.Site.Hop(s) {
		return it.Wanted(s.Roles)
	}
	return slices.Contains(it.Of, site.RoleHop) || len(it.Of) == 0 && r.named(s)
}

// Plan gives the table to be filled: a cell for each item and each system that it is wanted from, in the order of the
// files. Cells that are not to be taken this time are Skipped already, with the reason; an item that no system plays a
// role for has one cell without a system.
func (r *Request) Plan() round.Coverage {
	var plan round.Coverage
	for i := range r.Site.Systems {
		s := &r.Site.Systems[i]
		for j := range r.Ask.Items {
			it := &r.Ask.Items[j]
			if !r.wants(it, s) {
				continue
			}
			cell := round.Cell{System: s.Name, Item: it.ID, Required: it.Required}
			switch {
			case !r.chosen(s):
				cell.State, cell.Code, cell.Reason = round.Skipped, round.CodeNotChosen, "this system was not chosen"
			case len(r.Items) > 0 && !slices.Contains(r.Items, it.ID):
				cell.State, cell.Code, cell.Reason = round.Skipped, round.CodeNotChosen, "this item was not chosen"
			case r.Only != nil && !r.Only[[2]string{s.Name, it.ID}]:
				cell.State, cell.Code, cell.Reason = round.Skipped, round.CodeHad, r.OnlyWhy
			case it.Depth > r.Depth:
				cell.State, cell.Code, cell.Reason = round.Skipped, round.CodeDepth,
					fmt.Sprintf("from depth %s on; this round is %s", it.Depth, r.Depth)
			case it.Brought():
				cell = r.toBring(cell)
			}
			plan = append(plan, cell)
		}
		if !r.Ask.NoVitals && (!r.Site.Hop(s) || r.named(s)) {
			plan = append(plan, r.vitals(s))
		}
	}
	for j := range r.Ask.Items {
		it := &r.Ask.Items[j]
		if it.OfCase {
			plan = append(plan, r.ofCase(it))
			continue
		}
		if !slices.ContainsFunc(r.Site.Systems, func(s site.System) bool { return r.wants(it, &s) }) {
			plan = append(plan, round.Cell{Item: it.ID, Required: it.Required, State: round.Missing, Code: round.CodeNoRole,
				Reason: "no system plays the role " + strings.Join(it.Of, " or ")})
		}
	}
	return plan
}

// ofCase gives the cell of what a person brings for the case as a whole.
func (r *Request) ofCase(it *ask.Item) round.Cell {
	cell := round.Cell{System: site.Case, Item: it.ID, Required: it.Required}
	switch {
	case len(r.Items) > 0 && !slices.Contains(r.Items, it.ID):
		cell.State, cell.Code, cell.Reason = round.Skipped, round.CodeNotChosen, "this item was not chosen"
	case r.Only != nil && !r.Only[[2]string{site.Case, it.ID}]:
		cell.State, cell.Code, cell.Reason = round.Skipped, round.CodeHad, r.OnlyWhy
	case it.Depth > r.Depth:
		cell.State, cell.Code, cell.Reason = round.Skipped, round.CodeDepth,
			fmt.Sprintf("from depth %s on; this round is %s", it.Depth, r.Depth)
	default:
		cell = r.toBring(cell)
	}
	return cell
}

// toBring gives the cell of what a person brings: it is missing, unless an earlier round has it.
func (r *Request) toBring(cell round.Cell) round.Cell {
	if had := r.Had[[2]string{cell.System, cell.Item}]; had != "" {
		cell.State, cell.Code, cell.Reason = round.Skipped, round.CodeHad, "it was brought into round "+had
		return cell
	}
	return round.ToBring(cell)
}

// vitals gives the cell of what every ask wants unless it says otherwise.
func (r *Request) vitals(s *site.System) round.Cell {
	cell := round.Cell{System: s.Name, Item: ask.Vitals}
	switch {
	case !r.chosen(s):
		cell.State, cell.Code, cell.Reason = round.Skipped, round.CodeNotChosen, "this system was not chosen"
	case len(r.Items) > 0 && !slices.Contains(r.Items, ask.Vitals):
		cell.State, cell.Code, cell.Reason = round.Skipped, round.CodeNotChosen, "this item was not chosen"
	case r.Only != nil && !r.Only[[2]string{s.Name, ask.Vitals}]:
		cell.State, cell.Code, cell.Reason = round.Skipped, round.CodeHad, r.OnlyWhy
	}
	return cell
}

// newRound gives a round that asks for this.
func (r *Request) newRound(c *casefile.Case, number int, note string) *round.Round {
	out := round.New(c, number)
	out.Note, out.Ask, out.Vendor, out.Digest, out.Site = note, r.Ask.Name, r.Ask.Vendor, r.Ask.Digest, r.Site.Name
	out.Depth, out.Window, out.Zone, out.Context = r.Depth.String(), r.Window.Spans, r.Window.ZoneName(), r.Context
	out.Baseline, out.Same, out.Base = r.Baseline, r.Fingerprint(), r.base()
	return out
}

// Fingerprint is the same for two requests that ask for the same evidence.
func (r *Request) Fingerprint() string {
	return r.same(sorted(r.Systems), sorted(r.Roles))
}

// base is the same for two requests that ask for the same evidence, but for the systems.
func (r *Request) base() string { return r.same(nil, nil) }

func (r *Request) same(systems, roles []string) string {
	type same struct {
		Ask, Site             string
		Depth                 ask.Depth
		Spans                 []window.Span
		Context               time.Duration
		Systems, Roles, Items []string
		Allow, Only           []string
		Members               []string `json:",omitempty"`
	}
	var only []string
	for k := range r.Only {
		only = append(only, k[0]+" "+k[1])
	}
	data, err := json.Marshal(same{r.Ask.Digest, r.Site.Name, r.Depth, r.Window.Spans, r.Context, systems, roles, sorted(r.Items),
		sorted(r.AllowPaths), sorted(only), sorted(r.Members)})
	if err != nil {
		panic(err) // plain strings and times always marshal
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

func sorted(s []string) []string {
	out := slices.Clone(s)
	slices.Sort(out)
	return out
}
