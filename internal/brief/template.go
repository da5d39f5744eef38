package brief

import (
	"bytes"
	"envask/internal/late"
	"errors"
	"fmt"
	"io"
	"strings"
	"text/template"
	"text/template/parse"
)

// Bounds of a template: what it may print, in bytes.
const (
	maxPrinted = 1 << 20
)

// errTooLong is the failure of a template that prints without end.
var errTooLong = errors.New("it prints more than 1 MiB")

// templateData is what a template knows: the write-up, and nothing of the machine.
type templateData struct {
	Case, Title, Vendor, Site, Window string
	Fields                            []templateField // with an answer, in their order

	b Brief
}

type templateField struct{ ID, Text, Answer, From string }

// Field gives the answer of a field, "" where it has none.
func (d templateData) Field(id string) string { return d.b.Value(id) }

// Steps gives the lines of an answer.
func (d templateData) Lines(id string) []string {
	return strings.Split(strings.TrimSpace(d.b.Value(id)), "\n")
}

// ByTemplate writes the write-up by a template (Go text/template). It knows the write-up alone: no function of it reads a file, the
// environment or the network, and what prints or calls itself without end is stopped.
func (b Brief) ByTemplate(w io.Writer, name, text string) error {
	t, err := template.New(name).Option("missingkey=error").Funcs(template.FuncMap{"printf": printf}).Parse(text)
	if err != nil {
		return err
	}
	if err := noRecursion(t); err != nil {
		return err
	}
	d := templateData{Case: b.Case, Title: b.Title, Vendor: b.Vendor, Site: b.Site, Window: b.Window, b: b}
	for _, f := range b.Fields() {
		if answer := b.Value(f.ID); answer != "" {
			d.Fields = append(d.Fields, templateField{f.ID, f.Text, answer, b.From[f.ID]})
		}
	}
	var out bounded
	if err := t.Execute(&out, d); err != nil {
		return err
	}
	_, err = w.Write(out.Bytes())
	return err
}

// wide finds a width or a precision in a format that would fill the memory.
var wide = late.Pattern(`%[^a-zA-Z%]*(?:[0-9]{4,}|\*)`)

func printf(format string, args ...any) (string, error) {
	if wide().MatchString(format) {
		return "", fmt.Errorf("the format %q is too wide", format)
	}
	return fmt.Sprintf(format, args...), nil
}

// bounded is a buffer that takes so much and no more.
type bounded struct{ bytes.Buffer }

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > maxPrinted {
		return 0, errTooLong
	}
	return b.Buffer.Write(p)
}

// noRecursion refuses templates that call each other in a circle, or that loop over a number: they need not end.
func noRecursion(t *template.Template) error {
	calls := map[string][]string{}
	var odd error
	var walk func(from string, n parse.Node)
	walkList := func(from string, l *parse.ListNode) {
		if l != nil {
			for _, x := range l.Nodes {
				walk(from, x)
			}
		}
	}
	walk = func(from string, n parse.Node) {
		switch n := n.(type) {
		case *parse.ListNode:
			walkList(from, n)
		case *parse.TemplateNode:
			calls[from] = append(calls[from], n.Name)
		case *parse.IfNode:
			walkList(from, n.List)
			walkList(from, n.ElseList)
		case *parse.WithNode:
			walkList(from, n.List)
			walkList(from, n.ElseList)
		case *parse.RangeNode:
			if !overFields(n) {
				odd = fmt.Errorf("line %d: range goes over .Fields and .Lines \"ID\" alone", n.Line)
			}
			walkList(from, n.List)
			walkList(from, n.ElseList)
		}
	}
	for _, x := range t.Templates() {
		if x.Tree != nil {
			walk(x.Name(), x.Tree.Root)
		}
	}
	var seen func(name string, path []string) error
	seen = func(name string, path []string) error {
		for _, p := range path {
			if p == name {
				return fmt.Errorf("the template %q calls itself", name)
			}
		}
		for _, c := range calls[name] {
			if err := seen(c, append(path, name)); err != nil {
				return err
			}
		}
		return nil
	}
	for name := range calls {
		if err := seen(name, nil); err != nil {
			return err
		}
	}
	return odd
}

// overFields reports whether a loop goes over the fields or the lines of one.
func overFields(n *parse.RangeNode) bool {
	if len(n.Pipe.Cmds) != 1 || len(n.Pipe.Cmds[0].Args) == 0 {
		return false
	}
	switch first := n.Pipe.Cmds[0].Args[0].(type) {
	case *parse.FieldNode:
		return len(first.Ident) == 1 && (first.Ident[0] == "Fields" || first.Ident[0] == "Lines")
	case *parse.VariableNode:
		return len(first.Ident) == 2 && first.Ident[0] == "$" && (first.Ident[1] == "Fields" || first.Ident[1] == "Lines")
	}
	return false
}
