package redact

import (
	"envask/internal/redact/alias"
	"envask/internal/redact/find"
	"envask/internal/redact/form"
	"envask/internal/redact/learn"
)

// What users of redaction need of the table of aliases, under the name of redaction.
type (
	// Class says what a finding is.
	Class = alias.Class
	// Value is one learned original.
	Value = alias.Value
	// Table is a case's table of aliases.
	Table = alias.Table
	// Alias is one line of the table.
	Alias = alias.Alias
)

// The classes. A Secret becomes [redacted:RULE]; every other class is an identity and becomes an alias.
const (
	Secret = alias.Secret
	IPv4   = alias.IPv4
	IPv6   = alias.IPv6
	Mail   = alias.Mail
	User   = alias.User
	Host   = alias.Host
	MAC    = alias.MAC
	Phone  = alias.Phone
	Card   = alias.Card
	IBAN   = alias.IBAN
	ID     = alias.ID
)

// NewTable makes an empty table.
func NewTable() *Table { return alias.NewTable() }

// LoadTable reads a table; a file that is not there is an empty table.
func LoadTable(file string) (*Table, error) { return alias.LoadTable(file) }

// What users of redaction need of what is learned, under the name of redaction.
type (
	// Learned is what rules found.
	Learned = learn.Set
	// Matcher finds learned values anywhere in text.
	Matcher = learn.Matcher
)

// The limits of what is learned, in bytes.
const (
	MinName      = learn.MinName
	MinPlainName = learn.MinPlainName
	MaxLearned   = learn.MaxLearned
)

// LiteralRule is the rule that texts of the engineer's own count for, HeldRule that of passwords, tokens and passphrases that we ourselves
// hold for systems and routes.
const (
	LiteralRule = learn.LiteralRule
	HeldRule    = learn.HeldRule
)

// NewLearned makes an empty set; the words of the given texts are common in this case.
func NewLearned(texts ...string) *Learned { return learn.New(ruleOrder, texts...) }

// NewMatcher makes a matcher of learned values.
func NewMatcher(values []Value) *Matcher { return learn.NewMatcher(values) }

// PathWords gives the words of a path, in small letters: parts of it name programs and things.
func PathWords(name string) []string { return learn.PathWords(name) }

func ruleOrder(name string) int {
	for i := range Rules {
		if Rules[i].Name == name {
			return i
		}
	}
	return len(Rules)
}

// What users of redaction need of the forms of files, under the name of redaction.
type (
	// Form says how a file was looked at.
	Form = form.Kind
	// Result is what became of one file.
	Result = form.Result
	// Counts is how many findings each rule had.
	Counts = form.Counts
)

// The forms that users tell apart.
const (
	Plain  = form.Plain
	Image  = form.Image
	Opaque = form.Opaque
)

// Placeholder is what stands in the place of a secret.
func Placeholder(rule string) string { return find.Placeholder(rule) }
