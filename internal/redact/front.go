package redact

import (
	"bufio"
	"io"

	"envask/internal/redact/alias"
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

// Reveal copies a text with the aliases of a table turned back into their originals, and gives how many there were.
func Reveal(t *Table, w *bufio.Writer, r io.Reader) (int, error) { return alias.Reveal(t, w, r) }
