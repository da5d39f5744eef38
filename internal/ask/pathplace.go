package ask

import (
	"fmt"
	"path"
	"strings"

	"envask/internal/keyfile"
	"envask/internal/late"
)

// pathField is a placeholder of a pattern: a value that is read from the system, its name, or a fact that the systems file gives.
var pathField = late.Pattern(`\{(value\.[A-Za-z0-9_-]+|system(?:\.[A-Za-z0-9_-]+)?)\}`)

// FillPath replaces the placeholders of a pattern; value gives the text for one. What stands for a pattern in the text does not.
func FillPath(pattern string, value func(name string) (string, error)) (string, error) {
	var failure error
	out := pathField().ReplaceAllStringFunc(pattern, func(p string) string {
		text, err := value(p[1 : len(p)-1])
		if err != nil && failure == nil {
			failure = err
		}
		return literal.Replace(text)
	})
	return out, failure
}

// literal takes the meaning out of what patterns read otherwise.
var literal = strings.NewReplacer(`*`, `\*`, `?`, `\?`, `[`, `\[`, `]`, `\]`, `{`, `\{`, `}`, `\}`)

// PathFields lists the placeholders of a pattern.
func PathFields(pattern string) (out []string) {
	for _, m := range pathField().FindAllStringSubmatch(pattern, -1) {
		out = append(out, m[1])
	}
	return out
}

// Filled reports whether items have placeholders that differ by system.
func (it *Item) Filled() bool {
	for _, p := range patternsOf(it.Spec) {
		if pathField().MatchString(p) {
			return true
		}
	}
	return false
}

// patternsOf gives the patterns of files that an item names.
func patternsOf(s Spec) []string {
	switch s := s.(type) {
	case Files:
		return s.Patterns
	case Run:
		return s.Makes
	}
	return nil
}

// WithPatterns gives an item whose patterns are others.
func (it *Item) WithPatterns(patterns []string) *Item {
	out := *it
	switch s := it.Spec.(type) {
	case Files:
		s.Patterns = patterns
		out.Spec = s
	case Run:
		s.Makes = patterns
		out.Spec = s
	}
	return &out
}

// PatternsOf gives the patterns of files that an item names.
func (it *Item) PatternsOf() []string { return patternsOf(it.Spec) }

// Value gives the value with an id, or nil.
func (a *Ask) Value(id string) *Value {
	for i := range a.Values {
		if a.Values[i].ID == id {
			return &a.Values[i]
		}
	}
	return nil
}

// checkPaths reports placeholders of patterns that cannot be filled, and values without bounds that would become paths.
func (a *Ask) checkPaths(im *keyfile.Map) {
	for _, key := range []string{"files", "makes", "run"} {
		for _, v := range im.Strings(key) {
			fields := PathFields(v.Text)
			for _, f := range fields {
				id, ok := strings.CutPrefix(f, "value.")
				if !ok {
					continue
				}
				switch value := a.Value(id); {
				case value == nil:
					v.Problem("{%s}: the ask has no value %q", f, id)
				case key != "run" && len(value.Within) == 0:
					v.Problem("{%s}: give the value within:, the folders in which it may lead", f)
				}
			}
		}
	}
}

// readWithin reads the folders in which a value may lead.
func readWithin(m *keyfile.Map) (out []string) {
	for _, v := range m.Strings("within") {
		if !strings.HasPrefix(v.Text, "/") && !windowsPath().MatchString(v.Text) || v.Text == "/" ||
			strings.ContainsAny(v.Text, "*?[]{}\x00") ||
			strings.HasPrefix(v.Text, "/") && path.Clean(v.Text) != strings.TrimSuffix(v.Text, "/") {
			v.Problem("within: expected whole paths of folders, such as /var/log, found %q", v.Text)
			continue
		}
		out = append(out, v.Text)
	}
	return out
}

// used says for the approval sheet where a value may lead.
func (v Value) used() string {
	if len(v.Within) == 0 {
		return ""
	}
	return fmt.Sprintf("; as a path only within %s", strings.Join(v.Within, ", "))
}
