// Package policy holds what is said about redaction: by an ask, by the engineer for all cases, and for one case. Later ones
// win, and the engineer has the last word.
package policy
