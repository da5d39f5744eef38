package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Owners in the listings of systems: terminals, accounts, files, schedules and requests.

// LookBehind is how far finds look back at most, in bytes.
const LookBehind = 512

// userOfTerminal finds the name at the beginning of a line about a terminal: NAME pts/0.
func userOfTerminal(b []byte, at int) (int, int, bool) {
	if at < 6 || string(b[at-3:at]) != "pts" || !chars.IsSpace(b[at-4]) {
		return 0, 0, false
	}
	end := at - 4
	for end > 0 && chars.IsSpace(b[end-1]) {
		end--
	}
	if start, end, ok := userOfJob(b, at-len("pts")); ok {
		return start, end, true
	}
	start := chars.NameBefore(b, end)
	return start, end, start == 0 || opensMessage(b, start)
}

// userOfPasswd finds the account and the full name in the lines of /etc/passwd: NAME:x:1002:1002:FULL NAME,…:/home/…
func userOfPasswd(b []byte, at int) (int, int, bool) {
	group := at > 0 && chars.IsDigit(b[at-1]) // the full name stands behind the number of the group
	if !group && (at+2 >= len(b) || b[at+2] != ':') {
		return 0, 0, false
	}
	first := at
	for first > 0 && at-first < chars.MaxPair && !chars.IsBlank(b[first-1]) {
		first--
	}
	if !opensMessage(b, first) {
		return 0, 0, false
	}
	line := b[first:at]
	if at+3 < len(b) && (b[at+1] == 'x' || b[at+1] == '*' || b[at+1] == '!') && b[at+2] == ':' && chars.IsDigit(b[at+3]) {
		if members := chars.LineFrom(b, at+3); bytes.Count(members, []byte(":")) == 1 { // NAME:x:1002:MEMBER,… of /etc/group
			start := at + 4 + bytes.IndexByte(members, ':')
			return start, chars.NameAt(b, start), true
		}
		return first, at, len(line) > 1 && chars.NameAt(b, first) == at && !isServiceEntry(chars.LineFrom(b, at))
	}
	if !group {
		return 0, 0, false
	}
	return fullNameOfPasswd(b, at, line)
}

// fullNameOfPasswd finds the full name behind the number of the group: NAME:x:1003:1003:First Last,….
func fullNameOfPasswd(b []byte, at int, line []byte) (int, int, bool) {
	if bytes.Count(line, []byte(":")) != 3 {
		return 0, 0, false
	}
	parts := bytes.Split(line, []byte(":"))
	if !chars.IsAllDigits(parts[2]) || !chars.IsAllDigits(parts[3]) || len(parts[1]) != 1 {
		return 0, 0, false
	}
	end := at + 1
	for end < len(b) && end-at < 80 && b[end] != ',' && b[end] != ':' && b[end] != '\n' {
		end++
	}
	return at + 1, end, bytes.IndexByte(b[at+1:end], ' ') > 0 && !chars.HasWord(serviceAccounts, parts[0])
}

// isServiceEntry says whether the rest of a line of /etc/passwd is that of an account with which nobody can log in and that has neither a
// full name nor a home among those of people.
func isServiceEntry(rest []byte) bool {
	parts := bytes.Split(rest, []byte(":"))
	if len(parts) != 7 || len(parts[4]) > 0 || bytes.HasPrefix(parts[5], []byte("/home/")) {
		return false
	}
	shell := parts[6][bytes.LastIndexByte(parts[6], '/')+1:]
	return chars.IsOneOf(shell, "nologin", "false")
}

// Owner finds the owner and the group in the lines of ls -l.
func Owner(b []byte, at, free int) (start, end int, ok bool) {
	if start, end, ok = userOfListing(b, at); !ok && at == free { // behind the owner stands the group, often of the same name
		start, end, ok = groupOfListing(b, at)
	}
	return start, end, ok && start >= free && start < end && IsPerson(b[start:end])
}

// userOfListing finds the owner in a line of ls -l, at the space behind its mode.
func userOfListing(b []byte, at int) (int, int, bool) {
	if at < 10 || b[at-1] != '-' && b[at-1] != 'x' && b[at-1] != '.' && b[at-1] != '+' && b[at-1] != 't' {
		return 0, 0, false
	}
	mode := at - 10
	if b[at-1] == '.' || b[at-1] == '+' || b[at-1] == '@' {
		mode--
	}
	if mode < 0 || bytes.IndexByte([]byte("dl-bcps"), b[mode]) < 0 || mode > 0 && b[mode-1] != '\n' && !chars.IsSpace(b[mode-1]) {
		return 0, 0, false
	}
	for i, c := range b[mode+1 : mode+10] {
		if c != '-' && bytes.IndexByte([][]byte{{'r'}, {'w'}, []byte("xsStT")}[i%3], c) < 0 {
			return 0, 0, false
		}
	}
	words := chars.FieldsAt(b[at:min(len(b), at+96)], at)
	if len(words) < 3 || !chars.IsAllDigits(b[words[0][0]:words[0][1]]) {
		return 0, 0, false
	}
	return words[1][0], words[1][1], true
}

// groupOfListing finds the group behind an owner that ends at a place.
func groupOfListing(b []byte, at int) (int, int, bool) {
	line := b[lineText(b, at):at]
	words := chars.FieldsAt(line, at-len(line))
	if len(words) != 3 || len(line) < 12 || bytes.IndexByte([]byte("dl-bcps"), line[0]) < 0 ||
		!chars.IsAllDigits(b[words[1][0]:words[1][1]]) {
		return 0, 0, false
	}
	if _, _, ok := userOfListing(b, words[0][1]); !ok {
		return 0, 0, false
	}
	start := at
	for start < len(b) && chars.IsSpace(b[start]) {
		start++
	}
	return start, chars.NameAt(b, start), true
}

// userInParentheses finds the name in uid=1001(NAME).
func userInParentheses(b []byte, at int) (int, int, bool) {
	if start, end, ok := userOfCall(b, at); ok {
		return start, end, true
	}
	digits := at
	for digits > 0 && chars.IsDigit(b[digits-1]) {
		digits--
	}
	if digits == at || digits == 0 || b[digits-1] != '=' && b[digits-1] != ',' || bytes.IndexByte(b[max(0, digits-120):digits], '=') < 0 {
		return 0, 0, false
	}
	before := b[chars.LineStart(b, digits):digits]
	if !bytes.Contains(before, []byte("id=")) && !bytes.Contains(before, []byte("groups=")) {
		return 0, 0, false
	}
	end := chars.NameAt(b, at+1)
	return at + 1, end, end < len(b) && b[end] == ')'
}

// userOfCall finds the name that a call is given as its only argument, where its name says so: setUsername("NAME"), CLNTUSER('NAME').
func userOfCall(b []byte, at int) (int, int, bool) {
	if at+3 >= len(b) || b[at+1] != '"' && b[at+1] != '\'' {
		return 0, 0, false
	}
	start := at
	for start > 0 && at-start < chars.MaxKey && chars.IsWord(b[start-1]) {
		start--
	}
	end := chars.NameAt(b, at+2)
	return at + 2, end, end+1 < len(b) && b[end] == b[at+1] && b[end+1] == ')' && at-start > 3 && KindOf(b[start:at])&KeyUser != 0
}

// userBeforeCron finds the name in (NAME) CMD (…) and su's (to root) NAME on.
func userBeforeCron(b []byte, at int) (int, int, bool) {
	rest := b[at+1:]
	if bytes.HasPrefix(rest, []byte(" CMD (")) || bytes.HasPrefix(rest, []byte(" RELOAD (")) ||
		bytes.HasPrefix(rest, []byte(" LIST (")) || bytes.HasPrefix(rest, []byte(" REPLACE (")) ||
		bytes.HasPrefix(rest, []byte(" BEGIN EDIT (")) {
		start := chars.NameBefore(b, at)
		return start, at, start > 0 && b[start-1] == '('
	}
	if len(rest) > 1 && rest[0] == ' ' && bytes.HasSuffix(b[:chars.NameBefore(b, at)], []byte("(to ")) {
		end := chars.NameAt(b, at+2)
		return at + 2, end, bytes.HasPrefix(b[end:], []byte(" on "))
	}
	return 0, 0, false
}

// userOfRequest finds the name of a request in the common log form: ADDRESS - NAME [14/Mar/2026:…
func userOfRequest(b []byte, at int) (int, int, bool) {
	if at < 5 || at+4 > len(b) || b[at-1] != ' ' || !chars.IsDigit(b[min(len(b)-1, at+1)]) || b[at+3] != '/' {
		return 0, 0, false
	}
	start := chars.NameBefore(b, at-1)
	return start, at - 1, start >= 3 && b[start-1] == ' ' && (b[start-2] == '-' || chars.IsDigit(b[start-2]) &&
		bytes.IndexByte(b[max(0, start-5):start-1], '.') >= 0) && at-1-start > 1
}
