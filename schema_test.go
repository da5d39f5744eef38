package envask_test

import (
	"bytes"
	"encoding/json"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"envask/internal/ask"
	"envask/internal/parts"
	"envask/internal/site"
	"envask/internal/standin"
)

func compiled(t *testing.T, schema []byte) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(schema))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("schema.json", doc))
	s, err := c.Compile("schema.json")
	require.NoError(t, err)
	return s
}

// fits holds a YAML text against a schema.
func fits(t *testing.T, s *jsonschema.Schema, text string) error {
	t.Helper()
	var doc any
	require.NoError(t, yaml.Unmarshal([]byte(text), &doc))
	data, err := json.Marshal(doc)
	require.NoError(t, err)
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(data))
	require.NoError(t, err)
	return s.Validate(value)
}

// What the program takes, the schemas take; what has an unknown key or lacks a required one, they do not.
func TestSchemasTakeWhatTheProgramTakes(t *testing.T) {
	asks, systems := compiled(t, ask.Schema), compiled(t, site.Schema)
	byHand := fenced.FindAllStringSubmatch(page(t, "docs/first-files.md"), -1)
	template := string(ask.Template)
	for _, text := range []string{standin.SampleAsk, byHand[0][1], template} {
		require.NoError(t, fits(t, asks, text))
	}
	for _, text := range []string{standin.SampleSystems, byHand[1][1],
		string(site.Compose(site.Draft{Name: "pier", Zone: "Europe/Lisbon"}))} {
		require.NoError(t, fits(t, systems, text))
	}
	for _, p := range parts.All() {
		c := parts.Choice{Part: p, Role: "gate"}
		if p.Value != nil {
			c.Value = p.Value.Example
		}
		text := string(parts.Compose(parts.Draft{Name: "x", Vendor: "y", Blocks: []parts.Block{c.Block()}}))
		require.NoError(t, fits(t, asks, text), text)
	}
	for _, bad := range []string{"ask: a\nvendor: v\nitems: []\n", "ask: a\nvendor: v\nitems: [{id: x}]\n",
		"ask: a\nvendor: v\nitems: [{id: x, run: y, nonsense: 1}]\n", "ask: a\nvendor: v\nitmes: [{id: x, run: y}]\n",
		"ask: a\nvendor: v\nitems: [{id: x, run: y, files: [/z]}]\n", "ask: a\nvendor: v\nitems: [{id: x, files: [/z], cut: thin}]\n"} {
		require.Error(t, fits(t, asks, bad), bad)
	}
	require.Error(t, fits(t, systems, "site: x\nsystems: [{name: a, ssh: b@c, password: hunter2}]\n"))
}

// known gives the keys that the program knows at the places of a text at which nonsense stands, in their order.
func known(err error) (all [][]string) {
	for _, m := range regexp.MustCompile(`unknown key "nonsense"; known here: (.*)`).FindAllStringSubmatch(err.Error(), -1) {
		all = append(all, strings.Split(m[1], ", "))
	}
	return all
}

// keysAt gives the keys that a schema knows at a place, such as /properties/case/properties.
func keysAt(t *testing.T, schema []byte, path string) []string {
	t.Helper()
	var at any
	require.NoError(t, json.Unmarshal(schema, &at))
	for _, step := range strings.Split(path, "/")[1:] {
		switch x := at.(type) {
		case map[string]any:
			at = x[step]
		case []any:
			at = x[int(step[0]-'0')]
		}
	}
	var keys []string
	for k := range at.(map[string]any) {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// The schemas know exactly the keys that the program knows.
func TestSchemasKnowTheKeys(t *testing.T) {
	_, err := ask.Parse("a.yaml", []byte(`nonsense: 1
case: {nonsense: 1}
severities: [{nonsense: 1}]
questions: [{nonsense: 1}]
items:
  - {nonsense: 1, files: [/x]}
  - {nonsense: 1, run: x}
  - {nonsense: 1, journal: x}
  - {nonsense: 1, events: x}
  - {nonsense: 1, person: x, expect: {nonsense: 1}}
  - {run: x, needs: [{nonsense: 1, command: x}]}
  - {nonsense: 1, steps: [{get: /x}]}
  - {nonsense: 1, arrives: {nonsense: 1}}
values: [{nonsense: 1}]
sets: [{nonsense: 1}]
groups: [{nonsense: 1}]
routes: [{nonsense: 1, name: a, to: /x}]
redaction: {nonsense: 1, literals: [{nonsense: 1}], expressions: [{nonsense: 1}]}
`))
	lists := known(err)
	kinds := []string{"files", "run", "journal", "events", "person", "steps", "arrives"}
	taken := []string{"needs", "elevated", "volatile"} // what a person brings is read without
	for i, path := range []string{"", "/properties/case", "/properties/severities/items", "/properties/questions/items",
		"/properties/items/items/oneOf/0", "/properties/items/items/oneOf/1",
		"/properties/items/items/oneOf/2", "/properties/items/items/oneOf/3", "/properties/items/items/oneOf/4",
		"/properties/items/items/oneOf/4/properties/expect", "/properties/items/items/oneOf/1/properties/needs/items",
		"/properties/items/items/oneOf/5", "/properties/items/items/oneOf/6", "/properties/items/items/oneOf/6/properties/arrives",
		"/properties/values/items", "/properties/sets/items", "/properties/groups/items",
		"/properties/routes/items", "/properties/redaction", "/properties/redaction/properties/literals/items/oneOf/1",
		"/properties/redaction/properties/expressions/items"} {
		want := lists[i]
		// the program names the other kinds beside
		if strings.Contains(path, "items/oneOf/") && !strings.Contains(path, "needs") && !strings.Contains(path, "expect") && !strings.Contains(path, "arrives") &&
			!strings.Contains(path, "redaction") {
			own := kinds[path[len(path)-1]-'0']
			want = slices.DeleteFunc(slices.Clone(want), func(k string) bool {
				return k != own && slices.Contains(kinds, k) && !(own == "run" && k == "arrives") || (own == "person" || own == "arrives") && slices.Contains(taken, k)
			})
		}
		require.Equal(t, want, keysAt(t, ask.Schema, path+"/properties"), "at %q", path)
	}
	_, err = site.Parse("s.yaml", []byte("nonsense: 1\nsite: x\nsystems:\n  - {nonsense: 1, name: a, ssh: x@y, limits: {nonsense: 1}}\n"))
	lists = known(err)
	require.Equal(t, lists[0], keysAt(t, site.Schema, "/properties"))
	require.ElementsMatch(t, lists[1], keysAt(t, site.Schema, "/properties/systems/items/properties"))
	require.Equal(t, lists[2], keysAt(t, site.Schema, "/properties/systems/items/properties/limits/properties"))
	_, err = os.Stat("internal/ask/schema.json")
	require.NoError(t, err)
}
