package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Several values may belong to one key: in a list of JSON or TOML, and in one of YAML. They go as one, so that the document stays
// valid, and each of them is learned.

// maxList is how long such a list may be, in bytes.
const maxList = 4 << 10

// listEnd gives the end of the last text of a list whose first one is quoted and begins at a place, or 0 when it has only that one or
// holds something else.
func listEnd(b []byte, start, end int) int {
	open := start - 2
	if open < 0 || b[open] != '[' {
		return 0
	}
	quote := b[start-1]
	last := 0
	for at := end; at < len(b) && at-start < maxList; {
		if b[at] != quote {
			return 0
		}
		next := skipBlanks(b, at+1)
		if next >= len(b) {
			return 0
		}
		if b[next] == ']' {
			return last
		}
		if b[next] != ',' {
			return 0
		}
		next = skipBlanks(b, next+1)
		if next >= len(b) || b[next] == ']' {
			return last
		}
		if b[next] != quote {
			return 0
		}
		at = closing(b, next+1, quote)
		last = at
	}
	return 0
}

// isListOfWords says whether a list of texts holds nothing but words in small letters, as those that a parser has before it.
func isListOfWords(list []byte) bool {
	for _, c := range list {
		if !chars.IsLower(c) && bytes.IndexByte([]byte("\"', _\n\t"), c) < 0 {
			return false
		}
	}
	return true
}

func skipBlanks(b []byte, at int) int {
	for at < len(b) && chars.IsBlank(b[at]) {
		at++
	}
	return at
}

// itemList finds the items of a list of YAML that begins on the line behind the colon of its key (YAML 1.2.2, section 8.2.1): they are
// plain texts.
func itemList(b []byte, at int) (int, int, bool) {
	from := at + 1
	for from < len(b) && (chars.IsSpace(b[from]) || b[from] == '\r') {
		from++
	}
	if from >= len(b) || b[from] != '\n' {
		return 0, 0, false
	}
	first := chars.LineStart(b, at)
	own := len(b[first:at]) - len(bytes.TrimLeft(b[first:at], " "))
	start, end, indent := 0, 0, 0
	for p := from + 1; p < len(b) && p-at < maxList; {
		line := chars.LineFrom(b, p)
		text := bytes.TrimLeft(line, " ")
		in := len(line) - len(text)
		if !bytes.HasPrefix(text, []byte("- ")) || in < own || start > 0 && in != indent {
			break
		}
		item := bytes.TrimLeft(text[2:], " ")
		if len(item) == 0 || bytes.Contains(item, []byte(": ")) || bytes.HasSuffix(bytes.TrimRight(item, " \r"), []byte(":")) ||
			bytes.IndexByte([]byte("[{&*|>-"), item[0]) >= 0 {
			return 0, 0, false
		}
		if start == 0 {
			start, indent = p+len(line)-len(item), in
		}
		end = p + len(bytes.TrimRight(line, " \t\r"))
		p += len(line) + 1
	}
	if start > 0 && end-start > 2 && (b[start] == '"' || b[start] == '\'') && b[end-1] == b[start] {
		start, end = start+1, end-1
	}
	return start, end, start > 0 && start < end && IsValue(b[start:end])
}

// EachOf calls learn with each of the values of a list that was found as one, and says whether it was one.
func EachOf(text []byte, learn func(value []byte, at int)) bool {
	separated := bytes.IndexByte(text, '\n') > 0 && bytes.Contains(text, []byte("- ")) || bytes.IndexByte(text, ',') > 0 &&
		bytes.IndexAny(text, `"'`) > 0
	if !separated {
		return false
	}
	for at := 0; at < len(text); {
		for at < len(text) && bytes.IndexByte([]byte("\"', \t\r\n-"), text[at]) >= 0 {
			at++
		}
		end := at
		for end < len(text) && text[end] != '"' && text[end] != '\'' && text[end] != '\n' && text[end] != '\r' {
			end++
		}
		if end > at {
			learn(text[at:end], at)
		}
		at = end + 1
	}
	return true
}

// objectEnd gives the end of the JSON object that begins at a place, or 0 when it is longer than maxList.
func objectEnd(b []byte, open int) int {
	depth := 0
	for at := open; at < len(b) && at-open < maxList; at++ {
		switch b[at] {
		case '"':
			if at = closing(b, at+1, '"'); at < len(b) && b[at] != '"' {
				return 0
			}
		case '{':
			depth++
		case '}':
			if depth--; depth == 0 {
				return at + 1
			}
		}
	}
	return 0
}

// TextsOf calls learn with each text that is a value in a JSON object.
func TextsOf(object []byte, learn func(value []byte, at int)) {
	for at := 0; at < len(object); at++ {
		if object[at] != '"' {
			continue
		}
		end := closing(object, at+1, '"')
		if before := bytes.TrimRight(object[:at], " \t\r\n"); len(before) > 0 && before[len(before)-1] == ':' {
			learn(object[at+1:min(end, len(object))], at+1)
		}
		at = end
	}
}
