package ask

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"envask/internal/device"
	"envask/internal/keyfile"
)

// Members is how the fellows of a cluster, stack or fabric are found: a command of one of them names them.
type Members struct {
	ID   string
	Of   []string // roles of the systems that are asked
	Type string
	Like *regexp.Regexp // each match names one fellow: group "name", and "address" where it tells one
}

// Wanted says whether a system with these roles is asked for its fellows.
func (m Members) Wanted(roles []string) bool {
	it := Item{Of: m.Of}
	return it.Wanted(roles)
}

func (m Members) sheet() string {
	return fmt.Sprintf("members %s, of role %s: type %s to see which fellows there are", m.ID, strings.Join(m.Of, ", role "), m.Type)
}

// readOrder reads what is done around an item, and what it waits for.
func readOrder(m *keyfile.Map, it *Item) {
	for _, v := range m.Strings("after") {
		it.After = append(it.After, checkWord("after", v))
	}
	it.Before, it.Afterwards = device.ReadSteps(m, "before"), device.ReadUndo(m, "afterwards")
	if len(it.Before) > 0 && len(it.Afterwards) == 0 {
		m.Problem("before: needs afterwards: too: what is changed on a system is changed back")
	}
	if (m.Has("person") || m.Has("arrives") && !m.Has("run")) && (len(it.Before)+len(it.Afterwards)+len(it.After) > 0) {
		m.Problem("after:, before: and afterwards: do not go with person:, and with arrives: only beside run:")
	}
	for _, v := range aroundLines(m) {
		checkFields(v, false)
		if slices.Contains(Fields(v.Text), "member") {
			v.Problem("{member} is for run: of an item with each-member:; what stands around it is done once")
		}
	}
	if v := m.Value("each-member"); v.Set() {
		it.EachMember = checkWord("each-member", v)
		if !m.Has("run") {
			v.Problem("each-member: goes with run:")
		}
	}
}

// aroundLines gives the lines of an item that are typed before it and afterwards.
func aroundLines(m *keyfile.Map) []keyfile.Value {
	var out []keyfile.Value
	for _, key := range []string{"before", "afterwards"} {
		for _, sm := range m.Maps(key) {
			out = append(out, sm.Need("type"))
			if rm := sm.Map("restored-when"); rm != nil {
				out = append(out, rm.Need("type"))
			}
		}
	}
	return out
}

func (a *Ask) readMembers(m *keyfile.Map) {
	seen := map[string]int{}
	for _, mm := range m.Maps("members") {
		id := mm.Need("id")
		unique(seen, "list of members", id)
		x := Members{ID: checkWord("id", id), Type: mm.Need("type").Text, Like: pattern(mm.Need("like"), "like")}
		for _, v := range mm.Strings("of") {
			x.Of = append(x.Of, checkWord("of", v))
		}
		if len(x.Of) == 0 {
			mm.Problem("members: of: names no role")
		}
		if x.Like != nil && x.Like.SubexpIndex("name") < 0 {
			mm.Problem("members: like: needs a group (?P<name>…), and may have (?P<address>…)")
		}
		mm.Done()
		a.Members = append(a.Members, x)
	}
}

// MembersOf gives a list of members by its name; nil when there is none.
func (a *Ask) MembersOf(id string) *Members {
	for i := range a.Members {
		if a.Members[i].ID == id {
			return &a.Members[i]
		}
	}
	return nil
}

// checkOrder reports items that wait for what is not there, or for themselves, and members that nobody lists.
func (a *Ask) checkOrder(m *keyfile.Map) {
	for i, im := range m.Maps("items") {
		if i >= len(a.Items) {
			break
		}
		it := &a.Items[i]
		for _, v := range im.Strings("after") {
			other := a.Item(v.Text)
			switch {
			case other == nil:
				v.Problem("after: there is no item %q", v.Text)
			case other.Brought():
				v.Problem("after: a person brings %s, which is not waited for", v.Text)
			case a.waits(other, it.ID, map[string]bool{}):
				v.Problem("after: %s and %s wait for each other", it.ID, v.Text)
			}
		}
		member := false
		for _, v := range im.Strings("run") {
			member = member || slices.Contains(Fields(v.Text), "member")
			if it.EachMember == "" && slices.Contains(Fields(v.Text), "member") {
				v.Problem("{member} goes with each-member:")
			}
		}
		if v := im.Value("each-member"); v.Set() {
			switch {
			case a.MembersOf(v.Text) == nil:
				v.Problem("each-member: there is no list of members %q", v.Text)
			case !member:
				v.Problem("each-member: run: needs {member} in it")
			}
		}
	}
}

// waits reports whether an item waits for another, directly or by others.
func (a *Ask) waits(it *Item, target string, seen map[string]bool) bool {
	if it.ID == target {
		return true
	}
	if seen[it.ID] {
		return false
	}
	seen[it.ID] = true
	for _, id := range it.After {
		if next := a.Item(id); next != nil && a.waits(next, target, seen) {
			return true
		}
	}
	return false
}

// orderSheet says what is done around an item.
func (it *Item) orderSheet() []string {
	var lines []string
	if len(it.After) > 0 {
		lines = append(lines, "after "+strings.Join(it.After, ", "))
	}
	for _, s := range it.Before {
		lines = append(lines, "TEMPORARY CHANGE before it: "+s.String())
	}
	for _, u := range it.Afterwards {
		lines = append(lines, "afterwards, always: "+u.String())
	}
	if it.EachMember != "" {
		lines = append(lines, "for each member of "+it.EachMember)
	}
	return lines
}

// Heeds names what an ask does beyond reading, for the end of a long sheet: changes on systems, removals, and commands with more rights.
func (a *Ask) Heeds() []string {
	var out []string
	for i := range a.Items {
		it := &a.Items[i]
		if len(it.Before)+len(it.Afterwards) > 0 {
			var there, back []string
			for _, s := range it.Before {
				there = append(there, s.Type)
			}
			for _, u := range it.Afterwards {
				back = append(back, u.Type)
			}
			out = append(out, fmt.Sprintf("%s changes the system: %s; and changes it back: %s", it.ID, orNothing(there),
				strings.Join(back, "; ")))
		}
		if r, ok := it.Spec.(Run); ok && (r.Remove || r.RemoveBy != nil) {
			out = append(out, it.ID+" removes on the system what its command made, once that was taken")
		}
		if st, ok := it.Spec.(Steps); ok && st.Removes() {
			out = append(out, it.ID+" removes something on the device")
		}
		if it.Elevated {
			out = append(out, it.ID+" runs with the system's elevation")
		}
	}
	return out
}

func orNothing(list []string) string {
	if len(list) == 0 {
		return "nothing"
	}
	return strings.Join(list, "; ")
}
