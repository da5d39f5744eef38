package keyfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"
	"unicode/utf8"

	"envask/internal/durable"

	"github.com/agext/levenshtein"
	"go.yaml.in/yaml/v4"
)

// MaxSize is the largest file that is read, in bytes. Files that people write are small; a larger one is a mistake.
const MaxSize = 2 << 20

// maxNodes bounds the number of YAML nodes that are looked at.
const maxNodes = 200_000

// Problem is one mistake. Line and Column count from 1; 0 means the whole file.
type Problem struct {
	File         string `json:"file"`
	Line, Column int
	Text         string `json:"text"`
}

func (p Problem) String() string {
	if p.Line == 0 {
		return p.File + ": " + p.Text
	}
	return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Text)
}

// Problems is every mistake of one file, in the order of the file. It is an error.
type Problems []Problem

func (p Problems) Error() string {
	lines := make([]string, len(p))
	for i := range p {
		lines[i] = p[i].String()
	}
	return strings.Join(lines, "\n")
}

// File is one file while it is being read.
type File struct {
	Name     string
	Data     []byte
	problems Problems
}

// ReadFile reads a file from disk, within MaxSize.
func ReadFile(name string) ([]byte, error) {
	f, err := durable.OpenRegular(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, MaxSize+1))
	if err != nil {
		return nil, err
	}
	if len(data) > MaxSize {
		return nil, fmt.Errorf("larger than %d MiB: file too large for a configuration file", MaxSize>>20)
	}
	return data, nil
}

// Parse reads the YAML of a file whose top level must be a mapping. The returned map is usable (and empty) also
// when the file is broken; Err tells.
func Parse(name string, data []byte) (*File, *Map) {
	f := &File{Name: name, Data: data}
	empty := &Map{file: f, node: &yaml.Node{Kind: yaml.MappingNode, Line: 1, Column: 1}, read: map[string]bool{}}
	if !utf8.Valid(data) {
		line := 1 + bytes.Count(data[:firstInvalid(data)], []byte("\n"))
		f.add(line, 1, "not valid UTF-8")
		return f, empty
	}
	dec := yaml.NewDecoder(bytes.NewReader(data))
	var doc yaml.Node
	if err := dec.Decode(&doc); err != nil {
		if errors.Is(err, io.EOF) {
			f.add(1, 1, "the file is empty")
		} else {
			f.addYAML(err)
		}
		return f, empty
	}
	var second yaml.Node
	if err := dec.Decode(&second); err == nil {
		f.add(second.Line, 1, "a second YAML document; one file holds one")
		return f, empty
	} else if !errors.Is(err, io.EOF) {
		f.addYAML(err)
		return f, empty
	}
	count := 0
	if !f.plain(&doc, &count) {
		return f, empty
	}
	top := doc.Content[0]
	if top.Kind != yaml.MappingNode {
		f.add(top.Line, top.Column, "expected keys and values at the top level, found "+kindName(top))
		return f, empty
	}
	return f, f.newMap(top)
}

func firstInvalid(data []byte) int {
	for i := 0; i < len(data); {
		r, n := utf8.DecodeRune(data[i:])
		if r == utf8.RuneError && n <= 1 {
			return i
		}
		i += n
	}
	return len(data)
}

// addYAML turns the parser's error into a problem with its place.
func (f *File) addYAML(err error) {
	var at *yaml.LoadError
	if errors.As(err, &at) && at.Mark.Line > 0 {
		f.add(at.Mark.Line, max(at.Mark.Column, 1), "not valid YAML: "+at.Message)
		return
	}
	f.add(1, 1, "not valid YAML: "+strings.TrimPrefix(err.Error(), "yaml: "))
}

// plain refuses what makes a file hard to read or large to expand: anchors, aliases, repeated keys.
func (f *File) plain(n *yaml.Node, count *int) bool {
	ok := true
	if *count++; *count > maxNodes {
		f.add(n.Line, n.Column, "too many values in one file")
		return false
	}
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		f.add(n.Line, n.Column, "anchors and aliases are not used here; write the value out")
		return false
	}
	if n.Kind == yaml.MappingNode {
		seen := map[string]int{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			k := n.Content[i]
			if k.Kind != yaml.ScalarNode {
				f.add(k.Line, k.Column, "a key must be a plain word")
				ok = false
			} else if first, twice := seen[k.Value]; twice {
				f.add(k.Line, k.Column, fmt.Sprintf("key %q was given before, on line %d", k.Value, first))
				ok = false
			} else {
				seen[k.Value] = k.Line
			}
		}
	}
	for _, c := range n.Content {
		if !f.plain(c, count) {
			ok = false
		}
		if *count > maxNodes {
			return false
		}
	}
	return ok
}

func (f *File) add(line, column int, text string) {
	f.problems = append(f.problems, Problem{File: f.Name, Line: line, Column: column, Text: text})
}

// Err gives all mistakes found so far in the order of the file, or nil.
func (f *File) Err() error {
	if len(f.problems) == 0 {
		return nil
	}
	sort.SliceStable(f.problems, func(i, j int) bool {
		a, b := f.problems[i], f.problems[j]
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	return f.problems
}

func kindName(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "keys and values"
	case yaml.SequenceNode:
		return "a list"
	case yaml.ScalarNode:
		if n.Tag == "!!null" {
			return "nothing"
		}
		return "a single value"
	}
	return "something else"
}

// Nearest gives the known key that looks most like an unknown one, or "".
func Nearest(unknown string, known []string) string {
	best, bestDistance := "", 4
	for _, k := range known {
		d := levenshtein.Distance(strings.ToLower(unknown), k, nil)
		if d < bestDistance && d <= (len(unknown)+1)/2 {
			best, bestDistance = k, d
		}
	}
	return best
}

// DidYouMean gives ", did you mean X?" when a known word looks much like an unknown one, or "".
func DidYouMean(unknown string, known []string) string {
	if near := Nearest(unknown, known); near != "" {
		return ", did you mean " + near + "?"
	}
	return ""
}
