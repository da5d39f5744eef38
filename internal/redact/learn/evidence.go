package learn

import (
	"bytes"
	"strings"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// A value that was found at one place is removed everywhere only when the evidence for it is strong: what it looks like itself, or who
// says so. One weak find must not take a common word out of every path, class and file name.

// Unmistakable reports whether a secret is removed also within longer words.
func Unmistakable(text string) bool { return len(text) >= 12 && find.KindsIn(text) >= 3 }

// withinName reports whether a plain word stands as part of a path, class, package, unit or file name.
func withinName(b []byte, at, end int) bool {
	if end+1 < len(b) && isJoint(b[end]) && chars.IsWord(b[end+1]) {
		return true
	}
	switch {
	case at == 0, at >= 2 && b[at-1] == '\\' && ofDomain(b, at-1):
		return false
	case b[at-1] == '/' || b[at-1] == '_':
		return true
	}
	return at >= 2 && isJoint(b[at-1]) && chars.IsWord(b[at-2])
}

// isJoint reports whether a sign joins the parts of paths and names.
func isJoint(c byte) bool { return c == '/' || c == '\\' || c == '.' || c == '-' || c == '_' }

// ofDomain reports whether what stands before a backslash is the domain of an account, and no folder: MERROWICK\\mzielonka.
func ofDomain(b []byte, at int) bool {
	start := at
	for start > 0 && (chars.IsWord(b[start-1]) || b[start-1] == '-') {
		start--
	}
	return start < at && chars.IsUpper(b[start]) && (start == 0 || bytes.IndexByte([]byte(` "'(=[,;<>\t`+"\n"), b[start-1]) >= 0)
}

// ofPerson reports whether a word in a path names whose something is, by the part before it: /api/users/NAME.
func ofPerson(b []byte, at, end int) bool {
	if at < 6 || b[at-1] != '/' || end < len(b) && (chars.IsWord(b[end]) || b[end] == '.' || b[end] == '-') {
		return false
	}
	start := at - 1
	for start > 0 && chars.IsWord(b[start-1]) {
		start--
	}
	return homesOf.HasBytes(bytes.ToLower(b[start : at-1]))
}

// homesOf are folders in which each folder is called like a person.
var homesOf = chars.WordSet(`home homes users user profiles profile people accounts account members`)

// PathWords gives the words of a path, in small letters: parts of it name programs and things. Those that name whose folder it is are
// left out.
func PathWords(name string) (words []string) {
	person := false
	for _, part := range strings.FieldsFunc(name, func(r rune) bool { return r == '/' || r == '\\' }) {
		if person {
			person = false
			continue
		}
		person = homesOf.Has(strings.ToLower(part))
		for _, w := range strings.FieldsFunc(part, func(r rune) bool { return r < 0x80 && !chars.IsWord(byte(r)) }) {
			words = append(words, strings.ToLower(w))
		}
	}
	return words
}
