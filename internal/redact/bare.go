package redact

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// What stands in the place of values without quotes, in YAML, TOML and JSON.

// asBare gives the replacement of a secret that is a value without quotes in YAML or TOML, and how far it goes: what begins
// with a bracket would be a list there, and a number stays a number.
func (e *Engine) asBare(b []byte, f *finding, put string) (end int, _ string) {
	before := b[chars.LineStart(b, f.start):f.start]
	trimmed := bytes.TrimRight(before, " \t")
	if len(trimmed) == 0 || bytes.Count(before, []byte(`"`))%2 == 1 || bytes.Count(before, []byte("'"))%2 == 1 {
		return f.end, put
	}
	switch last := trimmed[len(trimmed)-1]; {
	case e.bare == yamlly && (last == ':' || last == '-') && len(before) > len(trimmed):
	case e.bare == yamlly && (last == '[' || last == ',' || last == '{') && inFlow(trimmed):
	case e.bare == tomlly && last == '=':
	default:
		return f.end, put
	}
	if chars.IsAllDigits(b[f.start:f.end]) {
		return f.end, "0"
	}
	// The value may go on behind what was found: all of it is quoted then, without what is behind.
	rest := chars.LineFrom(b, f.end)
	if n := bytes.Index(rest, []byte(" #")); n >= 0 {
		rest = rest[:n]
	}
	if n := bytes.IndexAny(rest, ",}]"); n >= 0 {
		rest = rest[:n]
	}
	return f.end + len(bytes.TrimRight(rest, " \t")), `"` + put + `"`
}

// inFlow says whether a line is within a list or mapping in brackets at its end.
func inFlow(line []byte) bool {
	return bytes.Count(line, []byte("["))+bytes.Count(line, []byte("{")) > bytes.Count(line, []byte("]"))+bytes.Count(line, []byte("}"))
}

// maxBehind is how far the key of a value of JSON is looked for, in bytes, and maxItems behind how many others of its list.
const (
	maxBehind = 256
	maxItems  = 16
)

// bareJSON says whether a span is the bare value of a quoted key, or one of a list behind such a key or behind another text, as numbers
// are in JSON: what stands there instead must be quoted, or the document breaks.
func bareJSON(b []byte, start, end int) bool {
	before := trimBefore(b[max(0, start-maxBehind):start])
	if len(before) == 0 {
		return false
	}
	listed := before[len(before)-1] != ':'
	if listed && !find.IsJSONNumber(b[start:end]) || !behindJSON(before) {
		return false
	}
	after := bytes.TrimLeft(b[end:min(len(b), end+16)], " \t\r") // the next line may be in the next block
	return len(after) == 0 || after[0] == ',' || after[0] == '}' || after[0] == ']' || after[0] == '\n'
}

// behindJSON says whether what ends behind a quoted key and its colon, or within a list behind one, ends so as JSON does.
func behindJSON(before []byte) bool {
	for range maxItems {
		last := before[len(before)-1]
		before = trimBefore(before[:len(before)-1])
		if len(before) == 0 {
			return false
		}
		switch last {
		case ':':
			return endsText(before)
		case '[':
			continue
		case ',':
			if endsText(before) {
				return true
			}
			item := len(before)
			for item > 0 && (chars.IsWord(before[item-1]) || bytes.IndexByte([]byte("+-."), before[item-1]) >= 0) {
				item--
			}
			if !find.IsJSONNumber(before[item:]) {
				return false
			}
			if before = trimBefore(before[:item]); len(before) == 0 {
				return false
			}
		default:
			return false
		}
	}
	return false
}

// trimBefore gives what stands before blanks and the ends of lines.
func trimBefore(b []byte) []byte { return bytes.TrimRight(b, " \t\r\n") }

// endsText says whether something ends with the quote of a text that is not written within another one.
func endsText(b []byte) bool {
	return b[len(b)-1] == '"' && find.QuoteDepth(b, len(b)-1, 0) == 0
}
