package ask

import (
	"fmt"
	"path"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"envask/internal/keyfile"
)

// Demand is which files must be there of an item on each system, or of a group: so many, or one for each of some patterns.
type Demand struct {
	Least    int
	Patterns []string // of whole paths; one without a slash is of names
}

// None reports whether nothing is demanded.
func (d Demand) None() bool { return d.Least == 0 && len(d.Patterns) == 0 }

// String gives the demand in words.
func (d Demand) String() string {
	if d.Least > 0 {
		return fmt.Sprintf("at least %d files", d.Least)
	}
	return "files like " + strings.Join(d.Patterns, ", ")
}

// Demanded holds files that come one by one against a demand.
type Demanded struct {
	d     Demand
	files int
	found []bool // by pattern
}

// Begin begins to hold files against the demand.
func (d Demand) Begin() *Demanded { return &Demanded{d: d, found: make([]bool, len(d.Patterns))} }

// Saw takes the path of a file into account.
func (x *Demanded) Saw(path string) {
	x.files++
	for i, p := range x.d.Patterns {
		x.found[i] = x.found[i] || x.d.matches(p, path)
	}
}

// Unmet says what is not there of the demand, given the files that were seen; "" is nothing.
func (x *Demanded) Unmet() string {
	if x.files < x.d.Least {
		return fmt.Sprintf("%d files of at least %d", x.files, x.d.Least)
	}
	var lacks []string
	for i, p := range x.d.Patterns {
		if !x.found[i] {
			lacks = append(lacks, p)
		}
	}
	if len(lacks) > 0 {
		return "no file like " + strings.Join(lacks, ", ")
	}
	return ""
}

func (Demand) matches(pattern, name string) bool {
	if !strings.Contains(pattern, "/") {
		name = path.Base(name)
	}
	ok, err := doublestar.Match(strings.TrimPrefix(pattern, "/"), strings.TrimPrefix(name, "/"))
	return ok && err == nil
}

// readDemand reads files-each: a number, a pattern or a list of patterns.
func readDemand(m *keyfile.Map) (d Demand) {
	list := m.Strings("files-each")
	if len(list) == 1 {
		if n, err := strconv.Atoi(list[0].Text); err == nil {
			if n < 1 || n > 1_000_000 {
				list[0].Problem("files-each: expected a number from 1 on, found %q", list[0].Text)
			}
			return Demand{Least: n}
		}
	}
	for _, v := range list {
		if !doublestar.ValidatePattern(v.Text) || v.Text == "" {
			v.Problem("files-each: %q is no pattern", v.Text)
		}
		d.Patterns = append(d.Patterns, v.Text)
	}
	return d
}
