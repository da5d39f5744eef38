// Package mutate rewrites texts as they come to stand elsewhere: in the line of a log, within a text of JSON, XML or YAML, coloured,
// quoted, encoded, in a difference between files. What redaction finds in the plain text it has to find in all of them. Tests put
// labelled lines through it, and the proof of each pack its made-up values.
package mutate

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"html"
	"net/url"
	"strings"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/late"
)

// Mutation is one way of rewriting.
type Mutation struct {
	Name string
	// Write rewrites a text of one line or several, without the last line end; false when it cannot be written so.
	Write func(text string) (string, bool)
	// Read gives what a reader of the rewritten text sees, so that a value can be looked for in it; nil where it stands as it is.
	Read func(out string) string
}

// Holds reports whether a value can still be read in what came of a rewritten text.
func (m Mutation) Holds(out, value string) bool {
	if strings.Contains(out, value) {
		return true
	}
	return m.Read != nil && strings.Contains(m.Read(out), value)
}

// Codes reports whether a text is written in a code that programs read and people do not.
func (m Mutation) Codes() bool { return strings.HasPrefix(m.Name, "base64") }

// All are the ways, in the order in which they are reported.
var All = []Mutation{
	{"as it is", same, nil},
	{"indented", eachLine("    ", ""), nil},
	{"behind tabs", eachLine("\t\t", ""), nil},
	{"CRLF", lines(func(l string) string { return l + "\r" }), nil},
	{"last line without an end", same, nil},
	{"log line", oneLine("2026-03-14T06:12:00.123Z INFO  [worker-3] conf.Loader - %s"), nil},
	{"syslog", oneLine("Mar 14 06:12:00 pier-1 gate[211]: %s"), nil},
	{"syslog with structured data", oneLine(`<34>1 2026-03-14T06:12:00Z pier-1 gate 211 - [meta seq="7"] %s`), nil},
	{"log line in brackets", oneLine("[14/Mar/2026:06:12:00 +0000] [debug] [pid 211] %s"), nil},
	{"container log", eachLine("2026-03-14T06:12:00.123456789Z stdout F ", ""), nil},
	{"journal", oneLine("MESSAGE=%s"), nil},
	{"message of logfmt", quoted(`time=2026-03-14T06:12:00Z level=info msg="%s" lane=7`), unescaped},
	{"text of JSON", quoted(`{"time":"2026-03-14T06:12:00Z","level":"info","message":"%s","lane":7}`), unescaped},
	{"text of JSON over lines", quoted("{\n  \"level\": \"info\",\n  \"message\": \"%s\"\n}"), unescaped},
	{"text of JSON, twice", func(text string) (string, bool) {
		return fmt.Sprintf(`{"log":%s,"stream":"stdout"}`, jsonText(fmt.Sprintf(`{"message":%s,"lane":7}`, jsonText(text)))), true
	}, func(out string) string { return unescaped(unescaped(out)) }},
	{"item of JSON", quoted(`["started", "%s"]`), unescaped},
	{"text of XML", escaped(`<event id="7"><message>%s</message></event>`), html.UnescapeString},
	{"CDATA", oneOf("<message><![CDATA[%s]]></message>"), nil},
	{"page", escaped("<html><body><pre>%s</pre></body></html>"), html.UnescapeString},
	{"block of YAML", func(text string) (string, bool) {
		return "kind: Notes\ndata:\n  notes.txt: |\n    " + strings.ReplaceAll(text, "\n", "\n    ") + "\n  other: 7", true
	}, nil},
	{"text of YAML", func(text string) (string, bool) {
		if strings.ContainsAny(text, "\n\t") {
			return "", false
		}
		return "message: '" + strings.ReplaceAll(text, "'", "''") + "'\nlane: 7", true
	}, func(out string) string { return strings.ReplaceAll(out, "''", "'") }},
	{"cell of CSV", func(text string) (string, bool) {
		row := `2026-03-14 06:12:00,"` + strings.ReplaceAll(text, `"`, `""`) + `",7`
		return row, !strings.Contains(text, "\n") && !strings.Contains(text, `\"`) // such tables know no backslashes
	}, func(out string) string { return strings.ReplaceAll(out, `""`, `"`) }},
	{"base64", encoded("payload: %s"), decoded},
	{"base64 in JSON", encoded(`{"kind":"file","content":"%s"}`), decoded},
	{"percent escapes", func(text string) (string, bool) {
		return "POST /note?at=7&text=" + url.QueryEscape(text) + "&lane=7 HTTP/1.1", true
	}, func(out string) string {
		plain, err := url.QueryUnescape(out)
		if err != nil {
			return out
		}
		return plain
	}},
	{"difference, added", eachLineBehind("--- a/gate.conf\n+++ b/gate.conf\n@@ -1,3 +1,4 @@\n lane 7\n", "+"), nil},
	{"difference, removed", eachLineBehind("--- a/gate.conf\n+++ b/gate.conf\n@@ -1,4 +1,3 @@\n lane 7\n", "-"), nil},
	{"found with its line", eachLine("12:", ""), nil},
	{"found with file and line", eachLine("etc/gate.conf:12:", ""), nil},
	{"comment", eachLine("# ", ""), nil},
	{"comment of a program", eachLine("// ", ""), nil},
	{"quoted mail", eachLine("> ", ""), nil},
	{"item of a list", oneLine("- %s"), nil},
	{"within backticks", func(text string) (string, bool) {
		return "it said `" + text + "` and stopped", !strings.ContainsAny(text, "`\n")
	}, nil},
	{"traced by a shell", oneLine("+ %s"), nil},
	{"history", oneLine("  211  %s"), nil},
	{"coloured", func(text string) (string, bool) {
		return "\x1b[32m" + strings.ReplaceAll(text, "\n", "\x1b[0m\n\x1b[32m") + "\x1b[0m", true
	}, nil},
	{"with numbers of lines", lines(func(l string) string { return "  12\t" + l }), nil},
	{"UTF-16", func(text string) (string, bool) { return string(UTF16(text + "\n")), ascii(text) },
		func(out string) string { return strings.ReplaceAll(out, "\x00", "") }},
	{"among many lines", func(text string) (string, bool) {
		return strings.Repeat("06:12:00 lane 7 open\n", 40) + text + "\n" + strings.Repeat("06:12:01 lane 7 shut\n", 40), true
	}, nil},
	// Of a key and its value.
	{"key: value", pair("%s: %s"), nil},
	{"key = value", pair("%s = %s"), nil},
	{`key="value"`, pair(`%s="%s"`), nil},
	{"key='value'", pair(`%s='%s'`), nil},
	{"key => value", pair(`%s => '%s',`), nil},
	{"key in JSON", pair(`{"lane":7,"%s":"%s","open":true}`), nil},
	{"key in JSON over lines", pair("{\n  \"lane\": 7,\n  \"%s\":\n    \"%s\"\n}"), nil},
	{"key in XML", pair("<conf><%s>%s</%[1]s></conf>"), nil},
	{"key in an attribute", pair(`<conf lane="7" %s="%s"/>`), nil},
	{"key in TOML", pair("[gate]\nlane = 7\n%s = \"%s\""), nil},
	{"key in a block", pair("gate {\n  lane = 7\n  %s = \"%s\"\n}"), nil},
	{"key in a map", pair("Conf{lane=7, %s=%s, open=true}"), nil},
	{"key in flow of YAML", pair("gate: {lane: 7, %s: '%s'}"), nil},
	{"key and name", pair(`{"name":"%s","value":"%s"}`), nil},
	{"key of an address", pair("GET /open?lane=7&%s=%s HTTP/1.1"), nil},
	{"key of a form", pair("lane=7&%s=%s&open=1"), nil},
	{"JSON, laid out anew", func(text string) (string, bool) {
		var out bytes.Buffer
		if !strings.HasPrefix(strings.TrimSpace(text), "{") || json.Indent(&out, []byte(text), "", "  ") != nil {
			return "", false
		}
		return out.String(), true
	}, nil},
	{"JSON in one line", func(text string) (string, bool) {
		var out bytes.Buffer
		if !strings.Contains(text, "\n") || json.Compact(&out, []byte(text)) != nil {
			return "", false
		}
		return out.String(), true
	}, nil},
}

func same(text string) (string, bool) { return text, true }

func lines(each func(line string) string) func(string) (string, bool) {
	return func(text string) (string, bool) {
		all := strings.Split(text, "\n")
		for i, l := range all {
			all[i] = each(l)
		}
		return strings.Join(all, "\n"), true
	}
}

func eachLine(before, behind string) func(string) (string, bool) {
	return lines(func(l string) string { return before + l + behind })
}

func eachLineBehind(head, before string) func(string) (string, bool) {
	return func(text string) (string, bool) {
		out, _ := eachLine(before, "")(text)
		return head + out, true
	}
}

// oneLine puts a text of one line into another.
func oneLine(format string) func(string) (string, bool) {
	return func(text string) (string, bool) {
		return fmt.Sprintf(format, text), !strings.ContainsAny(text, "\n\x00")
	}
}

func oneOf(format string) func(string) (string, bool) {
	return func(text string) (string, bool) {
		return fmt.Sprintf(format, text), !strings.Contains(text, "]]>") && !strings.Contains(text, "\x00")
	}
}

// jsonText writes a text as one of JSON (RFC 8259), with its quotes.
func jsonText(text string) string {
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	if err := e.Encode(text); err != nil {
		panic(err) // a text can always be written
	}
	return strings.TrimSuffix(out.String(), "\n")
}

func quoted(format string) func(string) (string, bool) {
	return func(text string) (string, bool) {
		inner := jsonText(text)
		return fmt.Sprintf(format, inner[1:len(inner)-1]), true
	}
}

var jsonEscapes = late.Pattern(`\\(u[0-9a-fA-F]{4}|.)`)

// unescaped takes the escapes of JSON out of a text.
func unescaped(out string) string {
	return jsonEscapes().ReplaceAllStringFunc(out, func(e string) string {
		var plain string
		if json.Unmarshal([]byte(`"`+e+`"`), &plain) != nil {
			return e
		}
		return plain
	})
}

func escaped(format string) func(string) (string, bool) {
	return func(text string) (string, bool) {
		return fmt.Sprintf(format, html.EscapeString(text)), !strings.Contains(text, "\x00")
	}
}

func encoded(format string) func(string) (string, bool) {
	return func(text string) (string, bool) {
		return fmt.Sprintf(format, base64.StdEncoding.EncodeToString([]byte(text))), true
	}
}

var base64Text = late.Pattern(`[A-Za-z0-9+/]{8,}={0,2}`)

// decoded gives a text with what is base64 in it decoded (RFC 4648).
func decoded(out string) string {
	return base64Text().ReplaceAllStringFunc(out, func(word string) string {
		plain, err := base64.RawStdEncoding.DecodeString(strings.TrimRight(word, "="))
		if err != nil {
			return word
		}
		return string(plain)
	})
}

// UTF16 gives a text of ASCII as UTF-16 with its mark (RFC 2781).
func UTF16(text string) []byte {
	out := []byte{0xff, 0xfe}
	for _, c := range []byte(text) {
		out = append(out, c, 0)
	}
	return out
}

func ascii(text string) bool {
	return !strings.ContainsFunc(text, func(r rune) bool { return r >= 0x80 || r == 0 })
}

// plainPair is a line of a key and its value without quotes.
var plainPair = late.Pattern(`^([A-Za-z][A-Za-z0-9_.-]*)[ \t]*[=:][ \t]*["']?([^\s"'=:;,&<>(){}\[\]\\/%|]+)["']?$`)

func pair(format string) func(string) (string, bool) {
	return func(text string) (string, bool) {
		m := plainPair().FindStringSubmatch(text)
		if m == nil {
			return "", false
		}
		return fmt.Sprintf(format, m[1], m[2]), true
	}
}
