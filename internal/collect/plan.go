package collect

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"envask/internal/ask"
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
	Systems    []string // only these; empty means all
	Roles      []string // only systems with one of these; empty means all
	Items      []string // only these; empty means all
	AllowPaths []string // paths and patterns that are taken although they are guarded or not approved
	Jobs       int      // systems at a time
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
		if r.Ask.Item(id) == nil {
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

// Plan gives the table to be filled: a cell for each item and each system that it is wanted from, in the order of the
// files. Cells that are not to be taken this time are Skipped already, with the reason; an item that no system plays a
// role for has one cell without a system.
func (r *Request) Plan() Coverage {
	var plan Coverage
	for i := range r.Site.Systems {
		s := &r.Site.Systems[i]
		for j := range r.Ask.Items {
			it := &r.Ask.Items[j]
			if !it.Wanted(s.Roles) {
				continue
			}
			cell := Cell{System: s.Name, Item: it.ID, Required: it.Required}
			switch {
			case !r.chosen(s):
				cell.State, cell.Reason = Skipped, "this system "+notChosen
			case len(r.Items) > 0 && !slices.Contains(r.Items, it.ID):
				cell.State, cell.Reason = Skipped, "this item "+notChosen
			case it.Depth > r.Depth:
				cell.State, cell.Reason = Skipped, fmt.Sprintf("from depth %s on; this round is %s", it.Depth, r.Depth)
			}
			plan = append(plan, cell)
		}
	}
	for j := range r.Ask.Items {
		it := &r.Ask.Items[j]
		if !slices.ContainsFunc(r.Site.Systems, func(s site.System) bool { return it.Wanted(s.Roles) }) {
			plan = append(plan, Cell{Item: it.ID, Required: it.Required, State: Missing,
				Reason: "no system plays the role " + strings.Join(it.Of, " or ")})
		}
	}
	return plan
}

// Fingerprint is the same for two requests that ask for the same evidence.
func (r *Request) Fingerprint() string {
	type same struct {
		Ask, Site             string
		Depth                 ask.Depth
		Spans                 []window.Span
		Context               time.Duration
		Systems, Roles, Items []string
		Allow                 []string
	}
	data, err := json.Marshal(same{r.Ask.Digest, r.Site.Name, r.Depth, r.Window.Spans, r.Context, sorted(r.Systems), sorted(r.Roles), sorted(r.Items), sorted(r.AllowPaths)})
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
