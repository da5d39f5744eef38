package fact

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// told writes the objects of a text: path: key=value for each member.
func told(read func([]byte, func(*Object)), text string) []string {
	var out []string
	b := []byte(text)
	read(b, func(o *Object) {
		var path, members []string
		for _, p := range o.Path {
			path = append(path, string(p.Of(b)))
		}
		for _, m := range o.Members {
			q := ""
			if m.Quote != 0 {
				q = string(m.Quote)
			}
			members = append(members, fmt.Sprintf("%s=%s%s", m.Key.Of(b), q, m.Value.Of(b)))
		}
		out = append(out, strings.Join(path, "/")+": "+strings.Join(members, " "))
	})
	return out
}

func TestJSON(t *testing.T) {
	require.Equal(t, []string{`db: password="x`}, told(JSON, "{\n \"db\": {\n  \"password\"\n  :\n  \"x\"\n }\n}"))
	require.Equal(t, []string{`: key="a val="b n=7`, `: key="c`}, told(JSON, `[{"key":"a","val":"b","n":7},{"key":"c"}]`))
	require.Equal(t, []string{`secrets: secrets="a secrets="b`}, told(JSON, `{"secrets":["a","b"]}`))
	require.Equal(t, []string{`: x="a\"b:{`, `: y=true`}, told(JSON, `"x":"a\"b:{"},{"y":true`), "it may begin and end anywhere")
	require.Equal(t, []string{`a/b: c="`}, told(JSON, `{"a":{"b":{"c":"`))
}

func TestYAML(t *testing.T) {
	for text, want := range map[string][]string{
		"password:\n  x1\n":                                       {": password=x1"},
		"password:\n  \"x 1\"\n":                                  {`: password="x 1`},
		"a:\n  password: &pw x1 # no\n  n: !!str y\nb: 2\n":       {"a: password=x1 n=y", ": b=2"},
		"p: |-\n  x1\n  x2\nq: 1\n":                               {": p=x1\n  x2 q=1"},
		"? password\n: x1\n":                                      {": password=x1"},
		"env:\n- value: x1\n  name: PW\n- value: x2\n  name: B\n": {"env: value=x1 name=PW", "env: value=x2 name=B"},
		"secrets:\n  - x1\n  - 'x2'\nn: 1\n":                      {"secrets: secrets=x1 secrets='x2", ": n=1"},
		"a:\n  b:\n    c: 1\n  d: 2\n":                            {"a/b: c=1", "a: d=2"},
		"list:\n  - a: 1\n    b: 2\n  - a: 3\n":                   {"list: a=1 b=2", "list: a=3"},
		"x: {a: 1}\ny: *z\nz: 'it''s'\n":                          {": z='it"},
		"---\na: 1\n---\nb: 2\n":                                  {": a=1", ": b=2"},
	} {
		require.Equal(t, want, told(YAML, text), text)
	}
}

func TestMarkup(t *testing.T) {
	for text, want := range map[string][]string{
		"<a><password>\n x1 \n</password></a>":          {"a: password=x1"},
		`<e><name>password</name><value>x1</value></e>`: {"e: name=password value=x1"},
		`<entry key="password" n='2'>x1</entry>`:        {`entry: key="password n='2 =x1`, ": entry=x1"},
		`<tr><td>Password</td><td>x1</td></tr>`:         {"tr: td=Password td=x1"},
		`<dt>Password</dt><dd>x1</dd>`:                  {": dt=Password dd=x1"},
		`<ns:Token ns:type="x">x1</ns:Token>`:           {`Token: type="x =x1`, ": Token=x1"},
		`<p><![CDATA[x1]]></p>`:                         {": p=x1"},
		`<input type=password value="x1"><b>y</b>`:      {`input: type=password value="x1`, ": b=y"},
		`</x><a>1`: {": a=1"},
	} {
		require.Equal(t, want, told(Markup, text), text)
	}
}

func TestBlocks(t *testing.T) {
	require.Equal(t, []string{`variable/db_password: default="x1`}, told(Blocks, "variable \"db_password\" {\n  default = \"x1\"\n}\n"))
	require.Equal(t, []string{`server: secret=x1`, `: a=b`}, told(Blocks, "server {\n  secret x1;\n}\na = b\n"))
}

func TestNotationsAreToldApart(t *testing.T) {
	for text, want := range map[string]string{
		"{\n  \"a\": 1,\n  \"b\": \"c\"\n}\n": "json", "<a>\n <b>1</b>\n</a>\n": "markup", "a:\n  b: 1\n  c: 2\n": "yaml",
		"variable \"x\" {\n  default = 1\n}\n": "blocks",
		"2026-03-14 06:12:00 gate-2 boarding[811]: lane 7 opened\n2026-03-14 06:12:01 gate-2 boarding[811]: closed\n": "",
		"The password is needed here.\nNote: it changes.\nAnd more of the text\nwithout keys\n":                       "",
		strings.Repeat(`{"t":1,"msg":"lane 7 opened","n":`+strings.Repeat("7", 90)+"}\n", 60):                         "",
	} {
		got := ""
		for _, n := range Notations {
			if n.Looks([]byte(text)) {
				got = n.Name
				break
			}
		}
		require.Equal(t, want, got, text)
	}
}

// Spans lie within the text, and reading ends, whatever comes.
func FuzzRead(f *testing.F) {
	for _, s := range []string{"{\"a\":[1,\"", "a:\n - b\n  c: |\n", "<a b='", "x {\n y 1;", "? a\n:", "- - a: 1\n-",
		"<![CDATA[", "\"a\":", "'", "<!--"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, n := range Notations {
			n.Looks(b)
			n.Read(b, func(o *Object) {
				for _, p := range o.Path {
					_ = p.Of(b)
				}
				for _, m := range o.Members {
					require.LessOrEqual(t, m.Key.Start, m.Key.End)
					require.LessOrEqual(t, m.Value.Start, m.Value.End)
					_, _ = m.Key.Of(b), m.Value.Of(b)
				}
			})
		}
	})
}
