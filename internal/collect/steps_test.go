package collect

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"envask/internal/ask"
	"envask/internal/round"
)

// noted is a device that lets anybody in, answers from a table, and notes what it was asked.
type noted struct {
	answers map[string]string // by method and target; a missing one is 404
	mu      sync.Mutex
	asked   []string
	bodies  map[string]string
	removed []string
}

func (n *noted) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	n.mu.Lock()
	defer n.mu.Unlock()
	key := r.Method + " " + r.URL.RequestURI()
	if r.URL.Path == "/session" {
		fmt.Fprint(w, "in")
		return
	}
	n.asked = append(n.asked, key)
	if r.Method == http.MethodPost {
		if strings.HasPrefix(r.Header.Get("Content-Type"), "multipart/form-data") {
			_ = r.ParseMultipartForm(1 << 20)
			n.bodies[key] = "parts: " + r.PostForm.Encode()
		} else if body, err := io.ReadAll(r.Body); err == nil {
			n.bodies[key] = r.Header.Get("Content-Type") + ": " + string(body)
		}
	}
	if r.Method == http.MethodDelete {
		n.removed = append(n.removed, r.URL.Path)
		return
	}
	text, ok := n.answers[key]
	if !ok {
		http.NotFound(w, r)
		return
	}
	fmt.Fprint(w, text)
}

// stepsOf collects one item with these steps.
func stepsOf(t *testing.T, answers map[string]string, depth ask.Depth, item string) (*noted, *round.Round, map[string]round.Entry) {
	t.Helper()
	n := &noted{answers: answers, bodies: map[string]string{}}
	text := "ask: a\nvendor: v\nvitals: no\nitems:\n  - {id: it, of: [hub], required: true, " + item + "}\n"
	r, _ := fromHub(t, n, text, func(q *Request) { q.Depth = depth }, nil)
	entries := map[string]round.Entry{}
	require.NoError(t, r.Entries(func(e round.Entry) error { entries[e.Source] = e; return nil }))
	return n, r, entries
}

func rawText(t *testing.T, r *round.Round, name string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(r.RawDir(), "hub", filepath.FromSlash(name)))
	require.NoError(t, err)
	return string(data)
}

// What is sent: a form, a multipart form; a step of a greater depth only at that depth.
func TestStepsSendFormsByDepth(t *testing.T) {
	answers := map[string]string{"POST /form": "{}", "POST /parts": "{}", "POST /deep": "{}", "GET /x": "the end\n"}
	const item = `steps: [{post: /form, form: {case: '{case}', depth: '{depth}', note: 'a & b'}}, ` +
		`{post: /parts, multipart: {case: '{case}', note: 'a & b'}}, {post: /deep, depth: deep, json: {all: true}}, {get: /x, download: yes}]`
	n, r, _ := stepsOf(t, answers, ask.Standard, item)
	require.Equal(t, round.Taken, r.Coverage[0].State, r.Coverage[0].Reason)
	require.Equal(t, "application/x-www-form-urlencoded: case=26031407&depth=standard&note=a+%26+b", n.bodies["POST /form"])
	require.Equal(t, "parts: case=26031407&note=a+%26+b", n.bodies["POST /parts"])
	require.NotContains(t, n.asked, "POST /deep")
	n, r, _ = stepsOf(t, answers, ask.Deep, item)
	require.Equal(t, round.Taken, r.Coverage[0].State, r.Coverage[0].Reason)
	require.Contains(t, n.asked, "POST /deep")
	require.Contains(t, n.bodies["POST /deep"], `application/json: {"all":true}`)
}

// Records over pages that are asked for by a cursor, and by an offset: each once, in order, in one file.
func TestStepsReadPages(t *testing.T) {
	n, r, entries := stepsOf(t, map[string]string{
		"GET /list?from=x":             `{"rows":[{"n":1},{"n":2}],"more":"a/b"}`,
		"GET /list?from=x&after=a%2Fb": `{"rows":[{"n":3}],"more":""}`,
	}, ask.Standard, `steps: [{get: /list, query: {from: x}, pages: {cursor: .more, as: after}, rows: '.rows[]', into: rows.json}]`)
	require.Equal(t, round.Taken, r.Coverage[0].State, "%s %v", r.Coverage[0].Reason, n.asked)
	require.Len(t, entries, 1)
	require.Equal(t, "{\"n\":1}\n{\"n\":2}\n{\"n\":3}\n", rawText(t, r, "web/it/rows.json"))

	n, r, _ = stepsOf(t, map[string]string{
		"GET /csv": "at,pass\n1,a\n2,b\n", "GET /csv?start=2": "at,pass\n3,c\n", "GET /csv?start=4": "at,pass\n",
	}, ask.Standard, `steps: [{get: /csv, pages: {offset: start, size: 2}, into: rows.csv}]`)
	require.Equal(t, round.Taken, r.Coverage[0].State, "%s %v", r.Coverage[0].Reason, n.asked)
	require.Equal(t, "at,pass\n1,a\n2,b\n3,c\n", rawText(t, r, "web/it/rows.csv"))

	const byOffset = `steps: [{get: /json, pages: {offset: start, size: 2}, rows: '.rows[]', into: rows.json}]`
	n, r, _ = stepsOf(t, map[string]string{"GET /json": `{"rows":[1,2]}`, "GET /json?start=2": `{"rows":[3]}`,
		"GET /json?start=4": `{"rows":[]}`},
		ask.Standard, byOffset)
	require.Equal(t, round.Taken, r.Coverage[0].State, "%s %v", r.Coverage[0].Reason, n.asked)
	require.Equal(t, "1\n2\n3\n", rawText(t, r, "web/it/rows.json"))
	require.Len(t, n.asked, 3)

	// A page that does not come: what came before is kept, and said; nothing else is lost.
	_, r, _ = stepsOf(t, map[string]string{"GET /json": `{"rows":[1,2]}`}, ask.Standard, byOffset)
	require.Equal(t, round.Failed, r.Coverage[0].State)
	require.Contains(t, r.Coverage[0].Reason, "2 lines of 1 pages; the next page: the device answers 404")
	require.Equal(t, "1\n2\n", rawText(t, r, "web/it/rows.json"))
	_, r, _ = stepsOf(t, nil, ask.Standard, byOffset)
	require.Equal(t, round.Failed, r.Coverage[0].State)
	require.Contains(t, r.Coverage[0].Reason, "the device answers 404")
}

// Files are removed on the device only where the step says so, and only after they were taken as a whole.
func TestStepsRemoveWhatWasTaken(t *testing.T) {
	answers := map[string]string{"GET /files": `{"f":[{"h":"/f/a","s":3},{"h":"/f/b","s":9}]}`, "GET /f/a": "aaa", "GET /f/b": "short"}
	const list = `steps: [{get: /files, each: '.f[].h', size: '.f[].s', download: yes, remove: %s}]`
	n, r, _ := stepsOf(t, answers, ask.Standard, fmt.Sprintf(list, "yes"))
	require.Equal(t, []string{"/f/a"}, n.removed, "b is not as its list says")
	require.Contains(t, r.Coverage[0].Reason, "5 bytes came, and the device lists 9")
	require.Equal(t, 2, r.Coverage[0].Files, "what came of b is kept")
	n, _, _ = stepsOf(t, answers, ask.Standard, fmt.Sprintf(list, "no"))
	require.Empty(t, n.removed)
}

// What the device holds already is taken instead of making it anew, and so many of the next steps are left out, too.
func TestStepsTakeWhatIsThere(t *testing.T) {
	const item = `steps: [{post: /jobs, instead: {get: /jobs, each: '.jobs[]', made: .made, within: 24h, take: {job: .id}, skip: 2}, ` +
		`take: {job: .job}}, ` +
		`{post: '/jobs/{job}/go', json: {a: 1}}, {poll: '/jobs/{job}', until: .done, every: 1s, at-most: 5s}, {get: '/jobs/{job}/file', ` +
		`download: yes}]`
	answers := map[string]string{"GET /jobs": `{"jobs":[{"id":"old","made":"1999-12-30T00:00:00Z"},{"id":"held","made":"1999-12-31T20:00:00Z"},` +
		`{"id":"older","made":"1999-12-31T19:00:00Z"}]}`,
		"POST /jobs": `{"job":"new"}`, "POST /jobs/new/go": "{}", "GET /jobs/new": `{"done":true}`, "GET /jobs/new/file": "new\n",
		"GET /jobs/held/file": "held\n"}
	n, r, _ := stepsOf(t, answers, ask.Standard, item)
	require.Equal(t, round.Taken, r.Coverage[0].State, r.Coverage[0].Reason)
	require.Equal(t, []string{"GET /jobs", "GET /jobs/held/file"}, n.asked)
	answers["GET /jobs"] = `{"jobs":[{"id":"old","made":"1999-12-30T00:00:00Z"}]}`
	n, r, _ = stepsOf(t, answers, ask.Standard, item)
	require.Equal(t, round.Taken, r.Coverage[0].State, r.Coverage[0].Reason)
	require.Equal(t, []string{"GET /jobs", "POST /jobs", "POST /jobs/new/go", "GET /jobs/new", "GET /jobs/new/file"}, n.asked)
	require.False(t, slices.Contains(n.asked, "DELETE /jobs/new/file"))
}
