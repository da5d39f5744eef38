package ask

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"envask/internal/keyfile"
	"envask/internal/late"
)

// Need is a precondition of an item: without it the evidence would be empty or useless.
type Need struct {
	Command string         // a command that must be there; "" for none
	Run     string         // a command whose output is looked at; "" for none
	File    string         // a file whose content is looked at; "" for none
	Like    *regexp.Regexp // what the output or content must hold; nil: exit code 0, or the file is there
	Least   string         // the smallest version that does; Like's first group, or the first one found, is the version
	Do      string         // what to do when it does not hold
}

// String says what is needed.
func (n Need) String() string {
	what := "the command " + n.Command
	switch {
	case n.Run != "":
		what = "the output of " + n.Run
	case n.File != "":
		what = n.File
	}
	if n.Like != nil {
		what += " like " + n.Like.String()
	}
	if n.Least != "" {
		what += ", version " + n.Least + " or newer"
	}
	return what
}

// Sheet says what looking for it would do; "" when that is nothing worth a line.
func (n Need) Sheet() string {
	switch {
	case n.Run != "":
		return "run " + n.Run + " first, to see whether what it needs is there"
	case n.File != "":
		return "read " + n.File + " first, to see whether what it needs is there"
	}
	return ""
}

var versionText = late.Pattern(`^[0-9]+(\.[0-9]+)*$`)

func readNeeds(m *keyfile.Map) []Need {
	var out []Need
	for _, nm := range m.Maps("needs") {
		n := Need{Command: nm.String("command"), Do: nm.String("do"), Like: pattern(nm.Value("like"), "like")}
		run, file := nm.Value("run"), nm.Value("file")
		n.Run, n.File = run.Text, file.Text
		given := 0
		for _, t := range []string{n.Command, n.Run, n.File} {
			if t != "" {
				given++
			}
		}
		if given != 1 {
			nm.Problem("needs: say what is needed, with one of: command, run, file")
		}
		if n.Command != "" && !regexp.MustCompile(`^[A-Za-z0-9_./+-]+$`).MatchString(n.Command) {
			nm.Problem("needs: %q is no name of a command", n.Command)
		}
		if strings.ContainsRune(n.Run, 0) || len(Fields(n.Run)) > 0 {
			run.Problem("needs: expected a command line without placeholders, found %q", n.Run)
		}
		if n.File != "" {
			if checkPattern("needs", file); hasPattern(n.File) {
				file.Problem("needs: %q must be a whole path without patterns", n.File)
			}
		}
		if v := nm.Value("least"); v.Set() {
			if n.Least = v.Text; !versionText().MatchString(v.Text) || n.Command != "" {
				v.Problem("least: expected a version such as 4.2 (with run: or file:), found %q", v.Text)
			}
		}
		nm.Done()
		out = append(out, n)
	}
	return out
}

func hasPattern(p string) bool { return strings.ContainsAny(p, "*?[{\x00") }

// Set names items that belong to one symptom, or to one thing that the desk asks for by name.
type Set struct {
	Name  string
	Text  string // what to do, and not to do, first
	Items []string
}

// Group demands that several items are there together: of one that is not, the others are of little use.
type Group struct {
	Name  string
	Items []string
	Why   string
	Each  Demand // which files of all its items must come from each system
}

// Value is one fact that is read from a file of each system and stands beside its vitals.
type Value struct {
	ID   string
	Of   []string // roles; empty means every system
	File string   // pattern
	Like *regexp.Regexp
	// Within are the folders in which it may lead where it becomes a path.
	Within []string
}

// readSets reads sets and groups, whose items must be there.
func (a *Ask) readSets(m *keyfile.Map) {
	items := func(im *keyfile.Map, what string) []string {
		var ids []string
		for _, v := range im.Strings("items") {
			if a.Item(v.Text) == nil {
				v.Problem("%s: there is no item %q", what, v.Text)
			}
			ids = append(ids, v.Text)
		}
		if len(ids) == 0 {
			im.Problem("%s: names no item", what)
		}
		return ids
	}
	seen := map[string]int{}
	for _, sm := range m.Maps("sets") {
		name := sm.Need("name")
		unique(seen, "set", name)
		a.Sets = append(a.Sets, Set{Name: checkWord("name", name), Text: strings.TrimSpace(sm.String("text")), Items: items(sm, "sets")})
		sm.Done()
	}
	seen = map[string]int{}
	for _, gm := range m.Maps("groups") {
		name := gm.Need("name")
		unique(seen, "group", name)
		a.Groups = append(a.Groups, Group{Name: checkWord("name", name), Why: gm.String("why"),
			Items: items(gm, "groups"), Each: readDemand(gm)})
		gm.Done()
	}
	seen = map[string]int{}
	for _, vm := range m.Maps("values") {
		id := vm.Need("id")
		unique(seen, "value", id)
		v := Value{ID: checkWord("id", id), Like: pattern(vm.Value("like"), "like")}
		for _, of := range vm.Strings("of") {
			v.Of = append(v.Of, checkWord("of", of))
		}
		file := vm.Need("file")
		checkPattern("file", file)
		v.File, v.Within = file.Text, readWithin(vm)
		if v.Like == nil || v.Like.NumSubexp() != 1 {
			vm.Problem("values: like: needs one pair of parentheses around the value")
		}
		vm.Done()
		a.Values = append(a.Values, v)
	}
}

// Set gives the set with a name, or nil.
func (a *Ask) Set(name string) *Set {
	for i := range a.Sets {
		if a.Sets[i].Name == name {
			return &a.Sets[i]
		}
	}
	return nil
}

// Wanted says whether a value is read from a system with these roles.
func (v Value) Wanted(roles []string) bool {
	it := Item{Of: v.Of}
	return it.Wanted(roles)
}

func (v Value) sheet() string { return fmt.Sprintf("value %s: read %s", v.ID, v.File) + v.used() }

var firstVersion = late.Pattern(`[0-9]+(\.[0-9]+)+`)

// Judge says why a text does not do, or "".
func (n Need) Judge(text string) string {
	version := ""
	if n.Like != nil {
		m := n.Like.FindStringSubmatch(text)
		if m == nil {
			return "it is not so"
		}
		if len(m) > 1 {
			version = m[1]
		} else {
			version = firstVersion().FindString(m[0])
		}
	} else {
		version = firstVersion().FindString(text)
	}
	switch {
	case n.Least == "":
		return ""
	case version == "":
		return "it names no version"
	case olderVersion(version, n.Least):
		return "it is " + version
	}
	return ""
}

// olderVersion says whether one dotted number comes before another.
func olderVersion(a, b string) bool {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(x), len(y)) {
		var p, q int
		if i < len(x) {
			p, _ = strconv.Atoi(x[i])
		}
		if i < len(y) {
			q, _ = strconv.Atoi(y[i])
		}
		if p != q {
			return p < q
		}
	}
	return false
}
