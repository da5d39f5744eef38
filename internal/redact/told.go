package redact

import (
	"strings"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// tell hands a finding to whoever counts.
func (e *Engine) tell(b []byte, f finding) {
	t := Told{Value: alias.Value{Text: f.original, Class: f.class, Rule: f.rule}, Taught: f.by != nil, Offset: -1}
	if t.Text == "" {
		t.Text = string(b[f.start:f.end])
	}
	if e.opened == "" && e.member == "" && f.coded == nil && int64(len(t.Text)) == int64(f.end-f.start) {
		t.Offset = e.mark + e.base + int64(f.start)
	}
	e.tally(t)
}

// WhyLeft says why a value is replaced at its places only and not wherever it stands; "" when it is removed everywhere.
func (l *Learned) WhyLeft(v alias.Value) string {
	l.mu.Lock()
	_, learned := l.values[v.Text]
	common := l.common[strings.ToLower(v.Text)]
	l.mu.Unlock()
	switch n := len(v.Text); {
	case learned:
		return ""
	case common:
		return "a word of this case: of items, roles, systems or paths"
	case learnable(v):
		return "found on weak evidence"
	case n > MaxLearned || strings.ContainsAny(v.Text, "\r\n"):
		return "too long"
	case n < MinName || v.Class == alias.Secret && n < find.MinSecret:
		return "too short"
	case v.Class == alias.Secret && chars.AllDigits(v.Text):
		return "a number"
	case v.Class == alias.User:
		return "a word that stands for other things, too"
	}
	return "not shaped like a secret"
}
