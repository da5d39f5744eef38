package compare

import (
	"bytes"
	"envask/internal/late"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"
	"github.com/pelletier/go-toml/v2"
	"go.yaml.in/yaml/v4"
	"gopkg.in/ini.v1"
)

// formats are the forms of configuration that have keys, by the endings of names. Each gives its content as maps, lists and
// scalars.
var formats = []struct {
	name    string
	endings []string
	parse   func([]byte) (any, error)
}{
	{"json", []string{".json"}, parseJSON},
	{"yaml", []string{".yaml", ".yml"}, parseYAML},
	{"toml", []string{".toml"}, parseTOML},
	{"ini", []string{".ini", ".properties", ".env", ".conf", ".cfg", ".cnf", ".service", ".network", ".desktop"}, parseINI},
}

// maxKeys bounds how many keys one file may have; more are compared as lines.
const maxKeys = 50_000

// keysOf gives the scalars of a configuration by their paths; ok is false when it has no keys or cannot be read.
func keysOf(name string, text []byte) (keys map[string]string, format string, ok bool) {
	ending := strings.ToLower(path.Ext(name))
	if path.Base(name) == ".env" {
		ending = ".env"
	}
	for _, f := range formats {
		if !slices.Contains(f.endings, ending) {
			continue
		}
		tree, err := f.parse(text)
		if err != nil {
			return nil, "", false
		}
		fl := &flattening{keys: map[string]string{}}
		fl.put("", tree, 0)
		return fl.keys, f.name, !fl.over
	}
	return nil, "", false
}

func parseJSON(text []byte) (v any, err error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	if err = d.Decode(&v); err == nil && d.More() {
		err = fmt.Errorf("more than one document")
	}
	return v, err
}

// parseYAML reads one or more documents; several are a list.
func parseYAML(text []byte) (any, error) {
	d := yaml.NewDecoder(bytes.NewReader(text))
	var all []any
	for {
		var n yaml.Node
		err := d.Decode(&n)
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		left := maxKeys
		v, err := plainYAML(&n, 0, &left)
		if err != nil {
			return nil, err
		}
		if all = append(all, v); len(all) > 1000 {
			return nil, fmt.Errorf("too many documents")
		}
	}
	if len(all) == 1 {
		return all[0], nil
	}
	return all, nil
}

// plainYAML keeps scalars as they are written: 1.10 is a version, not a number. What aliases repeat counts each time.
func plainYAML(n *yaml.Node, depth int, left *int) (any, error) {
	if *left--; *left < 0 || depth > maxDepth {
		return nil, fmt.Errorf("too much, or too deep")
	}
	switch n.Kind {
	case yaml.DocumentNode:
		if len(n.Content) == 1 {
			return plainYAML(n.Content[0], depth, left)
		}
	case yaml.AliasNode:
		return plainYAML(n.Alias, depth+1, left)
	case yaml.ScalarNode:
		return n.Value, nil
	case yaml.SequenceNode:
		list := []any{}
		for _, c := range n.Content {
			v, err := plainYAML(c, depth+1, left)
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		return list, nil
	case yaml.MappingNode:
		m := map[string]any{}
		for i := 0; i+1 < len(n.Content); i += 2 {
			v, err := plainYAML(n.Content[i+1], depth+1, left)
			if err != nil {
				return nil, err
			}
			m[n.Content[i].Value] = v
		}
		return m, nil
	}
	return nil, nil
}

func parseTOML(text []byte) (any, error) {
	m := map[string]any{}
	return m, toml.Unmarshal(text, &m)
}

// iniLine is a line of what ini formats have in common. Other formats use the same endings for other languages.
var iniLine = late.Pattern(`^\s*([#;!].*|\[[^\]]*\]\s*([#;].*)?|(export\s+)?[A-Za-z0-9_.@/:*-][^=:{}]*[=:].*)?$`)

func parseINI(text []byte) (any, error) {
	for _, line := range strings.Split(strings.ReplaceAll(string(text), "\\\n", ""), "\n") {
		if !iniLine().MatchString(strings.TrimRight(line, "\r")) {
			return nil, fmt.Errorf("no ini")
		}
	}
	f, err := ini.LoadSources(ini.LoadOptions{AllowShadows: true, AllowNonUniqueSections: true, KeyValueDelimiters: "=:",
		UnescapeValueCommentSymbols: true, SkipUnrecognizableLines: false, IgnoreInlineComment: true}, text)
	if err != nil {
		return nil, err
	}
	m := map[string]any{}
	seen := map[string]int{}
	for _, s := range f.Sections() {
		name := s.Name()
		if seen[name]++; seen[name] > 1 {
			name += "#" + strconv.Itoa(seen[name])
		}
		keys := map[string]any{}
		for _, k := range s.Keys() {
			if values := k.ValueWithShadows(); len(values) > 1 {
				list := []any{}
				for _, v := range values {
					list = append(list, v)
				}
				keys[k.Name()] = list
				continue
			}
			keys[strings.TrimPrefix(k.Name(), "export ")] = k.Value()
		}
		if s.Name() == ini.DefaultSection {
			maps.Copy(m, keys)
		} else {
			m[name] = keys
		}
	}
	return m, nil
}

// maxDepth bounds how deep a configuration may be nested.
const maxDepth = 100

// flattening gives every scalar a path.
type flattening struct {
	keys map[string]string
	over bool
}

func (f *flattening) put(at string, v any, depth int) {
	if f.over || depth > maxDepth || len(f.keys) > maxKeys {
		f.over = true
		return
	}
	switch v := v.(type) {
	case map[string]any:
		if len(v) == 0 && at != "" {
			f.keys[at] = "{}"
		}
		for k, x := range v {
			f.put(under(at, k), x, depth+1)
		}
	case []any:
		f.list(at, v, depth)
	case time.Time:
		f.keys[at] = v.Format(time.RFC3339Nano)
	case nil:
		f.keys[at] = "null"
	default:
		f.keys[at] = fmt.Sprint(v)
	}
}

// list gives the members of a list names that stay the same when others come and go: what names them in their own words, or
// else the values themselves; only what has neither is numbered.
func (f *flattening) list(at string, list []any, depth int) {
	if len(list) == 0 {
		f.keys[at] = "[]"
		return
	}
	if by := namedBy(list); by != "" {
		for _, x := range list {
			m := maps.Clone(x.(map[string]any))
			name := fmt.Sprintf("%s[%s=%v]", at, by, m[by])
			if len(m) > 1 {
				delete(m, by) // the name says it
			}
			f.put(name, m, depth+1)
		}
		return
	}
	count := map[string]int{}
	for i, x := range list {
		switch x.(type) {
		case map[string]any, []any:
			f.put(fmt.Sprintf("%s[%d]", at, i+1), x, depth+1)
			continue
		}
		text := fmt.Sprint(x)
		count[text]++
		f.keys[fmt.Sprintf("%s[]%s%s %d", at, member, text, count[text])] = text
	}
}

// member ends the shown part of the name of a list's member, which is told by its value.
const member = "\x00"

// namedBy gives the key by which all members of a list differ, if there is one of the usual.
func namedBy(list []any) string {
next:
	for _, key := range []string{"name", "id", "key", "host", "path", "system", "port"} {
		seen := map[string]bool{}
		for _, x := range list {
			m, ok := x.(map[string]any)
			if !ok {
				return ""
			}
			v, ok := m[key].(string)
			if n, isNumber := m[key].(json.Number); isNumber {
				v, ok = n.String(), true
			}
			if !ok || seen[v] {
				continue next
			}
			seen[v] = true
		}
		return key
	}
	return ""
}

var simpleKey = late.Pattern(`^[A-Za-z0-9_-]+$`)

func under(at, key string) string {
	if !simpleKey().MatchString(key) {
		key = strconv.Quote(key)
	}
	if at == "" {
		return key
	}
	return at + "." + key
}

// hidden stands for a value that is not shown.
const hidden = "(hidden)"

// changes compares two sets of keys, and says of secrets only that they changed.
func changes(was, is map[string]string, o Options) []Change {
	var out []Change
	names := map[string]bool{}
	for k := range was {
		names[k] = true
	}
	for k := range is {
		names[k] = true
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		a, okA := was[name]
		b, okB := is[name]
		if a == b && okA == okB {
			continue
		}
		name, _, _ = strings.Cut(name, member)
		out = append(out, Change{Name: o.Hide(name), Before: show(name, a, o), Now: show(name, b, o), Was: okA, Is: okB})
	}
	return out
}

// show gives a value as it may be read; what stands next to its key decides too.
func show(name, value string, o Options) string {
	if value == "" {
		return ""
	}
	last := name[strings.LastIndexByte(name, '.')+1:]
	if text := last + " = " + value; o.Hide(text) != text {
		return hidden
	}
	return o.Hide(value)
}
