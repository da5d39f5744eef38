package extract

import (
	"context"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const (
	sampleJSON = `{"id": "job/41", "n": 12345678, "big": 9007199254740993, "ok": true, "no": false, "nil": null, "list": [{"a": 1}, {"a": 2}], "s": ["x", "y"]}`
	sampleHTML = `<!DOCTYPE html><html><body><a class="file" href="/f/1">one</a><a class="file" href="/f/2">two</a><p id="state"> done </p></body></html>`
	sampleXML  = `<?xml version="1.0"?><jobs><job id="7"><state>done</state></job><job id="8"><state>run</state></job></jobs>`
)

func TestValues(t *testing.T) {
	for _, c := range []struct {
		body, expression string
		want             []string
	}{
		{sampleJSON, ".id", []string{"job/41"}},
		{sampleJSON, ".n", []string{"12345678"}},
		{sampleJSON, ".ok", []string{"true"}},
		{sampleJSON, ".no", nil},
		{sampleJSON, ".nil", nil},
		{sampleJSON, ".missing", nil},
		{sampleJSON, ".list[].a", []string{"1", "2"}},
		{sampleJSON, ".list[0]", []string{`{"a":1}`}},
		{sampleJSON, `.list | map(.a) | max`, []string{"2"}},
		{sampleJSON, `"\(.n) %"`, []string{"12345678 %"}},
		{sampleHTML, `xpath://a[@class="file"]/@href`, []string{"/f/1", "/f/2"}},
		{sampleHTML, `xpath:string(//p[@id="state"])`, []string{" done "}},
		{sampleHTML, `xpath://p`, []string{"done"}},
		{sampleHTML, `xpath:count(//a)`, []string{"2"}},
		{sampleXML, `xpath://job[state="done"]/@id`, []string{"7"}},
		{sampleXML, `xpath:count(//job) = 2`, []string{"true"}},
		{"job 41 begins\njob 42 begins\n", `text:job (\d+)`, []string{"41", "42"}},
		{"", "header:Location", []string{"/jobs/4"}},
	} {
		e, err := Parse(c.expression)
		require.NoError(t, err, c.expression)
		got, err := e.Values(context.Background(), &Answer{Header: http.Header{"Location": {"/jobs/4"}}, Body: []byte(c.body)})
		require.NoError(t, err, c.expression)
		require.Equal(t, c.want, got, c.expression)
	}
}

func TestWhatDoesNotFitIsSaid(t *testing.T) {
	for _, c := range []struct{ body, expression, want string }{
		{sampleHTML, ".id", "an HTML page came where JSON was expected"},
		{"plain", ".id", "the answer is not JSON"},
		{`{"a": "secret-Kelp-9"}`, ".a.b", ".a.b does not fit the answer"},
		{`{"a": 1}`, ".a[]", "does not fit the answer"},
		{"no markup", "xpath://a", "the answer is neither XML nor HTML"},
		{"[1]", "[limit(200000; repeat(1))] | .[]", "takes more than 100000 values"},
	} {
		e, err := Parse(c.expression)
		require.NoError(t, err, c.expression)
		_, err = e.Values(context.Background(), &Answer{Header: http.Header{}, Body: []byte(c.body)})
		require.ErrorContains(t, err, c.want, c.expression)
	}
	e, err := Parse("def f: f; f") // it never ends
	require.NoError(t, err)
	_, err = e.Values(context.Background(), &Answer{Body: []byte("{}")})
	require.Error(t, err)
	for _, bad := range []string{".[", "xpath://[", "text:(", "header:", "nosuchfunction(1)"} {
		_, err := Parse(bad)
		require.Error(t, err, bad)
	}
}

func TestHolds(t *testing.T) {
	a := &Answer{Body: []byte(`{"state": "done", "percent": 0}`)}
	for expression, want := range map[string]bool{`.state == "done"`: true, `.state == "error"`: false, ".percent": true, ".missing": false} {
		e, err := Parse(expression)
		require.NoError(t, err)
		got, err := e.Holds(context.Background(), a)
		require.NoError(t, err)
		require.Equal(t, want, got, expression)
	}
}

func FuzzAnswer(f *testing.F) {
	for _, s := range []string{sampleJSON, sampleHTML, sampleXML, "[", "<a", "\xff\xfe"} {
		f.Add([]byte(s))
	}
	var all []*Expression
	for _, text := range []string{".list[].a", "..", "xpath://a/@href", "xpath:string(//*)", `text:(\d+)`, "keys", ".[0]?"} {
		e, err := Parse(text)
		if err != nil {
			f.Fatal(err)
		}
		all = append(all, e)
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		for _, e := range all {
			got, err := e.Values(context.Background(), &Answer{Header: http.Header{}, Body: body})
			if err != nil && strings.Contains(err.Error(), "panic") {
				t.Fatal(err)
			}
			for _, v := range got {
				if len(v) > mostValue {
					t.Fatalf("a value of %d bytes", len(v))
				}
			}
		}
	})
}

func FuzzParse(f *testing.F) {
	f.Add(".a[]")
	f.Add("xpath://a[@b='c']")
	f.Add("text:(a|b)+")
	f.Fuzz(func(t *testing.T, text string) {
		if e, err := Parse(text); err == nil && len(text) < 200 {
			_, _ = e.Values(context.Background(), &Answer{Header: http.Header{}, Body: []byte(`{"a": [1]}`)})
		}
	})
}
