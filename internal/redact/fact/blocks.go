package fact

import (
	"bytes"

	"envask/internal/redact/chars"
)

// looksBlocks reports whether a text has blocks of settings in braces, as HCL, nginx and many others have: a line of words that ends with
// {.
func looksBlocks(b []byte) bool {
	opens, sets, all := 0, 0, 0
	lines(b, 64, func(line []byte) {
		line = bytes.TrimSpace(line)
		switch {
		case len(line) == 0 || line[0] == '#':
			return
		case line[len(line)-1] == '{' && isWord(line[0]) && bytes.IndexByte(line, '(') < 0:
			opens++
		case bytes.Contains(line, []byte(" = ")), line[0] == '}', line[len(line)-1] == ';' && isWord(line[0]):
			sets++
		}
		all++
	})
	return opens > 0 && (opens+sets)*10 >= all*7
}

// Blocks gives the blocks of settings of a text: WORD "NAME" { key = value }, also with keys and values parted by blanks and ended by ;.
func Blocks(b []byte, each func(*Object)) {
	type level struct {
		words   []Span
		members []Member
	}
	stack := []level{{}}
	var path []Span
	flush := func() {
		top := &stack[len(stack)-1]
		if len(top.members) > 0 {
			path = path[:0]
			for _, l := range stack {
				path = append(path, l.words...)
			}
			each(&Object{Path: path, Members: top.members})
		}
		top.members = nil
	}
	for at := 0; at < len(b); {
		end := at + lineLen(b[at:])
		s := trim(b, Span{at, end})
		at = end + 1
		text := s.Of(b)
		switch {
		case len(text) == 0 || text[0] == '#':
		case text[len(text)-1] == '{':
			if len(stack) < maxDepth {
				stack = append(stack, level{words: wordsOf(b, Span{s.Start, s.End - 1})})
			}
		case text[0] == '}':
			flush()
			if len(stack) > 1 {
				stack = stack[:len(stack)-1]
			}
		default:
			if m, ok := setting(b, s); ok {
				if top := &stack[len(stack)-1]; len(top.members) < maxMembers {
					top.members = append(top.members, m)
				}
			}
		}
	}
	for len(stack) > 0 {
		flush()
		stack = stack[:len(stack)-1]
	}
}

// wordsOf gives the words of the head of a block, without quotes.
func wordsOf(b []byte, s Span) (out []Span) {
	for at := s.Start; at < s.End && len(out) < 4; {
		for at < s.End && (chars.IsBlank(b[at]) || b[at] == '=' || b[at] == ':') {
			at++
		}
		start := at
		for at < s.End && !chars.IsBlank(b[at]) {
			at++
		}
		if w, _ := unquote(b, Span{start, at}); !w.Empty() {
			out = append(out, w)
		}
	}
	return out
}

// setting reads key = value, key: value, and key value;.
func setting(b []byte, s Span) (Member, bool) {
	at := s.Start
	for at < s.End && isWord(b[at]) {
		at++
	}
	key := Span{s.Start, at}
	for at < s.End && (b[at] == ' ' || b[at] == '\t') {
		at++
	}
	sign := at < s.End && (b[at] == '=' || b[at] == ':')
	if key.Empty() || !sign && (at == key.End || b[s.End-1] != ';') {
		return Member{}, false
	}
	if sign {
		at++
	}
	value := trim(b, Span{at, s.End})
	for !value.Empty() && (b[value.End-1] == ';' || b[value.End-1] == ',') {
		value.End--
	}
	inner, quote := unquote(b, trim(b, value))
	return Member{key, inner, quote}, !inner.Empty()
}
