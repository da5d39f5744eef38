package find

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// pluralAccounts end keys whose values are lists of accounts.
var pluralAccounts = chars.WordSet(`users authusers validusers members admins administrators operators owners accounts logins usernames
	approvers reviewers
	assignees watchers participants recipients userlist memberuid memberuids allowusers denyusers superusers subscribers maintainers
	collaborators developers managers supervisors escalation escalations oncall staff engineers technicians drivers contacts`)

// pluralEnds are the last letters of these.
var pluralEnds = []string{"rs", "ns", "ts", "es", "st", "id", "ds", "on", "ll", "ff"}

// mostListed bounds the accounts of a list, and listedFar how far behind its key it may go on, in bytes.
const (
	mostListed = 500
	listedFar  = 16 << 10
)

// AccountLists finds the accounts in lists whose key says that it has some: users = a, b and "members": ["a", "b"] and the items of
// a block below admins:. All items of a list on one line must look like accounts: else it is a sentence.
func AccountLists(b []byte, from, to int, found func(start, end int)) {
	for at := from; at < to; at++ {
		if b[at] != ':' && b[at] != '=' || at < 3 {
			continue
		}
		end := at
		for end > from && (chars.IsSpace(b[end-1]) || isQuote(b[end-1])) {
			end--
		}
		start := end
		for start > from && end-start < chars.MaxKey && (chars.IsKeyByte(b[start-1])) {
			start--
		}
		if !isPluralKey(b[start:end]) || start > from && b[start-1] == ' ' && !beginsLine(b, start) {
			continue
		}
		switch next := pastBlanks(b[:to], at+1); {
		case next >= to:
		case b[next] == '[':
			at = max(at, listInBrackets(b[:min(to, next+listedFar)], next+1, found))
		case b[next] == '\n' || b[next] == '\r':
			listOfItems(b[:min(to, next+listedFar)], next, blanksBefore(b, start), found)
		default:
			listOnLine(b[:to], next, found)
		}
	}
}

// isPluralKey says whether the last word of a key is one for several accounts.
func isPluralKey(key []byte) bool {
	if len(key) < 5 {
		return false
	}
	last, any := string(bytes.ToLower(key[len(key)-2:])), false
	for _, e := range pluralEnds {
		any = any || e == last
	}
	return any && (pluralAccounts.Has(chars.LastWord(key)) || pluralAccounts.HasBytes(bytes.ToLower(key)))
}

// beginsLine says whether a key of two words stands first in its line: valid users = …
func beginsLine(b []byte, at int) bool {
	before := bytes.TrimSpace(b[chars.LineStart(b, at):at])
	return len(before) < 24 && bytes.IndexByte(before, ' ') < 0 && chars.IsAllLetters(before)
}

// blanksBefore says how far the line of a place is indented.
func blanksBefore(b []byte, at int) int {
	line := chars.LineStart(b, at)
	return pastBlanks(b, line) - line
}

func isQuote(c byte) bool { return c == '"' || c == '\'' }

func pastBlanks(b []byte, at int) int {
	for at < len(b) && chars.IsSpace(b[at]) {
		at++
	}
	return at
}

// listInBrackets reads a list of JSON or TOML, and gives where it ends.
func listInBrackets(b []byte, at int, found func(start, end int)) int {
	for n := 0; at < len(b) && b[at] != ']' && n < mostListed; n++ {
		start := at
		for start < len(b) && (chars.IsBlank(b[start]) || b[start] == ',') {
			start++
		}
		if start >= len(b) || b[start] == ']' || b[start] == '{' || b[start] == '[' {
			return start
		}
		end := start
		if isQuote(b[start]) {
			start++
			i := bytes.IndexByte(b[start:], b[start-1])
			if i < 0 {
				return len(b)
			}
			end, at = start+i, start+i+1
		} else {
			for end < len(b) && bytes.IndexByte([]byte(",]\n"), b[end]) < 0 {
				end++
			}
			at = max(end, start+1)
		}
		if listedAccount(bytes.TrimSpace(b[start:end])) {
			found(start, end)
		}
	}
	return at
}

// listOfItems reads the items of a block of YAML that is indented at least as its key is.
func listOfItems(b []byte, at, indent int, found func(start, end int)) {
	for n := 0; at < len(b) && n < mostListed; n++ {
		line := bytes.IndexByte(b[at:], '\n')
		if line < 0 {
			return
		}
		at += line + 1
		item := pastBlanks(b, at)
		if item-at < indent || item+2 >= len(b) || b[item] != '-' || b[item+1] != ' ' {
			return
		}
		start, end := pastBlanks(b, item+1), at+len(chars.LineFrom(b, at))
		for end > start && chars.IsBlank(b[end-1]) {
			end--
		}
		if end-start > 2 && isQuote(b[start]) && b[end-1] == b[start] {
			start, end = start+1, end-1
		}
		if listedAccount(b[start:end]) {
			found(start, end)
		}
	}
}

// listOnLine reads a list between commas or blanks, of which every item must look like an account, or like a group, which stays.
func listOnLine(b []byte, at int, found func(start, end int)) {
	line := chars.LineFrom(b, at)
	if line = bytes.TrimRight(line, " \t\r"); len(line) > 2 && isQuote(line[0]) && line[len(line)-1] == line[0] {
		line, at = line[1:len(line)-1], at+1
	}
	if n := bytes.IndexByte(line, ')'); n > 3 && bytes.HasPrefix(line, []byte("qw(")) { // of Perl
		line, at = line[3:n], at+3
	}
	var items [][2]int
	for i := 0; i < len(line); {
		end := i
		for end < len(line) && bytes.IndexByte([]byte(" ,;\t"), line[end]) < 0 {
			end++
		}
		if w := line[i:end]; len(w) > 0 && w[0] != '@' && w[0] != '%' && w[0] != '+' && w[0] != '&' && string(w) != "root" {
			if !listedAccount(w) || len(items) == mostListed {
				return
			}
			items = append(items, [2]int{at + i, at + end})
		}
		i = end + 1
	}
	for _, item := range items {
		found(item[0], item[1])
	}
}

// listedAccount says whether a word of a list of accounts is one: no word of everybody.
func listedAccount(w []byte) bool {
	if len(w) < 3 || len(w) > 40 || !IsPerson(w) || BeginsWithAlias(w) {
		return false
	}
	if chars.NameAt(w, 0) != len(w) {
		return IsGivenName(w)
	}
	return !chars.IsAllDigits(w) && (bytes.IndexByte(w, '_') > 0 || IsLoginWord(w) || IsAccountWord(w) || IsServiceAccount(w))
}

// IsServiceAccount says whether a word is joined as accounts of services are, of which one part is no word of everybody, or is one of
// those that such accounts have: fare_app, svc-gate.
func IsServiceAccount(w []byte) bool {
	parts := bytes.FieldsFunc(w, func(r rune) bool { return r == '_' || r == '-' || r == '.' })
	if len(parts) < 2 || len(parts) > 3 {
		return false
	}
	for _, c := range w {
		if chars.IsUpper(c) {
			return false
		}
	}
	return lexicon.ServiceParts.HasBytes(parts[0]) || lexicon.ServiceParts.HasBytes(parts[len(parts)-1])
}
