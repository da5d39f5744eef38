// Package extract takes values out of answers of web interfaces: JSON by the expressions of jq, HTML and XML by XPath (W3C, version 1.0),
// texts by regular expressions, and headers by their names.
package extract

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/antchfx/htmlquery"
	"github.com/antchfx/xmlquery"
	"github.com/antchfx/xpath"
	"github.com/go-json-experiment/json/v1"
	"github.com/itchyny/gojq"
)

// Kinds of expressions, by what stands in front of them; without that it is one of jq.
const (
	byXPath  = "xpath:"
	byText   = "text:"
	byHeader = "header:"
)

// Expression takes values out of an answer.
type Expression struct {
	Text   string
	code   *gojq.Code
	path   *xpath.Expr
	text   *regexp.Regexp
	header string
}

// Bounds of evaluating one expression.
const (
	mostTime   = 5 * time.Second
	mostValues = 100_000
	mostValue  = 64 << 10 // bytes of one value
)

// Parse reads an expression.
func Parse(text string) (*Expression, error) {
	e := &Expression{Text: text}
	var err error
	if rest, ok := strings.CutPrefix(text, byHeader); ok {
		if e.header = strings.TrimSpace(rest); e.header == "" {
			err = errors.New("names no header")
		}
		return e, err
	}
	if rest, ok := strings.CutPrefix(text, byText); ok {
		e.text, err = regexp.Compile(strings.TrimSpace(rest))
		return e, err
	}
	if rest, ok := strings.CutPrefix(text, byXPath); ok {
		e.path, err = xpath.Compile(strings.TrimSpace(rest))
		return e, err
	}
	query, err := gojq.Parse(text)
	if err == nil {
		e.code, err = gojq.Compile(query)
	}
	return e, err
}

// Answer is what a web interface answered.
type Answer struct {
	Header http.Header
	Body   []byte
	json   any
	read   bool
}

// errNotJSON says that an answer is not of the kind that an expression is for.
var errNotJSON = errors.New("the answer is not JSON")

func (a *Answer) document() (any, error) {
	if !a.read {
		a.read = true
		if err := json.Unmarshal(a.Body, &a.json); err != nil {
			a.json = errNotJSON
			if IsHTML(a.Header, a.Body) {
				a.json = errors.New("an HTML page came where JSON was expected")
			}
		}
	}
	if err, bad := a.json.(error); bad {
		return nil, err
	}
	return a.json, nil
}

// IsHTML reports whether an answer is an HTML page.
func IsHTML(h http.Header, body []byte) bool {
	if strings.HasPrefix(h.Get("Content-Type"), "text/html") {
		return true
	}
	begin := bytes.ToLower(bytes.TrimSpace(body[:min(len(body), 512)]))
	return bytes.HasPrefix(begin, []byte("<!doctype html")) || bytes.HasPrefix(begin, []byte("<html"))
}

// Values gives what an expression takes out of an answer, as texts. null and false of jq are left out.
func (e *Expression) Values(ctx context.Context, a *Answer) ([]string, error) {
	switch {
	case e.header != "":
		return a.Header.Values(e.header), nil
	case e.text != nil:
		return e.ofText(string(a.Body)), nil
	case e.path != nil:
		return e.ofTree(a)
	}
	doc, err := a.document()
	if err != nil {
		return nil, err
	}
	return e.ofJSON(ctx, doc)
}

func (e *Expression) ofText(text string) (out []string) {
	for _, m := range e.text.FindAllStringSubmatch(text, mostValues) {
		out = append(out, m[min(1, len(m)-1)])
	}
	return out
}

func (e *Expression) ofTree(a *Answer) (out []string, err error) {
	var at xpath.NodeNavigator
	if IsHTML(a.Header, a.Body) {
		doc, err := htmlquery.Parse(bytes.NewReader(a.Body))
		if err != nil {
			return nil, fmt.Errorf("the page cannot be read: %w", err)
		}
		at = htmlquery.CreateXPathNavigator(doc)
	} else {
		doc, err := xmlquery.Parse(bytes.NewReader(a.Body))
		if err != nil {
			return nil, errors.New("the answer is neither XML nor HTML")
		}
		at = xmlquery.CreateXPathNavigator(doc)
	}
	switch v := e.path.Evaluate(at).(type) {
	case *xpath.NodeIterator:
		for v.MoveNext() && len(out) < mostValues {
			out = append(out, clip(strings.TrimSpace(v.Current().Value())))
		}
	case bool:
		if v {
			out = []string{"true"}
		}
	case float64:
		out = []string{strconv.FormatFloat(v, 'f', -1, 64)}
	case string:
		out = []string{clip(v)}
	}
	return out, nil
}

func (e *Expression) ofJSON(ctx context.Context, doc any) (out []string, err error) {
	ctx, cancel := context.WithTimeout(ctx, mostTime)
	defer cancel()
	defer func() { // an expression on a document of another form
		if p := recover(); p != nil {
			out, err = nil, fmt.Errorf("%s does not fit the answer", e.Text)
		}
	}()
	for iter := e.code.RunWithContext(ctx, doc); len(out) < mostValues; {
		v, ok := iter.Next()
		if !ok {
			return out, nil
		}
		if failed, bad := v.(error); bad {
			return out, fmt.Errorf("%s does not fit the answer: %s", e.Text, plain(failed))
		}
		if text, ok := textOf(v); ok {
			out = append(out, clip(text))
		}
	}
	return out, fmt.Errorf("%s takes more than %d values", e.Text, mostValues)
}

// plain leaves out what an error says of values.
func plain(err error) string {
	text := err.Error()
	return text[:min(len(text), 120)]
}

// textOf gives a value of JSON as a text.
func textOf(v any) (string, bool) {
	switch v := v.(type) {
	case nil:
		return "", false
	case bool:
		return "true", v
	case string:
		return v, true
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), true
	case int:
		return strconv.Itoa(v), true
	}
	data, err := gojq.Marshal(v)
	return string(data), err == nil
}

func clip(s string) string { return s[:min(len(s), mostValue)] }

// First gives the first value, and whether there is one.
func (e *Expression) First(ctx context.Context, a *Answer) (string, bool, error) {
	all, err := e.Values(ctx, a)
	if err != nil || len(all) == 0 {
		return "", false, err
	}
	return all[0], true, nil
}

// Holds reports whether an expression is true of an answer: it takes a value that is not empty.
func (e *Expression) Holds(ctx context.Context, a *Answer) (bool, error) {
	v, ok, err := e.First(ctx, a)
	return ok && v != "", err
}
