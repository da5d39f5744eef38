package ask

import (
	"regexp"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"envask/internal/keyfile"
)

// Files is an item that takes files by pattern.
type Files struct {
	Patterns []string // absolute, with *, ?, [..], {a,b} and **
	Cut      string   // "files": whole files that can belong to the window; "none": not bound to the window
}

// Kind is the key that chooses this kind.
func (Files) Kind() string { return "files" }

// Sheet says which paths would be read.
func (f Files) Sheet() []string {
	lines := make([]string, 0, len(f.Patterns))
	for _, p := range f.Patterns {
		line := "read " + p
		if f.Cut == "none" {
			line += " (whatever its age)"
		}
		lines = append(lines, line)
	}
	return lines
}

func readFiles(m *keyfile.Map) Spec {
	f := Files{Cut: m.Choice("cut", "files", "none")}
	for _, v := range m.Strings("files") {
		checkPattern(v)
		f.Patterns = append(f.Patterns, v.Text)
	}
	if len(f.Patterns) == 0 {
		m.Problem("files: names no pattern")
	}
	return f
}

var driveLetter = regexp.MustCompile(`^[A-Za-z]:[\\/]`)
var bracesWithSlash = regexp.MustCompile(`\{[^{}]*/[^{}]*\}`)

func checkPattern(v keyfile.Value) {
	p := v.Text
	switch {
	case !strings.HasPrefix(p, "/") && !driveLetter.MatchString(p):
		v.Problem("files: %q must be a whole path, beginning with / or a drive letter", p)
	case strings.Contains("/"+strings.ReplaceAll(p, `\`, "/")+"/", "/../"):
		v.Problem("files: %q must not contain ..", p)
	case strings.ContainsRune(p, 0):
		v.Problem("files: %q contains a NUL byte", p)
	case bracesWithSlash.MatchString(p):
		v.Problem("files: %q has a slash within braces; write two patterns", p)
	case !driveLetter.MatchString(p) && !doublestar.ValidatePattern(p):
		v.Problem("files: %q is not a usable pattern (is a bracket or brace left open?)", p)
	}
}
