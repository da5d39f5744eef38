package ask

import (
	"fmt"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/dustin/go-humanize"

	"envask/internal/keyfile"
	"envask/internal/late"
	"envask/internal/window"
)

// Files is an item that takes files by pattern.
type Files struct {
	Patterns      []string       // absolute, with *, ?, [..], {a,b} and **
	Cut           string         // "lines": the lines of the window; "files": whole files that can belong to it; "none": not bound to it
	Zone          *time.Location // of times that name none; nil means the system's
	Unordered     bool           // its lines are known to come in no order
	History       int            // rotated members that count beside the current one; -1 means all
	Newest        int            // only so many files, the newest; 0 means all
	NewestVersion bool           // of folders that differ by a version alone, only the newest
	With          []string       // companions of each file, with {stem} and {name}
	LastLines     int            // of each file; 0 means all
	Max           int64          // bytes of the item on one system, the newest kept; 0 means no limit
	RotateFirst   string         // command that makes the system close its log before it is read
	RotateTimeout time.Duration
}

// AllHistory means all rotated members.
const AllHistory = -1

// Kind is the key that chooses this kind.
func (Files) Kind() string { return "files" }

// Sheet says which paths would be read.
func (f Files) Sheet() []string {
	lines := make([]string, 0, len(f.Patterns)+2)
	if f.RotateFirst != "" {
		lines = append(lines, fmt.Sprintf("run %s (at most %s), before the files are read", f.RotateFirst, short(f.RotateTimeout)))
	}
	for _, p := range f.Patterns {
		line := "read " + p
		if f.Cut == "none" {
			line += " (whatever its age)"
		}
		lines = append(lines, line)
	}
	for _, w := range f.With {
		lines = append(lines, "read "+w+" beside each of them")
	}
	if f.Max > 0 {
		lines = append(lines, "at most "+humanize.IBytes(uint64(f.Max))+", the newest")
	}
	return lines
}

// DefaultRotateTimeout is how long rotate-first may take when the ask does not say.
const DefaultRotateTimeout = time.Minute

func readFiles(m *keyfile.Map) Spec {
	f := Files{Cut: m.Choice("cut", "lines", "files", "none"), History: AllHistory}
	for i, v := range m.Strings("files") {
		if i == MaxItems {
			v.Problem("files: more than %d patterns", MaxItems)
			break
		}
		checkPattern("files", v)
		f.Patterns = append(f.Patterns, v.Text)
	}
	if len(f.Patterns) == 0 {
		m.Problem("files: names no pattern")
	}
	if v := m.Value("zone"); v.Set() {
		z, err := window.ParseZone(v.Text)
		if err != nil {
			v.Problem("zone: %v", err)
		}
		f.Zone = z
	}
	f.Unordered = m.Choice("order", "any", "none") == "none"
	f.History = history(m.Value("history"))
	f.Newest = count(m.Value("newest"), "newest")
	f.LastLines = count(m.Value("last-lines"), "last-lines")
	f.NewestVersion = m.Bool("newest-version", false)
	f.Max = m.Size("max", 0)
	for _, v := range m.Strings("with") {
		checkCompanion(v)
		f.With = append(f.With, v.Text)
	}
	if v := m.Value("rotate-first"); v.Set() {
		if strings.TrimSpace(v.Text) == "" || strings.ContainsRune(v.Text, 0) || len(Fields(v.Text)) > 0 {
			v.Problem("rotate-first: expected a command line without placeholders, found %q", v.Text)
		}
		f.RotateFirst = v.Text
	}
	f.RotateTimeout = m.Duration("timeout", DefaultRotateTimeout)
	return f
}

func history(v keyfile.Value) int {
	switch {
	case !v.Set() || v.Text == "yes" || v.Text == "true":
		return AllHistory
	case v.Text == "no" || v.Text == "false":
		return 0
	}
	n, err := strconv.Atoi(v.Text)
	if err != nil || n < 0 {
		v.Problem("history: expected yes, no or a number of rotated files, found %q", v.Text)
	}
	return n
}

func count(v keyfile.Value, key string) int {
	if !v.Set() {
		return 0
	}
	n, err := strconv.Atoi(v.Text)
	if err != nil || n < 1 {
		v.Problem("%s: expected a number from 1 on, found %q", key, v.Text)
		return 0
	}
	return n
}

// checkCompanion makes sure that a companion stays in the folder of its file, or below it.
func checkCompanion(v keyfile.Value) {
	p := v.Text
	fixed := strings.NewReplacer("{stem}", "", "{name}", "").Replace(p)
	switch {
	case fixed == p:
		v.Problem("with: %q must hold {stem} (the file's name without its ending) or {name}", p)
	case strings.HasPrefix(p, "/") || strings.ContainsAny(fixed, "{}*?[]\\") || strings.ContainsRune(p, 0) || path.Clean("/"+p) != "/"+p:
		v.Problem("with: %q must be a plain name in the file's own folder, or below it", p)
	}
}

var windowsPath = late.Pattern(`^([A-Za-z]:|%[A-Za-z][A-Za-z0-9_()]*%)[\\/]`)
var bracesWithSlash = late.Pattern(`\{[^{}]*/[^{}]*\}`)

// checkPattern makes sure that a pattern is a whole path on some system: from its top, from the home of the account (~), or from a
// folder that Windows names (%ProgramData%).
// loneBraces are braces without a choice in them: somebody meant a placeholder.
var loneBraces = late.Pattern(`\{[^{},]*\}`)

func checkPattern(key string, v keyfile.Value) {
	p := pathField().ReplaceAllString(v.Text, "x")
	if strings.HasPrefix(v.Text, "{value.") || strings.HasPrefix(v.Text, "{system.") {
		p = "/" + p // it is a whole path, or will be refused
	}
	switch {
	case !strings.HasPrefix(p, "/") && !strings.HasPrefix(p, "~/") && !windowsPath().MatchString(p):
		v.Problem(key+": %q must be a whole path, beginning with /, ~/, a drive letter or %%NAME%%", p)
	case strings.Contains("/"+strings.ReplaceAll(p, `\`, "/")+"/", "/../"):
		v.Problem(key+": %q must not contain ..", p)
	case strings.ContainsRune(p, 0):
		v.Problem(key+": %q contains a NUL byte", p)
	case keyfile.CostlyPattern(p) != "":
		v.Problem(key+": the pattern %s", keyfile.CostlyPattern(p))
	case loneBraces().MatchString(p):
		v.Problem(key+": %q: in paths there are {value.ID}, {system} and {system.KEY}, and {a,b} needs a comma: %s",
			v.Text, loneBraces().FindString(p))
	case bracesWithSlash().MatchString(p):
		v.Problem(key+": %q has a slash within braces; write two patterns", p)
	case !windowsPath().MatchString(p) && !doublestar.ValidatePattern(p):
		v.Problem(key+": %q is not a usable pattern (is a bracket or brace left open?)", p)
	}
}
