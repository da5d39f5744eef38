// Package fact reads documents into facts: which value stands under which key, what stands beside it, and within what. There is one small
// reader for each notation. They are tolerant: a document may begin and end anywhere, since it comes in pieces.
package fact

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Span is a stretch of a text, in bytes.
type Span struct{ Start, End int }

// Of gives the text.
func (s Span) Of(b []byte) []byte { return b[s.Start:s.End] }

// Empty reports whether there is nothing.
func (s Span) Empty() bool { return s.Start >= s.End }

// Member is a value under its key.
type Member struct {
	Key   Span // empty for an item of a list that stands under no key
	Value Span // without its quotes; of a text of several lines all of them
	Quote byte // around the value; 0 for none
}

// Object is what stands together: the members of a map, the attributes of an element and the elements of text within it, the settings of a
// block.
type Object struct {
	Path    []Span // the keys, names of elements or words of blocks that it stands within, the outermost first
	Members []Member
}

// Notation is one way of writing documents.
type Notation struct {
	Name  string
	Looks func(b []byte) bool                  // whether a piece of text looks like it; cheap
	Read  func(b []byte, each func(o *Object)) // gives the objects as they end; what it is given is overwritten afterwards
}

// Notations are all of them.
var Notations = []Notation{
	{"json", looksJSON, JSON},
	{"markup", looksMarkup, Markup},
	{"blocks", looksBlocks, Blocks},
	{"yaml", looksYAML, YAML},
}

// Limits: what is deeper or has more members is read all the same, without what stands around it.
const (
	maxDepth   = 64
	maxMembers = 256
	maxValue   = 64 << 10 // bytes
)

// lines gives the first lines of a text.
func lines(b []byte, most int, each func(line []byte)) {
	for n := 0; n < most && len(b) > 0; n++ {
		line, rest, _ := bytes.Cut(b, []byte("\n"))
		each(bytes.TrimRight(line, "\r"))
		b = rest
	}
}

func isWord(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '-' || c == '.' || c >= 0x80
}

// trim takes the white space from both ends of a span.
func trim(b []byte, s Span) Span {
	for s.Start < s.End && chars.IsBlank(b[s.Start]) {
		s.Start++
	}
	for s.Start < s.End && chars.IsBlank(b[s.End-1]) {
		s.End--
	}
	return s
}

// unquote takes quotes off a span.
func unquote(b []byte, s Span) (Span, byte) {
	if s.End-s.Start >= 2 && (b[s.Start] == '"' || b[s.Start] == '\'') && b[s.End-1] == b[s.Start] {
		return Span{s.Start + 1, s.End - 1}, b[s.Start]
	}
	return s, 0
}
