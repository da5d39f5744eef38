package redact

import (
	"bytes"

	"envask/internal/redact/chars"
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
