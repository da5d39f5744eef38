package fact

import (
	"bytes"

	"envask/internal/redact/chars"
)

// looksMarkup reports whether a text is XML or HTML.
func looksMarkup(b []byte) bool {
	tags, all := 0, 0
	lines(b, 64, func(line []byte) {
		if line = bytes.TrimSpace(line); len(line) > 0 {
			all++
			if line[0] == '<' && len(line) > 2 && (isWord(line[1]) || line[1] == '/' || line[1] == '?' || line[1] == '!') {
				tags++
			}
		}
	})
	return tags > 0 && tags*3 >= all
}

// markupLevel is an element that is open.
type markupLevel struct {
	name     Span
	text     Span
	elements bool // it has others in it
	members  []Member
}

// Markup gives the elements of XML and HTML: their attributes and the texts of the elements within them, in order. Elements that are never
// closed, as HTML has them, end with what they stand in.
func Markup(b []byte, each func(*Object)) {
	r := &markupReader{b: b, each: each, stack: []markupLevel{{}}}
	for i := 0; i < len(b); {
		next := bytes.IndexByte(b[i:], '<')
		if next < 0 {
			r.text(Span{i, len(b)})
			break
		}
		r.text(Span{i, i + next})
		i = r.tag(i + next)
	}
	for len(r.stack) > 0 {
		r.flush()
	}
}

type markupReader struct {
	heads []Span // of the table that is read
	b     []byte
	stack []markupLevel
	each  func(*Object)
	path  []Span
}

func (r *markupReader) text(s Span) {
	if s = trim(r.b, s); !s.Empty() && s.End-s.Start <= maxValue {
		r.stack[len(r.stack)-1].text = s
	}
}

// tag reads what begins with a < and gives where it ends.
func (r *markupReader) tag(at int) int {
	b := r.b
	switch {
	case bytes.HasPrefix(b[at:], []byte("<![CDATA[")):
		end := bytes.Index(b[at:], []byte("]]>"))
		if end < 0 {
			return len(b)
		}
		r.text(Span{at + 9, at + end})
		return at + end + 3
	case bytes.HasPrefix(b[at:], []byte("<!--")):
		if end := bytes.Index(b[at:], []byte("-->")); end >= 0 {
			return at + end + 3
		}
		return len(b)
	case at+1 < len(b) && b[at+1] == '/':
		end := at + 2
		for end < len(b) && (isWord(b[end]) || b[end] == ':') {
			end++
		}
		r.closeName(b[at+2 : end])
		return pastTag(b, end)
	case at+1 < len(b) && isWord(b[at+1]):
		return r.open(at + 1)
	}
	return at + 1
}

func pastTag(b []byte, at int) int {
	if n := bytes.IndexByte(b[at:], '>'); n >= 0 {
		return at + n + 1
	}
	return len(b)
}

func (r *markupReader) open(at int) int {
	b := r.b
	end := at
	for end < len(b) && (isWord(b[end]) || b[end] == ':') {
		end++
	}
	name := local(b, Span{at, end})
	top := &r.stack[len(r.stack)-1]
	top.elements = true
	level := markupLevel{name: name}
	at = attributes(b, end, func(m Member) {
		if len(level.members) < maxMembers && m.Value.End-m.Value.Start <= maxValue {
			level.members = append(level.members, m)
		}
	})
	alone := at < len(b) && b[at] == '/' || void[string(bytes.ToLower(name.Of(b)))]
	if len(r.stack) < maxDepth {
		r.stack = append(r.stack, level)
		if alone {
			r.flush()
		}
	}
	return pastTag(b, min(at, len(b)))
}

// attributes gives the attributes of a tag from a place on, and where they end.
func attributes(b []byte, at int, each func(Member)) int {
	for at < len(b) {
		for at < len(b) && chars.IsBlank(b[at]) {
			at++
		}
		if at >= len(b) || b[at] == '>' || b[at] == '/' && at+1 < len(b) && b[at+1] == '>' {
			return at
		}
		key := Span{at, at}
		for at < len(b) && !chars.IsBlank(b[at]) && b[at] != '=' && b[at] != '>' && b[at] != '/' {
			at++
		}
		if key.End = at; at >= len(b) || b[at] != '=' {
			if key.Empty() {
				at++
			}
			continue
		}
		value, quote, next := attributeValue(b, at+1)
		at = next
		each(Member{local(b, key), value, quote})
	}
	return at
}

// attributeValue reads the value behind the sign of an attribute, and gives where it ends.
func attributeValue(b []byte, at int) (value Span, quote byte, next int) {
	if at < len(b) && (b[at] == '"' || b[at] == '\'') {
		n := bytes.IndexByte(b[at+1:], b[at])
		if n < 0 {
			n = len(b) - at - 1
		}
		return Span{at + 1, at + 1 + n}, b[at], min(len(b), at+n+2)
	}
	end := at
	for end < len(b) && !chars.IsBlank(b[end]) && b[end] != '>' {
		end++
	}
	return Span{at, end}, 0, end
}

// void are the elements of HTML that are never closed.
var void = map[string]bool{"input": true, "br": true, "hr": true, "meta": true, "link": true, "img": true, "col": true}

// local gives a name without its prefix.
func local(b []byte, s Span) Span {
	if n := bytes.LastIndexByte(s.Of(b), ':'); n >= 0 && n+1 < s.End-s.Start {
		s.Start += n + 1
	}
	return s
}

// closeName closes the innermost element of that name, and all within it; a name that is not open closes nothing.
func (r *markupReader) closeName(name []byte) {
	if n := bytes.LastIndexByte(name, ':'); n >= 0 {
		name = name[n+1:]
	}
	for i := len(r.stack) - 1; i > 0; i-- {
		if bytes.EqualFold(r.stack[i].name.Of(r.b), name) {
			for len(r.stack) > i {
				r.flush()
			}
			return
		}
	}
}

// flush ends the innermost element: its text becomes a member of the one around it.
func (r *markupReader) flush() {
	top := &r.stack[len(r.stack)-1]
	if len(top.members) > 0 || !top.elements && len(top.members) > 0 {
		r.path = r.path[:0]
		for i := range r.stack {
			if n := r.stack[i].name; !n.Empty() {
				r.path = append(r.path, n)
			}
		}
		members := top.members
		if !top.text.Empty() && !top.elements { // the text beside the attributes: <entry key="password">…
			members = append(members, Member{Span{}, top.text, 0})
		}
		r.each(&Object{Path: r.path, Members: members})
	}
	r.row(top)
	text, leaf, name := top.text, !top.elements, top.name
	r.stack = r.stack[:len(r.stack)-1]
	if len(r.stack) > 0 && leaf && !text.Empty() {
		if around := &r.stack[len(r.stack)-1]; len(around.members) < maxMembers {
			around.members = append(around.members, Member{name, text, 0})
		}
	}
}

// row keeps the heads of a table, and gives each row of its cells under them.
func (r *markupReader) row(l *markupLevel) {
	if !bytes.EqualFold(l.name.Of(r.b), []byte("tr")) || len(l.members) == 0 {
		return
	}
	cell := string(bytes.ToLower(l.members[0].Key.Of(r.b)))
	switch {
	case cell == "th":
		r.heads = r.heads[:0]
		for _, m := range l.members {
			r.heads = append(r.heads, m.Value)
		}
	case cell == "td" && len(r.heads) == len(l.members):
		cells := make([]Member, len(l.members))
		for i, m := range l.members {
			cells[i] = Member{r.heads[i], m.Value, 0}
		}
		r.each(&Object{Path: r.path[:0], Members: cells})
	}
}
