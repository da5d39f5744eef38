package redact

import (
	"io"
	"strings"

	"envask/internal/redact/alias"
	"envask/internal/redact/find"
	"envask/internal/redact/form"
)

// File redacts one file of any form. A file that cannot be read at all is not written unless the source says so:
// Result.Unreadable tells, and the caller decides. A nil w only learns.
func (e *Engine) File(w io.Writer, r io.Reader, in Source) (Result, error) {
	e.sampler, e.tally, e.place = in.Sampler, in.Tally, in.Place
	return e.opener.File(w, r, form.Source{Name: in.Name, Unread: in.Unread, Within: in.Within, Opaque: in.Opaque, Once: in.Once})
}

// worker does with what stands in files what the engine is there for.
type worker struct{ e *Engine }

func (k worker) Text(w io.Writer, r io.Reader, name string) (Counts, error) {
	k.e.bare = bareStyle(name)
	defer func() { k.e.bare = asIs }()
	return k.e.Text(w, r)
}

func (k worker) Short(text string) (string, Counts) { return k.e.clean(text) }

func (k worker) Searches() bool { return k.e.scan != nil }

func (k worker) Unread(r io.Reader) error { return k.e.scan.opaque(k.e, r) }

// Secret gives the placeholder of a rule for a value, which is learned.
func (k worker) Secret(rule, value string) (instead string, replaced bool) {
	e := k.e
	if e.scan != nil {
		e.scan.text(e, value)
		return "", false
	}
	if find.IsPlaceholder([]byte(value)) || e.ignore[value] || e.options.Config.Keeps(alias.Secret, rule) {
		return "", false
	}
	if e.learned != nil {
		e.learn(&finding{class: alias.Secret, rule: rule}, []byte(value))
	}
	return Placeholder(rule), true
}

// Identity gives the alias of an identity, which is learned.
func (k worker) Identity(class alias.Class, rule, text string) (instead string, replaced bool) {
	return k.e.identity(class, rule, text)
}

const (
	asIs   style = iota
	yamlly       // YAML: what begins with [ is a list, so a placeholder must be quoted
	tomlly       // TOML: a value without quotes is a number or a date
)

func bareStyle(name string) style {
	switch name = strings.ToLower(name); {
	case strings.HasSuffix(name, ".yaml"), strings.HasSuffix(name, ".yml"):
		return yamlly
	case strings.HasSuffix(name, ".toml"):
		return tomlly
	}
	return asIs
}
