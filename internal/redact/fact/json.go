package fact

import (
	"bytes"

	"envask/internal/redact/chars"
)

// looksJSON reports whether a text is JSON (RFC 8259) over several lines, or a short one.
func looksJSON(b []byte) bool {
	short := len(b) <= 4<<10
	quoted, opens, all := 0, 0, 0
	lines(b, 64, func(line []byte) {
		line = bytes.TrimLeft(line, " \t")
		if len(line) == 0 {
			return
		}
		all++
		switch line[0] {
		case '"':
			if bytes.IndexByte(line, ':') > 0 || len(line) > 1 && (line[len(line)-1] == '"' || line[len(line)-1] == ',') {
				quoted++
			}
		case '{', '[':
			if len(line) <= 2 || short {
				opens++
			}
		case '}', ']':
			opens++
		case ':':
			if quoted > 0 {
				opens++
			}
		}
	})
	return opens > 0 && (quoted+opens)*2 >= all || quoted*2 > all
}

// jsonReader reads JSON from any place on.
type jsonReader struct {
	b     []byte
	stack []jsonLevel
	each  func(*Object)
	path  []Span
}

type jsonLevel struct {
	list    bool
	key     Span // that it stands under
	pending Span // the key that waits for its value
	colon   bool
	members []Member
}

// JSON gives the objects of a text of JSON, whole or cut off.
func JSON(b []byte, each func(*Object)) {
	r := &jsonReader{b: b, each: each, stack: []jsonLevel{{}}}
	for i := 0; i < len(b); i++ {
		switch c := b[i]; c {
		case '"':
			end := stringEnd(b, i+1)
			r.value(Span{i + 1, end}, '"')
			i = end
		case ':':
			top := r.top()
			top.colon = !top.pending.Empty()
		case ',':
			r.top().pending = Span{}
		case '{', '[':
			r.open(c == '[')
		case '}', ']':
			r.close()
		case ' ', '\t', '\n', '\r':
		default:
			end := i
			for end < len(b) && !chars.IsBlank(b[end]) && bytes.IndexByte([]byte(`,:{}[]"`), b[end]) < 0 {
				end++
			}
			r.value(Span{i, end}, 0)
			i = end - 1
		}
	}
	for len(r.stack) > 1 {
		r.close()
	}
	r.flush(&r.stack[0])
}

// stringEnd gives where a string ends, at its quote, or at the end of the text.
func stringEnd(b []byte, at int) int {
	for at < len(b) && b[at] != '"' {
		if b[at] == '\\' {
			at++
		}
		at++
	}
	return min(at, len(b))
}

func (r *jsonReader) top() *jsonLevel { return &r.stack[len(r.stack)-1] }

func (r *jsonReader) value(s Span, quote byte) {
	top := r.top()
	switch {
	case top.list && len(top.members) < maxMembers:
		top.members = append(top.members, Member{top.key, s, quote})
	case top.colon:
		if len(top.members) < maxMembers {
			top.members = append(top.members, Member{top.pending, s, quote})
		}
		top.pending, top.colon = Span{}, false
	case quote != 0:
		top.pending = s
	}
}

func (r *jsonReader) open(list bool) {
	top := r.top()
	key := top.pending
	if !top.colon {
		key = Span{}
		if top.list {
			key = top.key
		}
	}
	top.pending, top.colon = Span{}, false
	if len(r.stack) == maxDepth {
		r.flush(top)
		return
	}
	if len(r.stack) < cap(r.stack) { // with the room for members that an earlier one had
		r.stack = r.stack[:len(r.stack)+1]
		top = r.top()
		*top = jsonLevel{list: list, key: key, members: top.members[:0]}
		return
	}
	r.stack = append(r.stack, jsonLevel{list: list, key: key})
}

func (r *jsonReader) close() {
	if len(r.stack) == 1 { // of something that was opened before the text begins
		r.flush(r.top())
		return
	}
	r.flush(r.top())
	r.stack = r.stack[:len(r.stack)-1]
}

func (r *jsonReader) flush(l *jsonLevel) {
	if len(l.members) > 0 {
		r.path = r.path[:0]
		for i := range r.stack {
			if k := r.stack[i].key; !k.Empty() {
				r.path = append(r.path, k)
			}
		}
		r.each(&Object{Path: r.path, Members: l.members})
	}
	l.members, l.pending, l.colon = l.members[:0], Span{}, false
}
