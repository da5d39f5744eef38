// Package redact finds what must not leave a site (secrets and identities) and replaces it: secrets by a placeholder,
// identities by stable aliases.
package redact
