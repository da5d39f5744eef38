package redact

import "envask/internal/redact/alias"

// tell hands a finding to whoever counts.
func (e *Engine) tell(b []byte, f finding) {
	t := Told{Value: alias.Value{Text: f.original, Class: f.class, Rule: f.rule}, Taught: f.by != nil, Offset: -1}
	if t.Text == "" {
		t.Text = string(b[f.start:f.end])
	}
	if e.opener.Opened() == "" && e.opener.Member() == "" && int64(len(t.Text)) == int64(f.end-f.start) {
		t.Offset = e.mark + e.base + int64(f.start)
	}
	e.tally(t)
}
