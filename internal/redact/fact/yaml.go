package fact

import "bytes"

// looksYAML reports whether most lines of a text are those of YAML: keys with a colon, items of lists, what stands below them.
func looksYAML(b []byte) bool {
	good, all, keys := 0, 0, 0
	below := -1 // how far in the key is whose value may stand below
	lines(b, 64, func(line []byte) {
		text := bytes.TrimLeft(line, " ")
		if len(text) == 0 || text[0] == '#' || bytes.Equal(line, []byte("---")) {
			return
		}
		all++
		in := len(line) - len(text)
		key, rest, ok := yamlKey(text)
		switch {
		case ok && !key.Empty():
			good++
			keys++
			below = -1
			if len(bytes.TrimSpace(rest)) == 0 || rest[0] == '|' || rest[0] == '>' {
				below = in
			}
		case below >= 0 && in > below, text[0] == '-' && len(text) > 1 && text[1] == ' ', text[0] == '?' || text[0] == ':':
			good++
		}
	})
	return keys > 0 && good*10 >= all*8 || all > 0 && good == all && bytes.HasPrefix(bytes.TrimLeft(b, " \n"), []byte("? "))
}

// yamlKey reads the key at the beginning of a line of which the indentation is taken off; rest is what stands behind the colon. The span is
// relative to the line.
func yamlKey(line []byte) (key Span, rest []byte, ok bool) {
	end := 0
	if line[0] == '"' || line[0] == '\'' {
		n := bytes.IndexByte(line[1:], line[0])
		if n < 0 {
			return key, nil, false
		}
		key, end = Span{1, n + 1}, n+2
	} else {
		for end < len(line) && line[end] != ':' && (isWord(line[end]) || bytes.IndexByte([]byte(" /@$()+~"), line[end]) >= 0) {
			end++
		}
		key = trim(line, Span{0, end})
	}
	for end < len(line) && line[end] == ' ' {
		end++
	}
	if end >= len(line) || line[end] != ':' || end+1 < len(line) && line[end+1] != ' ' || key.Empty() || key.End-key.Start > 128 {
		return key, nil, false
	}
	return key, bytes.TrimLeft(line[end+1:], " "), true
}

// yamlLevel is a map or list that is open.
type yamlLevel struct {
	in      int  // how far its keys are in
	key     Span // that it stands under
	members []Member
}

type yamlReader struct {
	b     []byte
	stack []yamlLevel
	each  func(*Object)
	path  []Span
	key   Span // the key that waits for a value below
	keyIn int
	open  bool
}

// YAML gives the maps of a text of YAML 1.2 in block style: also values below their keys, block scalars, items of lists, anchors and tags.
// Maps in flow style are those of JSON.
func YAML(b []byte, each func(*Object)) {
	r := &yamlReader{b: b, each: each, stack: []yamlLevel{{in: -1}}}
	for at := 0; at < len(b); {
		end := at + lineLen(b[at:])
		at = r.line(at, end)
	}
	for len(r.stack) > 0 {
		r.pop()
	}
}

// lineLen gives the length of the first line, without its end.
func lineLen(b []byte) int {
	if n := bytes.IndexByte(b, '\n'); n >= 0 {
		return n
	}
	return len(b)
}

// line reads one line, and gives where the next one begins.
func (r *yamlReader) line(at, end int) int {
	b := r.b
	first := at
	for first < end && b[first] == ' ' {
		first++
	}
	text := bytes.TrimRight(b[first:end], " \t\r")
	in := first - at
	if len(text) == 0 || text[0] == '#' {
		return end + 1
	}
	if bytes.HasPrefix(text, []byte("---")) || bytes.HasPrefix(text, []byte("...")) {
		for len(r.stack) > 1 {
			r.pop()
		}
		r.open = false
		return end + 1
	}
	if first, in, text = r.items(first, in, text); text == nil {
		return end + 1
	}
	if (text[0] == '?' || text[0] == ':') && len(text) > 2 && text[1] == ' ' {
		r.apart(Span{first, first + len(text)}, in)
		return end + 1
	}
	key, rest, ok := yamlKey(text)
	if !ok {
		if r.open && in > r.keyIn { // the value below its key
			r.add(r.key, Span{first, first + len(text)})
		}
		r.open = false
		return end + 1
	}
	r.level(in)
	k := Span{first + key.Start, first + key.End}
	r.key, r.keyIn, r.open = k, in, false
	rest = withoutProperties(bytes.TrimRight(rest, " \t\r"))
	switch {
	case len(rest) == 0:
		r.open = true
	case (rest[0] == '|' || rest[0] == '>') && len(rest) <= 3:
		return r.block(k, in, end+1)
	default:
		start := first + len(text) - len(rest)
		r.add(k, Span{start, start + len(rest)})
	}
	return end + 1
}

// items begins the items of lists that a line opens, and gives what stands behind their dashes: nil where that is all of it.
func (r *yamlReader) items(first, in int, text []byte) (int, int, []byte) {
	for text[0] == '-' && (len(text) == 1 || text[1] == ' ') { // an item, which may be a map itself
		r.item(in)
		skip := 1
		for skip < len(text) && text[skip] == ' ' {
			skip++
		}
		if skip >= len(text) {
			return first, in, nil
		}
		first, in, text = first+skip, in+skip, text[skip:]
		if _, _, isKey := yamlKey(text); !isKey {
			r.add(r.top().key, trim(r.b, Span{first, first + len(text)}))
			return first, in, nil
		}
	}
	return first, in, text
}

// apart reads a key or its value on a line of its own: ? key, and : value.
func (r *yamlReader) apart(s Span, in int) {
	key := r.b[s.Start] == '?'
	s = trim(r.b, Span{s.Start + 2, s.End})
	if key {
		r.key, r.keyIn, r.open = s, in, true
	} else if r.open {
		r.add(r.key, s)
		r.open = false
	}
}

// withoutProperties takes an anchor and a tag off a value.
func withoutProperties(rest []byte) []byte {
	for len(rest) > 0 && (rest[0] == '&' || rest[0] == '!') {
		n := bytes.IndexByte(rest, ' ')
		if n < 0 {
			return nil
		}
		rest = bytes.TrimLeft(rest[n:], " ")
	}
	return rest
}

// block reads the lines of a block scalar, which are further in than their key.
func (r *yamlReader) block(key Span, in, at int) int {
	b := r.b
	value := Span{at, at}
	for at < len(b) {
		end := at + lineLen(b[at:])
		first := at
		for first < end && b[first] == ' ' {
			first++
		}
		if first < end && first-at <= in {
			break
		}
		if first < end {
			value.End = end
		}
		at = end + 1
	}
	if value = trim(b, value); !value.Empty() && value.End-value.Start <= maxValue {
		r.put(Member{key, value, 0})
	}
	return at
}

func (r *yamlReader) top() *yamlLevel { return &r.stack[len(r.stack)-1] }

// level makes the map whose keys are so far in the innermost one.
func (r *yamlReader) level(in int) {
	for len(r.stack) > 1 && r.top().in > in {
		r.pop()
	}
	if r.top().in < in && len(r.stack) < maxDepth {
		key := Span{}
		if r.open {
			key = r.key
		}
		if key.Empty() && len(r.stack) > 1 {
			key = r.top().key
		}
		r.push(in, key)
	}
}

// push opens a map or list, with the room for members that an earlier one had.
func (r *yamlReader) push(in int, key Span) {
	if len(r.stack) < cap(r.stack) {
		r.stack = r.stack[:len(r.stack)+1]
		top := r.top()
		*top = yamlLevel{in: in, key: key, members: top.members[:0]}
		return
	}
	r.stack = append(r.stack, yamlLevel{in: in, key: key})
}

// item begins an item of a list: what was read of the one before it ends.
func (r *yamlReader) item(in int) {
	for len(r.stack) > 1 && r.top().in > in {
		r.pop()
	}
	key := Span{}
	if r.open && r.keyIn <= in {
		key = r.key
	} else if r.top().in == in {
		key = r.top().key
	}
	if r.top().in < in || r.open {
		if len(r.stack) < maxDepth {
			r.push(in, key)
		}
	}
	r.open = false
}

// add adds a scalar of one line: without quotes and remarks.
func (r *yamlReader) add(key, s Span) {
	b := r.b
	if s.Empty() || b[s.Start] == '{' || b[s.Start] == '[' || b[s.Start] == '*' {
		return
	}
	if q := b[s.Start]; q == '"' || q == '\'' {
		for end := s.Start + 1; end < s.End; end++ {
			if b[end] == '\\' && q == '"' {
				end++
			} else if b[end] == q {
				r.put(Member{key, Span{s.Start + 1, end}, q})
				return
			}
		}
	}
	if n := bytes.Index(s.Of(b), []byte(" #")); n >= 0 {
		s = trim(b, Span{s.Start, s.Start + n})
	}
	r.put(Member{key, s, 0})
}

func (r *yamlReader) put(m Member) {
	if top := r.top(); len(top.members) < maxMembers {
		top.members = append(top.members, m)
	}
}

func (r *yamlReader) pop() {
	top := r.top()
	if len(top.members) > 0 {
		r.path = r.path[:0]
		for i := range r.stack {
			if k := r.stack[i].key; !k.Empty() && (len(r.path) == 0 || r.path[len(r.path)-1] != k) {
				r.path = append(r.path, k)
			}
		}
		r.each(&Object{Path: r.path, Members: top.members})
	}
	r.stack = r.stack[:len(r.stack)-1]
}
