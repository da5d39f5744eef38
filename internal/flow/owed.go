package flow

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/round"
	"envask/internal/site"
	"envask/internal/undo"
)

// owed gives the changes on systems that commands take back, and that were not taken back yet.
func owed(c *casefile.Case) []undo.Change {
	pending, err := undo.Pending(c)
	if err != nil {
		return nil // who reads the ledger next says what is wrong with it
	}
	return slices.DeleteFunc(pending, func(p undo.Change) bool { return p.Kind != undo.KindCommand })
}

// HowBack gives what is to be typed on a system to take a change back, word by word.
func HowBack(c undo.Change) string {
	var words []string
	for _, u := range c.Do {
		words = append(words, u.Type)
	}
	return strings.Join(words, "; ")
}

// sayOwed says what is still to be changed back on systems.
func (a *App) sayOwed(c *casefile.Case) {
	for _, o := range owed(c) {
		a.note("still to be changed back on %s since %s (%s); envask tidy does it, or type there: %s", o.Where,
			o.At.Format("2006-01-02 15:04"), o.Path, HowBack(o))
	}
}

// owing makes a collection that left something to be changed back an incomplete one.
func (a *App) owing(c *casefile.Case, err error) error {
	list := owed(c)
	if len(list) == 0 {
		return err
	}
	a.sayOwed(c)
	if err != nil {
		return err
	}
	return fault.New(fault.Incomplete, "", "", fmt.Sprintf("%d %s not changed back", len(list),
		plural(len(list), "change on a system was", "changes on systems were")), "envask tidy does it when the system can be reached")
}

// sayPutBack says what became of a change that an earlier run had left.
func (a *App) sayPutBack(e collect.Event) {
	if e.Reason == "" {
		a.note("%s on %s: an earlier run had left a change there; it is changed back now", e.Item, e.System)
		return
	}
	a.note("%s on %s: an earlier run left a change there, which could not be changed back: %s", e.Item, e.System, e.Reason)
}

// describe gives devices the descriptions that an approved ask has.
func describe(s *site.Site, k *ask.Ask) error {
	unknown := s.Describe(k.Devices)
	if len(unknown) == 0 {
		return nil
	}
	return fault.New(fault.Usage, "read the systems file", s.File, "no description of "+strings.Join(unknown, ", "),
		"add it under devices: in the systems file")
}

// describeApproved does the same where the ask need not be there any more: an ask that is not approved describes nothing.
func (a *App) describeApproved(c *casefile.Case, s *site.Site) {
	if k, err := LoadAsk(c.Ask); err == nil {
		if _, ok, err := a.Sheet(k); err == nil && ok {
			s.Describe(k.Devices)
		}
	}
}

// oldAlgorithms says which devices may be reached with algorithms of SSH that are not safe any more.
func oldAlgorithms(s *site.Site) []string {
	var out []string
	for _, sys := range s.Systems {
		if sys.Console != nil && sys.Console.Legacy {
			out = append(out, "system "+sys.Name+": OLD ALGORITHMS of SSH are allowed, as the systems file says (legacy)")
		}
	}
	return out
}

// allMembers asks for each member that the systems file does not list.
const allMembers = "all"

// addMembers adds members that the systems file does not list, and that the engineer names or says yes to. One with an address of its own
// is
// reached in the way of the system that names it.
func (a *App) addMembers(ctx context.Context, col *collect.Collector, names []string) error {
	if len(names) == 0 {
		return nil
	}
	if slices.Contains(names, allMembers) && a.Confirm == nil {
		return fault.New(fault.Usage, "--members", allMembers, "each is asked for, and nobody can be asked here",
			"name them: --members NAME")
	}
	wanted := map[string]bool{}
	for _, n := range names {
		wanted[strings.ToLower(n)] = n != allMembers
	}
	var unlisted []string
	for _, m := range col.FindMembers(ctx) {
		for _, f := range m.Unlisted() {
			unlisted = append(unlisted, f.Name)
			yes := wanted[strings.ToLower(f.Name)]
			if _, all := wanted[allMembers]; all && !yes {
				var err error
				if yes, err = a.Confirm(fmt.Sprintf("%s names the member %s, which the systems file does not list. Take it, too?",
					m.System, called(f))); err != nil {
					return err
				}
			}
			if yes {
				delete(wanted, strings.ToLower(f.Name))
				col.AddMember(m.System, f)
			}
		}
	}
	delete(wanted, allMembers)
	for n := range wanted {
		return fault.New(fault.Usage, "--members", n, "no system names such a member that is not listed",
			"members that are not in the systems file: "+orNone(unlisted))
	}
	return nil
}

func called(f round.Fellow) string {
	if f.Address == "" {
		return f.Name
	}
	return f.Name + " (" + f.Address + ")"
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, ", ")
}
