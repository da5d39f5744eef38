package keyfile

import (
	"envask/internal/late"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"go.yaml.in/yaml/v4"
)

// Map is one mapping of the file. Each getter marks its key as known; Done reports the rest.
type Map struct {
	file *File
	node *yaml.Node
	read map[string]bool
}

// Value is one scalar with its place, for checks that come after reading.
type Value struct {
	Text         string
	Line, Column int
	file         *File
}

// Set says whether the value was given.
func (v Value) Set() bool { return v.file != nil }

// Problem reports a mistake at the value's place.
func (v Value) Problem(format string, args ...any) {
	if v.file != nil {
		v.file.add(v.Line, v.Column, fmt.Sprintf(format, args...))
	}
}

func (f *File) newMap(n *yaml.Node) *Map { return &Map{file: f, node: n, read: map[string]bool{}} }

func (m *Map) find(key string) *yaml.Node {
	m.read[key] = true
	for i := 0; i+1 < len(m.node.Content); i += 2 {
		if m.node.Content[i].Value == key {
			return m.node.Content[i+1]
		}
	}
	return nil
}

// Problem reports a mistake at the place of the mapping itself.
func (m *Map) Problem(format string, args ...any) {
	m.file.add(m.node.Line, m.node.Column, fmt.Sprintf(format, args...))
}

// Has says whether a key is there, and marks it as known.
func (m *Map) Has(key string) bool { return m.find(key) != nil }

// Line gives the line on which the mapping begins.
func (m *Map) Line() int { return m.node.Line }

// Keys gives the keys that are there, in the order of the file; it marks none as known.
func (m *Map) Keys() []string {
	var keys []string
	for i := 0; i+1 < len(m.node.Content); i += 2 {
		keys = append(keys, m.node.Content[i].Value)
	}
	return keys
}

// Value gives a scalar with its place.
func (m *Map) Value(key string) Value {
	n := m.find(key)
	if n == nil {
		return Value{}
	}
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		m.file.add(n.Line, n.Column, fmt.Sprintf("%s: expected a single value, found %s", key, kindName(n)))
		return Value{}
	}
	return Value{Text: n.Value, Line: n.Line, Column: n.Column, file: m.file}
}

// String gives a scalar's text, or "".
func (m *Map) String(key string) string { return m.Value(key).Text }

// Need gives a scalar that must be there and not be empty.
func (m *Map) Need(key string) Value {
	v := m.Value(key)
	switch {
	case !v.Set() && !m.Has(key):
		m.Problem("%s: is missing", key)
	case v.Set() && v.Text == "":
		v.Problem("%s: is empty", key)
	}
	return v
}

// Strings gives a list of scalars; one scalar counts as a list of one.
func (m *Map) Strings(key string) []Value {
	n := m.find(key)
	if n == nil {
		return nil
	}
	if n.Kind == yaml.ScalarNode {
		if v := m.Value(key); v.Set() {
			return []Value{v}
		}
		return nil
	}
	if n.Kind != yaml.SequenceNode {
		m.file.add(n.Line, n.Column, fmt.Sprintf("%s: expected a list, found %s", key, kindName(n)))
		return nil
	}
	var out []Value
	for _, c := range n.Content {
		if c.Kind != yaml.ScalarNode || c.Tag == "!!null" {
			m.file.add(c.Line, c.Column, fmt.Sprintf("%s: expected a single value, found %s", key, kindName(c)))
			continue
		}
		out = append(out, Value{Text: c.Value, Line: c.Line, Column: c.Column, file: m.file})
	}
	return out
}

// Bool gives a yes or no; fallback when the key is not there.
func (m *Map) Bool(key string, fallback bool) bool {
	v := m.Value(key)
	if !v.Set() {
		return fallback
	}
	switch v.Text {
	case "true", "yes":
		return true
	case "false", "no":
		return false
	}
	v.Problem("%s: expected true or false, found %q", key, v.Text)
	return fallback
}

// Duration gives a positive length of time such as 60s, 5m or 2h; fallback when the key is not there.
func (m *Map) Duration(key string, fallback time.Duration) time.Duration {
	v := m.Value(key)
	if !v.Set() {
		return fallback
	}
	d, err := time.ParseDuration(v.Text)
	if err != nil || d <= 0 {
		v.Problem("%s: expected a length of time such as 60s, 5m or 2h, found %q", key, v.Text)
		return fallback
	}
	return d
}

var sizeText = late.Pattern(`^[0-9]+(\.[0-9]+)? ?[kKMGT]?i?B?$`)

// ParseSize reads a size in bytes such as 20MiB, 5GB or 4096.
func ParseSize(text string) (int64, error) {
	if sizeText().MatchString(text) {
		if n, err := humanize.ParseBytes(text); err == nil && n > 0 && n < 1<<62 {
			return int64(n), nil
		}
	}
	return 0, fmt.Errorf("expected a size such as 20MiB or 5GB, found %q", text)
}

// Size gives a size in bytes; fallback when the key is not there.
func (m *Map) Size(key string, fallback int64) int64 {
	v := m.Value(key)
	if !v.Set() {
		return fallback
	}
	n, err := ParseSize(v.Text)
	if err != nil {
		v.Problem("%s: %v", key, err)
		return fallback
	}
	return n
}

// Int gives a whole number within limits; fallback when the key is not there.
func (m *Map) Int(key string, least, most, fallback int) int {
	v := m.Value(key)
	if !v.Set() {
		return fallback
	}
	n, err := strconv.Atoi(v.Text)
	if err != nil || n < least || n > most {
		v.Problem("%s: expected a whole number from %d to %d, found %q", key, least, most, v.Text)
		return fallback
	}
	return n
}

// Choice gives one of the allowed words; the first is the fallback.
func (m *Map) Choice(key string, allowed ...string) string {
	v := m.Value(key)
	if !v.Set() {
		return allowed[0]
	}
	if !slices.Contains(allowed, v.Text) {
		v.Problem("%s: expected %s, found %q", key, orList(allowed), v.Text)
		return allowed[0]
	}
	return v.Text
}

func orList(words []string) string {
	if len(words) == 1 {
		return words[0]
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// Maps gives a list of mappings.
func (m *Map) Maps(key string) []*Map {
	n := m.find(key)
	if n == nil {
		return nil
	}
	if n.Kind != yaml.SequenceNode {
		m.file.add(n.Line, n.Column, fmt.Sprintf("%s: expected a list, found %s", key, kindName(n)))
		return nil
	}
	var out []*Map
	for _, c := range n.Content {
		if c.Kind != yaml.MappingNode {
			m.file.add(c.Line, c.Column, fmt.Sprintf("%s: expected keys and values, found %s", key, kindName(c)))
			continue
		}
		out = append(out, m.file.newMap(c))
	}
	return out
}

// Map gives a nested mapping, or nil when the key is not there.
func (m *Map) Map(key string) *Map {
	n := m.find(key)
	if n == nil {
		return nil
	}
	if n.Kind != yaml.MappingNode {
		m.file.add(n.Line, n.Column, fmt.Sprintf("%s: expected keys and values, found %s", key, kindName(n)))
		return nil
	}
	return m.file.newMap(n)
}

// Done reports every key that nobody read, with the nearest known one.
func (m *Map) Done() {
	var known []string
	for k := range m.read {
		known = append(known, k)
	}
	sort.Strings(known)
	for i := 0; i+1 < len(m.node.Content); i += 2 {
		k := m.node.Content[i]
		if m.read[k.Value] {
			continue
		}
		if near := Nearest(k.Value, known); near != "" {
			m.file.add(k.Line, k.Column, fmt.Sprintf("unknown key %q; did you mean %q?", k.Value, near))
		} else {
			m.file.add(k.Line, k.Column, fmt.Sprintf("unknown key %q; known here: %s", k.Value, strings.Join(known, ", ")))
		}
	}
}
