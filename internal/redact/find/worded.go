package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// A value may stand behind its telling word with nothing but a space between: in configurations of network devices and
// servers, in SQL and mail protocols, and in sentences. Which of these it is decides how sure one can be: behind the words
// of a configuration any value counts, in a sentence only one that looks chosen.

// NotValues follow a telling word in configurations without being its value.
var NotValues = chars.NewWordList(chars.WordSet(`policy expiry expires expired length minimum maximum min max encryption level for to
	is was from file authentication type chain has and or of in on the a an with must may can
	cannot not no yes true false null none never ever required optional enabled disabled changed change reset wrong missing invalid
	incorrect accepted rejected denied failed failure ok check
	checking verified verification prompt manager service store storage lookup hash rotation generated created updated set sent read
	received assigned empty mismatch match matches valid mode
	method list group server protocol algorithm history lifetime retry retries attempts attempt timeout lockout complexity strength
	strong weak protected protection encryption-type
	recovery default change-password update field hint id name string any all default-group local rsa dsa ecdsa ed25519 generate
	zeroize set-key public private version size bits exchange
	agreement usage import export pair material management server-side client-side label at by as if when while than then until only
	edition member website forum manager-mode
	authorization ro rw view read-only read-write map context engineid notice fields cpu thus users user login
	password secret key token community code pin
	bearer basic digest null-auth cryptographic`))

// WordsFrom gives the words of the rest of a line as places, or of the text in quotes within it. What is far away is left out: lines can
// be very long, and full of places
// from which one looks.
func WordsFrom(b []byte, at int) [][2]int {
	end := at + len(chars.LineFrom(b[:min(len(b), at+4*chars.MaxPair)], at))
	return chars.FieldsAt(b[at:WithinText(b, at, end)], at)
}

// argumentBehind gives the place of the quote of the next argument behind a parenthesis, or behind a comma or semicolon after a quoted
// key; 0 where there is none.
func argumentBehind(b []byte, at int) int {
	isQuote := func(i int) bool { return i < len(b) && (b[i] == '"' || b[i] == '\'') }
	next := at + 1
	if b[at] == '(' {
		if !isQuote(next) || closesText(b, next) {
			return 0
		}
		return next
	}
	if at == 0 || !isQuote(at-1) && !(chars.IsWord(b[at-1]) && beforeBinary(b, at)) {
		return 0
	}
	for next < len(b) && chars.IsSpace(b[next]) {
		next++
	}
	if b[at] == ';' && bytes.HasPrefix(b[next:], []byte("s:")) { // s:8:"password";s:11:"…"
		for next += 2; next < len(b) && chars.IsDigit(b[next]) || next+1 < len(b) && b[next] == ':' && b[next+1] == '"'; {
			next++
		}
	}
	if bytes.HasPrefix(b[next:], []byte("<<\"")) { // {default_pass, <<"…">>}
		next += 2
	}
	if !isQuote(next) {
		return 0
	}
	return next
}

// beforeBinary reports whether a comma parts the atom before it from a binary, as in terms of Erlang: {default_pass, <<"…">>}.
func beforeBinary(b []byte, at int) bool { return bytes.HasPrefix(b[at:], []byte(", <<\"")) }

// findCall finds the secret in a call or a list of two: setPassword("…"), PASSWORD('…'), conf.set("db.password", "…"),
// VALUES ('smtp_password', '…').
func findCall(b []byte, at, free int) (int, int, bool) {
	next := argumentBehind(b, at)
	if next == 0 {
		return 0, 0, false
	}
	end := at
	if b[at] != '(' && !chars.IsWord(b[at-1]) {
		end--
	}
	start := KeyBegin(b, end)
	if end-start < 2 || start > 0 && b[start-1] == '/' { // crypto/hmac
		return 0, 0, false
	}
	kind := KindOf(b[start:end])
	if kind&(KeySecret|KeyWeak) == 0 && (kind&KeyCookie == 0 || b[at] != ',') {
		return 0, 0, false
	}
	k, ok := keyed{}.readValue(b, next)
	if kind&KeySecret == 0 && kind&KeyWeak != 0 && (!ok || !LooksRandom(b[k.start:k.end]) && !LooksStrong(b[k.start:k.end])) {
		return 0, 0, false
	}
	if !ok || k.start < free || !IsValue(b[k.start:k.end]) {
		return 0, 0, false
	}
	if kind&KeyCookie != 0 { // ["Cookie", "sid=…"]
		return k.start, k.end, k.quoted && bytes.IndexByte(b[k.start:k.end], '=') > 0
	}
	if b[at] == '(' && isFirstOfPair(b, start, end, k) {
		return 0, 0, false
	}
	if b[at] != '(' && !isSecondSecret(b, start, k) {
		return 0, 0, false // a list of names of fields
	}
	return k.start, k.end, true
}

// isSecondSecret says whether what stands behind a telling name in a list or call is a secret, and no name of another field.
func isSecondSecret(b []byte, name int, k keyed) bool {
	v := b[k.start:k.end]
	if rest := bytes.TrimLeft(b[min(len(b), k.end+1):min(len(b), k.end+8)], " "); k.quoted && len(rest) > 0 && rest[0] == ':' {
		return false // the key of the next member
	}
	return KindOf(v) == 0 && (LooksChosen(v) || k.quoted && (isSetter(b, name) && isPhrase(v) || LooksQuotedSecret(v)))
}

// isFirstOfPair says whether the argument of a call is the name, behind which the secret stands.
func isFirstOfPair(b []byte, start, end int, k keyed) bool {
	call := b[start+bytes.LastIndexByte(b[start:end], '.')+1 : end]
	return k.quoted && k.end+1 < len(b) && b[k.end+1] == ',' && chars.IsOneOf(call, pairCalls...)
}

// isCellSecret says whether the cell behind a telling name is a secret, and no key of its own, port or name of a list.
func isCellSecret(b []byte, at int, key []byte, k keyed) bool {
	v := b[k.start:k.end]
	if b[k.end-1] == ':' || b[at] == ',' && bytes.IndexByte(bytes.TrimRight(v, "="), '=') > 0 || isNumberOfPort(v) ||
		!IsValue(v) || KindOf(v) != 0 || endsInAlias(v) {
		return false
	}
	inTable := b[at] == '|' || b[at] == '\t' // else it may be a list of what a program is given
	code := inTable && isCode(key, v)
	if b[at] != '-' && IsPlainWord(string(v)) && !LooksRandom(v) && !(len(v) >= 16 && isJumbled(v)) && !code &&
		!(inTable && looksMixed(v)) {
		return false // a list of names
	}
	return LooksChosen(v) || code || inTable && hasSign(v)
}

// findCell finds the secret in a row of a table behind its telling name: | db_password | … |, db_password,… and
// db.password and a tab.
func findCell(b []byte, at, free int) (int, int, bool) {
	next := at + 1
	if b[at] == '-' { // an arrow
		if next+1 >= len(b) || b[next] != '>' || b[next+1] != ' ' || at == 0 || b[at-1] != ' ' {
			return 0, 0, false
		}
		next++
	}
	before := at
	for before > 0 && b[before-1] == ' ' {
		before--
	}
	start := KeyBegin(b, before)
	if before-start < 3 || start > 0 && b[start-1] == '/' && b[at] == ',' || KindOf(b[start:before])&KeySecret == 0 {
		return 0, 0, false
	}
	for next < len(b) && b[next] == ' ' {
		next++
	}
	k, ok := keyed{}.readValue(b, next)
	if !ok || k.quoted || k.start < free || !isCellSecret(b, at, b[start:before], k) {
		return 0, 0, false
	}
	return k.start, k.end, true
}

// Worded is one rule over all of these.
func Worded(b []byte, at, free int) (int, int, bool) {
	switch b[at] {
	case '(':
		if start, end, ok := findInsert(b, at, free); ok {
			return start, end, true
		}
		if start, end, ok := secretInBrackets(b, at, free); ok {
			return start, end, true
		}
		if start, end, pair := secondOfPair(b, at, free); pair {
			return start, end, start < end
		}
		return findCall(b, at, free)
	case ';':
		if start, end, ok := formField(b, at, free); ok {
			return start, end, true
		}
		if start, end, ok := findCall(b, at, free); ok {
			return start, end, true
		}
		return findCell(b, at, free)
	case ',':
		if at > 0 && (b[at-1] == '"' || b[at-1] == '\'' || beforeBinary(b, at)) {
			return findCall(b, at, free)
		}
		return findCell(b, at, free)
	}
	return findCell(b, at, free)
}
