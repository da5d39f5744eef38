package collect

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"mime/multipart"
	"net/http"
	"net/url"

	"slices"
	"sort"
	"strings"
	"time"

	"github.com/go-json-experiment/json/v1"

	"envask/internal/ask"
	"envask/internal/extract"
	"envask/internal/late"
	"envask/internal/reach"
	"envask/internal/reach/web"
)

// value gives what a placeholder of a step stands for.
func (s *stepper) value(t turn) func(name string) (string, bool) {
	return func(name string) (string, bool) {
		if v, ok := t[name]; ok {
			return v, true
		}
		if v := s.state.Values[name]; len(v) > 0 {
			return v[0], true
		}
		switch name {
		case "from", "to":
			text, err := s.moment(name, ask.Run{TimeFormat: s.spec.TimeFormat, Zone: s.spec.Zone})
			return text, err == nil
		case "case":
			return s.req.Case, s.req.Case != ""
		case "title":
			return s.req.Title, true
		case "depth":
			return s.req.Depth.String(), true
		case "system":
			return s.sys.Name, true
		}
		return "", false
	}
}

// getTries is how often a request that changes nothing is tried when the connection breaks.
const getTries = 3

// ask sends the request of a step.
func (s *stepper) ask(ctx context.Context, step *ask.WebStep, t turn) (*web.Response, error) {
	r, err := s.request(step, t)
	if err != nil {
		return nil, err
	}
	return s.send(ctx, r)
}

func (s *stepper) send(ctx context.Context, r web.Request) (*web.Response, error) {
	for try := 1; ; try++ {
		res, err := s.client.Do(ctx, r)
		if err == nil || ctx.Err() != nil || r.Method != http.MethodGet || try == getTries || !reach.MayHeal(fmt.Errorf("%w: %w",
			reach.ErrConnection, err)) {
			return res, err
		}
		if err := DefaultPauses.Wait(ctx, try); err != nil {
			return nil, err
		}
	}
}

var aloneLink = late.Pattern(`^\{([A-Za-z][A-Za-z0-9_-]*)\}$`)

// request fills a step in. Values in a path are escaped, so that none leads elsewhere; a link that the device gave is taken as it is.
func (s *stepper) request(step *ask.WebStep, t turn) (web.Request, error) {
	value := s.value(t)
	r := web.Request{Method: step.Method, Header: http.Header{}, Pages: step.Expect.Type == "html"}
	var err error
	if m := aloneLink().FindStringSubmatch(step.Path); m != nil {
		v, ok := value(m[1])
		if !ok {
			return r, fmt.Errorf("{%s} has no value", m[1])
		}
		r.Target = v
	} else if r.Target, err = ask.FillWeb(step.Path, func(name string) (string, bool) {
		v, ok := value(name)
		return url.PathEscape(v), ok
	}); err != nil {
		return r, err
	}
	if len(step.Query) > 0 {
		q, err := filled(step.Query, value)
		if err != nil {
			return r, err
		}
		r.Target = withQuery(r.Target, q)
	}
	for _, h := range step.Headers {
		text, err := ask.FillWeb(h.Text, value)
		if err != nil {
			return r, err
		}
		r.Header.Set(h.Name, strings.NewReplacer("\r", "", "\n", "").Replace(text))
	}
	return r, s.body(step, value, &r)
}

func withQuery(target string, q url.Values) string {
	sep := "?"
	if strings.Contains(target, "?") {
		sep = "&"
	}
	return target + sep + q.Encode()
}

func filled(pairs []ask.Pair, value func(string) (string, bool)) (url.Values, error) {
	out := url.Values{}
	for _, p := range pairs {
		text, err := ask.FillWeb(p.Text, value)
		if err != nil {
			return nil, err
		}
		out.Add(p.Name, text)
	}
	return out, nil
}

// body makes what goes with a request.
func (s *stepper) body(step *ask.WebStep, value func(string) (string, bool), r *web.Request) error {
	switch {
	case step.JSON != nil:
		tree, err := filledTree(step.JSON, value)
		if err != nil {
			return err
		}
		r.Type = "application/json"
		r.Body, err = json.Marshal(tree)
		return err
	case len(step.Form) > 0:
		q, err := filled(step.Form, value)
		r.Type, r.Body = "application/x-www-form-urlencoded", []byte(q.Encode())
		return err
	case len(step.Parts) > 0:
		var b bytes.Buffer
		m := multipart.NewWriter(&b)
		for _, p := range step.Parts {
			text, err := ask.FillWeb(p.Text, value)
			if err == nil {
				err = m.WriteField(p.Name, text)
			}
			if err != nil {
				return err
			}
		}
		err := m.Close()
		r.Type, r.Body = m.FormDataContentType(), b.Bytes()
		return err
	}
	return nil
}

func filledTree(tree any, value func(string) (string, bool)) (any, error) {
	switch x := tree.(type) {
	case string:
		return ask.FillWeb(x, value)
	case []any:
		out := make([]any, len(x))
		for i, y := range x {
			var err error
			if out[i], err = filledTree(y, value); err != nil {
				return nil, err
			}
		}
		return out, nil
	case map[string]any:
		out := map[string]any{}
		for k, y := range x {
			var err error
			if out[k], err = filledTree(y, value); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	return tree, nil
}

// expected holds an answer against what a step expects.
func (s *stepper) expected(ctx context.Context, step *ask.WebStep, res *web.Response, a *extract.Answer) error {
	want := step.Expect
	if err := rightStatus(want, res, a); err != nil {
		return err
	}
	html := extract.IsHTML(a.Header, a.Body)
	switch {
	case want.Type == "html" && !html, want.Type == "json" && !looksLike(a.Body, "{["),
		want.Type == "xml" && (html || !looksLike(a.Body, "<")):
		kind := "something else"
		if html {
			kind = "an HTML page"
		}
		return fmt.Errorf("%s came where %s was expected", kind, strings.ToUpper(want.Type))
	case want.Holds != nil && !want.Holds.Match(a.Body):
		return fmt.Errorf("the answer is not like %s", want.Holds)
	}
	if want.Value != nil {
		ok, err := want.Value.Holds(ctx, a)
		if err != nil {
			return err
		}
		if !ok {
			return fmt.Errorf("the answer does not fit: %s is not true", want.Value.Text)
		}
	}
	return nil
}

func looksLike(body []byte, first string) bool {
	b := bytes.TrimSpace(body)
	return len(b) > 0 && strings.IndexByte(first, b[0]) >= 0
}

// rightStatus says which status came instead of the right one, with what the device says.
func rightStatus(want ask.WebExpect, res *web.Response, a *extract.Answer) error {
	if len(want.Status) == 0 && res.Status >= 200 && res.Status < 300 || slices.Contains(want.Status, res.Status) {
		return nil
	}
	said := ""
	if a != nil && !extract.IsHTML(a.Header, a.Body) {
		said = firstLine(string(a.Body))
	}
	text := withText(strings.TrimSpace(fmt.Sprintf("the device answers %d %s", res.Status, http.StatusText(res.Status))), said)
	if res.Status == http.StatusForbidden || res.Status == http.StatusUnauthorized {
		return fmt.Errorf("%s (%w)", text, fs.ErrPermission)
	}
	return fmt.Errorf("%s", text)
}

// earlierJob is something that a device holds already.
type earlierJob struct {
	answer *extract.Answer
	text   string
	made   time.Time
	fits   bool
}

// earlier lists what a device holds, the newest first.
func (s *stepper) earlier(ctx context.Context, x *ask.Instead) ([]earlierJob, error) {
	res, err := s.ask(ctx, &ask.WebStep{Method: http.MethodGet, Path: x.Path}, nil)
	if err != nil {
		return nil, err
	}
	answer, err := res.Whole()
	if err == nil {
		err = rightStatus(ask.WebExpect{}, res, answer)
	}
	if err != nil {
		return nil, err
	}
	objects, err := x.Each.Values(ctx, answer)
	if err != nil {
		return nil, err
	}
	var out []earlierJob
	for _, text := range objects {
		j := earlierJob{answer: &extract.Answer{Header: http.Header{"Content-Type": {"application/json"}}, Body: []byte(text)},
			text: short(text)}
		made, ok, err := x.Made.First(ctx, j.answer)
		if err != nil || !ok {
			continue // it does not say when
		}
		zone, _ := s.zone()
		if j.made, err = readTime(made, zone); err != nil {
			continue
		}
		good := true
		if x.Where != nil {
			good, _ = x.Where.Holds(ctx, j.answer)
		}
		now := s.now()
		j.fits = good && now.Sub(j.made) <= x.Within && now.Sub(j.made) > -time.Hour
		out = append(out, j)
	}
	sort.SliceStable(out, func(a, b int) bool { return out[a].made.After(out[b].made) })
	return out, nil
}

// now is the time by the device's clock, as far as that is known.
func (s *stepper) now() time.Time {
	if s.clock != nil && s.clock.Measured {
		return time.Now().Add(s.clock.Offset)
	}
	return time.Now()
}

// short bounds a text that is shown.
func short(text string) string {
	return strings.ToValidUTF8(text[:min(len(text), maxSaid)], "")
}

// instead takes the values of what the device holds already, where it fits.
func (s *stepper) instead(ctx context.Context, x *ask.Instead) (bool, error) {
	list, err := s.earlier(ctx, x)
	if err != nil {
		return false, err
	}
	for _, j := range list {
		if !j.fits {
			continue
		}
		for _, t := range x.Take {
			values, err := t.From.Values(ctx, j.answer)
			if err != nil || len(values) == 0 {
				return false, fmt.Errorf("%s takes nothing from what the device holds", t.From.Text)
			}
			s.state.Values[t.Name] = values
		}
		return true, nil
	}
	return false, nil
}
