package ask

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"envask/internal/extract"
	"envask/internal/keyfile"
	"envask/internal/late"
)

// Steps is an item that asks a device's web interface, step by step, and downloads what it gives.
type Steps struct {
	List       []WebStep
	Cut        string // "none" (default) or "lines": how what is downloaded is cut to the window
	Max        int64  // bytes of one download
	TimeFormat string // of {from} and {to}
	Zone       *time.Location
}

// WebStep is one step. Texts of it hold placeholders: {from}, {to}, {case}, {title}, {depth}, {system}, and values that steps before took.
// A value that is a list repeats the steps that use it.
type WebStep struct {
	Method   string // GET, POST, PUT, DELETE
	Path     string // on the device; {NAME} alone may be a link that it gave
	Query    []Pair
	Headers  []Pair
	JSON     any // nil: none
	Form     []Pair
	Parts    []Pair // of a multipart form
	Depth    Depth  // done from this depth on
	Expect   WebExpect
	Take     []Taking
	Poll     *Poll
	Instead  *Instead
	Pages    *Pages
	Download *Download
}

// Pair is a name with its text.
type Pair struct{ Name, Text string }

// Taking puts what an expression takes into a value.
type Taking struct {
	Name string
	From *extract.Expression
}

// WebExpect is what an answer has to be.
type WebExpect struct {
	Status []int  // empty: any of 200 to 299
	Type   string // "json", "html", "xml", "text" or ""
	Holds  *regexp.Regexp
	Value  *extract.Expression // true of the answer
}

// Poll asks again and again until an expression is true.
type Poll struct {
	Until, Failed, Progress *extract.Expression
	Every, Most             time.Duration
}

// Instead takes what the device holds already in place of a step that makes it anew.
type Instead struct {
	Path   string
	Each   *extract.Expression // objects
	Where  *extract.Expression // true of those that count; nil: all
	Made   *extract.Expression // when one was made; the newest counts
	Within time.Duration
	Take   []Taking
	Skip   int // so many steps after this one are skipped, too
}

// Pages leads through an answer of several pages.
type Pages struct {
	Next   *extract.Expression // a link to the next page
	Cursor *extract.Expression // a value that asks for the next page, in the query As
	As     string
	Offset string // name in the query, which grows by Size
	Size   int
	Most   int
}

// Download keeps what a request gives, or what links in its answer lead to.
type Download struct {
	Each            *extract.Expression // links; nil: the answer itself
	Name, Size, Sum *extract.Expression // in the order of Each; nil: as the answer says
	Into            string              // one file for all pages
	Rows            *extract.Expression // JSON: each value is a line of it; nil: the answer as it is
	Remove          bool                // each is removed on the device once it was taken, by DELETE of its link
}

// Kind is the key that chooses this kind.
func (Steps) Kind() string { return "steps" }

// Defaults of polling.
const (
	DefaultEvery    = 5 * time.Second
	DefaultPollMost = time.Hour
)

var webVerbs = []string{"get", "post", "put", "delete", "poll"}

// webField is a placeholder of a step.
var webField = late.Pattern(`\{([A-Za-z][A-Za-z0-9_-]*)\}`)

// WebFields are the placeholders that every step knows.
var WebFields = []string{"from", "to", "case", "title", "depth", "system"}

// FillWeb replaces the placeholders of a text.
func FillWeb(text string, value func(name string) (string, bool)) (string, error) {
	var missing error
	out := webField().ReplaceAllStringFunc(text, func(p string) string {
		v, ok := value(p[1 : len(p)-1])
		if !ok && missing == nil {
			missing = fmt.Errorf("%s has no value", p)
		}
		return v
	})
	return out, missing
}

// WebNames lists the placeholders of a text.
func WebNames(text string) (out []string) {
	for _, m := range webField().FindAllStringSubmatch(text, -1) {
		out = append(out, m[1])
	}
	return out
}

// Sheet says what would be asked.
func (s Steps) Sheet() []string {
	var lines []string
	for i, step := range s.List {
		verb := step.Method
		if step.Poll != nil {
			verb = fmt.Sprintf("ask every %s, at most %s:", short(step.Poll.Every), short(step.Poll.Most))
		}
		line := fmt.Sprintf("step %d: %s %s", i+1, verb, step.Path)
		if step.JSON != nil || len(step.Form)+len(step.Parts) > 0 {
			line += ", with data"
		}
		if step.Method == "DELETE" || step.Download != nil && step.Download.Remove {
			line += ", AND REMOVE WHAT IT NAMES ON THE DEVICE"
		}
		if step.Instead != nil {
			line += fmt.Sprintf("; or take what %s lists of the last %s", step.Instead.Path, short(step.Instead.Within))
		}
		if step.Download != nil {
			line += ", and download what it gives"
		}
		lines = append(lines, line)
	}
	return lines
}

// Removes reports whether a step removes something on the device.
func (s Steps) Removes() bool {
	return slices.ContainsFunc(s.List, func(w WebStep) bool { return w.Method == "DELETE" || w.Download != nil && w.Download.Remove })
}

// stepsReader reads steps, knowing which values those before took.
type stepsReader struct{ known []string }

func readSteps(m *keyfile.Map) Spec {
	s := Steps{Max: m.Size("max", 0), Cut: m.Choice("cut", "none", "lines")}
	s.TimeFormat, s.Zone = timeKeys(m, nil)
	r := &stepsReader{known: slices.Clone(WebFields)}
	maps := m.Maps("steps")
	if len(maps) == 0 {
		m.Problem("steps: names no step")
	}
	for i, sm := range maps {
		if i == MaxItems {
			sm.Problem("steps: more than %d", MaxItems)
			break
		}
		s.List = append(s.List, r.read(sm))
		sm.Done()
	}
	return s
}

func (r *stepsReader) read(m *keyfile.Map) WebStep {
	w := WebStep{Depth: Light}
	for _, verb := range webVerbs {
		v := m.Value(verb)
		if !v.Set() {
			continue
		}
		if w.Method != "" {
			v.Problem("a step is one of %s", strings.Join(webVerbs, ", "))
		}
		w.Method, w.Path = strings.ToUpper(verb), r.path(verb, v)
		if verb == "poll" {
			w.Method = "GET"
			w.Poll = r.poll(m)
		}
	}
	if w.Method == "" {
		m.Problem("steps: say what is asked, with one of: %s", strings.Join(webVerbs, ", "))
	}
	w.Query, w.Headers = r.pairs(m, "query"), r.pairs(m, "headers")
	w.Form, w.Parts = r.pairs(m, "form"), r.pairs(m, "multipart")
	if tree, ok := m.Tree("json"); ok {
		w.JSON = tree
		r.checkTree(m, tree)
	}
	if v := m.Value("depth"); v.Set() {
		d, err := ParseDepth(v.Text)
		if err != nil {
			v.Problem("depth: %v", err)
		}
		w.Depth = d
	}
	if em := m.Map("expect"); em != nil {
		w.Expect = r.expect(em)
		em.Done()
	}
	if im := m.Map("instead"); im != nil {
		w.Instead = r.instead(im)
		im.Done()
	}
	if pm := m.Map("pages"); pm != nil {
		w.Pages = r.pages(pm)
		pm.Done()
	}
	w.Download = r.download(m)
	w.Take = r.take(m)
	return w
}

// path checks where a request goes: on the device itself, or to a link that it gave.
func (r *stepsReader) path(key string, v keyfile.Value) string {
	link := regexp.MustCompile(`^\{[A-Za-z0-9_-]+\}$`).MatchString(v.Text)
	if !link && (!strings.HasPrefix(v.Text, "/") || strings.HasPrefix(v.Text, "//") || strings.ContainsAny(v.Text, " \\\r\n\t#")) {
		v.Problem("%s: expected a path on the device, such as /api/jobs, or {NAME} of a link that it gave, found %q", key, v.Text)
	}
	r.check(v, v.Text)
	return v.Text
}

func (r *stepsReader) check(v keyfile.Value, text string) {
	for _, name := range WebNames(text) {
		if !slices.Contains(r.known, name) {
			v.Problem("{%s} is not known here; there are {%s}", name, strings.Join(r.known, "}, {"))
		}
	}
}

func (r *stepsReader) checkTree(m *keyfile.Map, tree any) {
	switch x := tree.(type) {
	case string:
		for _, name := range WebNames(x) {
			if !slices.Contains(r.known, name) {
				m.Problem("json: {%s} is not known here; there are {%s}", name, strings.Join(r.known, "}, {"))
			}
		}
	case []any:
		for _, y := range x {
			r.checkTree(m, y)
		}
	case map[string]any:
		for _, y := range x {
			r.checkTree(m, y)
		}
	}
}

func (r *stepsReader) pairs(m *keyfile.Map, key string) (out []Pair) {
	pm := m.Map(key)
	if pm == nil {
		return nil
	}
	for _, k := range pm.Keys() {
		v := pm.Value(k)
		r.check(v, v.Text)
		out = append(out, Pair{k, v.Text})
	}
	pm.Done()
	return out
}

func expression(key string, v keyfile.Value) *extract.Expression {
	if !v.Set() {
		return nil
	}
	e, err := extract.Parse(v.Text)
	if err != nil {
		v.Problem("%s: %q is no usable expression: %v", key, v.Text, err)
	}
	return e
}

func (r *stepsReader) take(m *keyfile.Map) (out []Taking) {
	tm := m.Map("take")
	if tm == nil {
		return nil
	}
	for _, k := range tm.Keys() {
		v := tm.Value(k)
		if !word().MatchString(k) || slices.Contains(WebFields, k) {
			v.Problem("take: expected a word that has no meaning yet, found %q", k)
		}
		out = append(out, Taking{k, expression("take", v)})
		r.known = append(r.known, k)
	}
	tm.Done()
	return out
}

func (r *stepsReader) poll(m *keyfile.Map) *Poll {
	p := &Poll{Until: expression("until", m.Need("until")), Failed: expression("failed-when", m.Value("failed-when")),
		Progress: expression("progress", m.Value("progress")), Every: m.Duration("every", DefaultEvery),
		Most: m.Duration("at-most", DefaultPollMost)}
	return p
}

func (r *stepsReader) expect(m *keyfile.Map) WebExpect {
	x := WebExpect{Type: m.Choice("type", "", "json", "html", "xml", "text"), Holds: pattern(m.Value("holds"), "holds"),
		Value: expression("value", m.Value("value"))}
	for _, v := range m.Strings("status") {
		n := 0
		if _, err := fmt.Sscanf(v.Text, "%d", &n); err != nil || n < 100 || n > 599 {
			v.Problem("status: expected a number from 100 to 599, found %q", v.Text)
		}
		x.Status = append(x.Status, n)
	}
	return x
}

func (r *stepsReader) instead(m *keyfile.Map) *Instead {
	x := &Instead{Path: r.path("get", m.Need("get")), Each: expression("each", m.Need("each")),
		Where: expression("where", m.Value("where")), Made: expression("made", m.Need("made")), Within: m.Duration("within", 24*time.Hour),
		Skip: m.Int("skip", 0, MaxItems, 1)}
	x.Take = r.take(m)
	return x
}

func (r *stepsReader) pages(m *keyfile.Map) *Pages {
	p := &Pages{Next: expression("next", m.Value("next")), Cursor: expression("cursor", m.Value("cursor")), As: m.String("as"),
		Offset: m.String("offset"), Size: m.Int("size", 1, 1_000_000, 100), Most: m.Int("most", 1, 1_000_000, 10_000)}
	given := 0
	for _, is := range []bool{p.Next != nil, p.Cursor != nil, p.Offset != ""} {
		if is {
			given++
		}
	}
	if given != 1 || p.Cursor != nil && p.As == "" {
		m.Problem("pages: say how they are turned, with one of: next, cursor (with as), offset (with size)")
	}
	return p
}

func (r *stepsReader) download(m *keyfile.Map) *Download {
	d := &Download{Each: expression("each", m.Value("each")), Name: expression("name", m.Value("name")),
		Size: expression("size", m.Value("size")), Sum: expression("sha256", m.Value("sha256")), Rows: expression("rows", m.Value("rows")),
		Remove: m.Bool("remove", false)}
	if v := m.Value("into"); v.Set() {
		d.Into = v.Text
		if rest := intoField().ReplaceAllString(v.Text, "x"); strings.ContainsAny(rest, `/\{}`) || strings.HasPrefix(rest, ".") {
			v.Problem("into: expected a file name (placeholders: {date}, {system}, {case}), found %q", v.Text)
		}
	}
	if m.Bool("download", false) || d.Into != "" {
		return d
	}
	if d.Each != nil || d.Name != nil || d.Size != nil || d.Sum != nil || d.Rows != nil || d.Remove {
		m.Problem("each:, name:, size:, sha256:, rows: and remove: go with download: yes")
	}
	return nil
}
