package alias

import (
	"net/netip"
	"strings"
)

// Value is one learned original.
type Value struct {
	Text  string
	Class Class
	Rule  string
}

// Possible reports whether a text can be what its class says. One that was found always is; what stands at a place in a file that was
// changed since need not be.
func (v Value) Possible() bool {
	switch v.Class {
	case IPv4, IPv6:
		a, err := netip.ParseAddr(canonical(v.Class, v.Text))
		return err == nil && (a.Is4() || v.Class == IPv6)
	case Mail:
		return strings.Contains(canonical(Mail, v.Text), "@")
	}
	return v.Text != ""
}

// Class says what a finding is, and with that, what stands in its place.
type Class string

// The classes. A Secret becomes [redacted:RULE]; every other class is an identity and becomes an alias.
const (
	Secret Class = "secret"
	IPv4   Class = "ipv4"
	IPv6   Class = "ipv6"
	Mail   Class = "mail"
	User   Class = "user"
	Host   Class = "host"
	MAC    Class = "mac"
	Phone  Class = "phone"
	Card   Class = "card"
	IBAN   Class = "iban"
	ID     Class = "id" // of rules of the engineer's own, such as the numbers of passes
)
