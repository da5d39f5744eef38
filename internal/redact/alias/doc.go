// Package alias keeps the made-up names that stand for identities: which class a finding is of, the table of a case, the reserved forms of
// aliases, and the way back.
package alias
