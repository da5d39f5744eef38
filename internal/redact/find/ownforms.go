package find

import (
	"bytes"
	"strings"

	"envask/internal/redact/chars"
)

// Secrets in forms of their own: behind a key that announces more than one value, and in files of a few words a line.

// ownForms are the keys of such forms: what a code for joining a wireless network holds, and the commands with which modems are told
// name and secret.
var ownForms = map[string]struct {
	signs string // one of which stands behind the key
	find  func(before, line []byte) (start, end int)
}{"wifi": {":", wirelessSecret}, "cgauth": {"=", fourthField}, "authdata": {"=", fourthField}, "response": {"=:", digestResponse}}

// ownForm finds the secret behind the key of such a form.
func ownForm(b []byte, at, free int) (int, int, bool) {
	start, end, _ := KeySpan(b, at)
	var buf [chars.MaxKey]byte
	form := ownForms[string(PlainKey(&buf, b[start:end]))]
	if strings.IndexByte(form.signs, b[at]) < 0 {
		return 0, 0, false
	}
	line := chars.LineFrom(b, at+1)
	line = line[:WithinText(b, at+1, at+1+len(line))-at-1]
	start, end = form.find(b[max(chars.LineStart(b, start), start-chars.MaxPair/2):start], line[:min(len(line), chars.MaxPair)])
	start, end = start+at+1, end+at+1
	return start, end, start >= free && start < end && IsValue(b[start:end])
}

// digestResponse finds the answer to a challenge (RFC 7616), behind its nonce.
func digestResponse(before, line []byte) (int, int) {
	if !bytes.Contains(before, []byte("nonce=")) {
		return 0, 0
	}
	start := 0
	if len(line) > 0 && line[0] == '"' {
		start++
	}
	end := start
	for end < len(line) && chars.IsHex(line[end]) {
		end++
	}
	if end-start < 32 {
		return 0, 0
	}
	return start, end
}

// wirelessSecret finds it in WIFI:T:WPA;S:name;P:secret;; where a backslash stands before signs that would end it.
func wirelessSecret(_, line []byte) (int, int) {
	for at := 0; at+1 < len(line) && chars.IsUpper(line[at]) && line[at+1] == ':'; {
		end := at + 2
		for end < len(line) && line[end] != ';' {
			if line[end] == '\\' {
				end++
			}
			end++
		}
		end = min(end, len(line))
		if line[at] == 'P' {
			return at + 2, end
		}
		at = end + 1
	}
	return 0, 0
}

// fourthField finds the last of four fields: =1,1,"name","secret".
func fourthField(_, line []byte) (int, int) {
	start := 0
	for range 3 {
		n := bytes.IndexByte(line[start:], ',')
		if n < 0 {
			return 0, 0
		}
		start += n + 1
	}
	end := start
	for end < len(line) && line[end] != ',' && !chars.IsBlank(line[end]) {
		end++
	}
	for _, quote := range []string{`"`, `\"`} {
		if n := len(quote); end-start > 2*n && bytes.HasPrefix(line[start:end], []byte(quote)) &&
			bytes.HasSuffix(line[start:end], []byte(quote)) {
			return start + n, end - n
		}
	}
	return start, end
}

// BothOf calls learn with each of two secrets that were found as one, see changedFrom, and says whether they were.
func BothOf(text []byte, learn func(value []byte, at int)) bool {
	n := bytes.Index(text, []byte(" to "))
	if n < 0 {
		return false
	}
	old, next := bytes.TrimRight(text[:n], "\"'"), bytes.TrimLeft(text[n+len(" to "):], "\"'")
	learn(old, 0)
	learn(next, len(text)-len(next))
	return true
}

// pairCalls are the ends of the names of calls and options that take a name and a secret.
var pairCalls = []string{"auth", "authenticate", "login", "logon", "networkcredential", "credential", "credentials", "pscredential",
	"passwordauthentication", "usernamepassword", "userpassword", "usernamepasswordcredentials", "basicauth",
	"httpbasicauth", "usernamepasswordauthenticationtoken", "setbasicauth", "basiccredentials", "authorization", "connect", "basic"}

// tripleCalls take the name of a database or server before these.
var tripleCalls = []string{"PDO", "mysqli", "mysqliconnect", "mysqlconnect", "getconnection", "odbcconnect", "db2connect",
	"openconnection", "ftp", "ftptls", "database"}

// handleCalls take a handle before these: ftp_login($conn, 'svc', '…').
var handleCalls = []string{"ftplogin", "ldapbind", "ssh2authpassword"}

// takesThree says whether a call takes the name of a source of data before an account and its secret.
func takesThree(name, b []byte, at int) bool {
	return chars.IsOneOf(name, tripleCalls...) || chars.IsOneOf(name, "connect") && at+5 < len(b) &&
		(chars.EqualFold(b[at+1:at+4], "dbi") || chars.EqualFold(b[at+1:at+5], "jdbc"))
}

// argumentsBefore says how many arguments of a call stand before its secret, 0 where it takes none, and whether the first is a handle.
func argumentsBefore(name, b []byte, at int) (n int, handle bool) {
	switch {
	case chars.IsOneOf(name, "connectserver"): // of scripts of Windows: host, branch, name, secret
		return 3, false
	case chars.IsOneOf(name, handleCalls...):
		return 2, true
	case takesThree(name, b, at+1):
		return 2, false
	case chars.IsOneOf(name, pairCalls...):
		return 1, false
	}
	return 0, false
}

// canBeArgument reports whether an argument is the secret of a call: calls of many meanings take one that looks like it, or say what they
// log in to. sure says that the call has no other meaning.
func canBeArgument(name, b []byte, k keyed, sure bool) bool {
	v := b[k.start:k.end]
	sure = sure || !chars.IsOneOf(name, "login", "logon", "connect", "basic", "authorization") ||
		bytes.Contains(b[k.end:min(len(b), k.end+chars.MaxKey)], []byte("://"))
	return IsValue(v) && (sure || (LooksChosen(v) || looksMixed(v)) && !isDeviceName(v))
}

// secondOfPair finds the secret of such a call, behind the name: auth("svc", "…"), auth=("svc", "…"), PDO("mysql:…", "svc", "…"). It says
// whether it is one; what is no
// secret is empty then.
func secondOfPair(b []byte, at, free int) (from, to int, pair bool) {
	end := at
	if end > 0 && b[end-1] == '=' {
		end--
	}
	start := end
	for start > 0 && end-start < chars.MaxKey && chars.IsWord(b[start-1]) {
		start--
	}
	name := bytes.ReplaceAll(b[start:end], []byte("_"), nil)
	skipped, handle := argumentsBefore(name, b, at)
	if start == end || skipped == 0 || at+1 >= len(b) {
		return 0, 0, false
	}
	second, ok := keyed{}.readValue(b, at+1)
	if handle { // a variable, which has no quotes
		second.quoted, second.end = true, second.end-1
	}
	for range skipped {
		if !ok || !second.quoted || second.end+1 >= len(b) || b[second.end+1] != ',' {
			return 0, 0, false
		}
		second, ok = keyed{}.readValue(b, second.end+2)
	}
	behind := second.end + 1
	if !ok || !second.quoted || behind >= len(b) || bytes.IndexByte([]byte("),."), b[behind]) < 0 {
		return 0, 0, false
	}
	if second.start < free || !canBeArgument(name, b, second, skipped > 1) {
		return 0, 0, true
	}
	return second.start, second.end, true
}
