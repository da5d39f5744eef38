package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// objectAround gives the key of the JSON object that a place is in.
func objectAround(b []byte, at int) []byte {
	depth := 0
	for i := at - 1; i >= 0 && at-i < 2*chars.MaxPair; i-- {
		switch b[i] {
		case '}', ']':
			depth++
		case '[':
			depth--
		case '{':
			if depth--; depth >= 0 {
				continue
			}
			if before := bytes.TrimRight(b[:i], " \t\r\n"); len(before) > 0 && (before[len(before)-1] == ',' ||
				before[len(before)-1] == '[') {
				i, depth = len(before), 0 // one of a list, that the key names
				continue
			}
			return keyBeforeColon(b, i)
		}
		if depth < 0 {
			return keyBeforeColon(b, i)
		}
	}
	return nil
}

// keyBeforeColon gives the key in quotes whose value begins at a place.
func keyBeforeColon(b []byte, at int) []byte {
	i := at - 1
	for i >= 0 && (chars.IsBlank(b[i]) || b[i] == ':') {
		i--
	}
	if i < 1 || b[i] != '"' || i+1 == at {
		return nil
	}
	start := i
	for start > 0 && i-start < chars.MaxKey && b[start-1] != '"' {
		start--
	}
	return b[start:i]
}

// elementAround gives the name of the XML element that a start tag is in.
func elementAround(b []byte, tag int) []byte {
	depth := 0
	for i := tag - 1; i >= 0 && tag-i < 2*chars.MaxPair; i-- {
		if b[i] != '<' || i+1 >= tag || !chars.IsWord(b[i+1]) && bytes.IndexByte([]byte("/!?"), b[i+1]) < 0 {
			continue // a sign that points somewhere begins no tag
		}
		end := i + 1 + bytes.IndexByte(b[i+1:tag], '>')
		switch {
		case end == i || b[i+1] == '!' || b[i+1] == '?' || b[end-1] == '/':
		case b[i+1] == '/':
			depth++
		case depth > 0:
			depth--
		default:
			s, e := elementName(b, end)
			return b[s:e]
		}
	}
	return nil
}

// mappingAround gives the key of the YAML mapping that a key is in: the one before it that stands less far in.
func mappingAround(b []byte, key int) []byte {
	first := chars.LineStart(b, key)
	if first == key || len(bytes.Trim(b[first:key], " -")) > 0 {
		return nil
	}
	own := key - first
	for n := 0; first > 0 && n < 12; n++ {
		end := first - 1
		first = chars.LineStart(b, end)
		line := bytes.TrimRight(b[first:end], " \r")
		in := len(line) - len(bytes.TrimLeft(line, " -"))
		if len(line) == in || in >= own {
			continue
		}
		if name, ok := bytes.CutSuffix(line[in:], []byte(":")); ok {
			return name
		}
		return nil
	}
	return nil
}
