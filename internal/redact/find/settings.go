package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Names and secrets in lists of settings: what programs print of themselves in two columns, exports of the registry of Windows, and the
// calls that give a setting its value.

// rowKey gives the key before a tab or a pipe at a place and where its cell begins; ok is false unless it is the first cell of the line.
func rowKey(b []byte, at int) (key []byte, ok bool) {
	end := at
	for end > 0 && b[end-1] == ' ' {
		end--
	}
	start := KeyBegin(b, end)
	first := start
	for first > 0 && (b[first-1] == ' ' || b[first-1] == b[at]) && start-first < 8 {
		first--
	}
	return b[start:end], end-start > 1 && (first == 0 || b[first-1] == '\n')
}

// userOfRow finds the name in a row of two cells whose first one tells: | username | ilka.brandvold |, and the same with a tab.
func userOfRow(b []byte, at int) (int, int, bool) {
	key, ok := rowKey(b, at)
	whole := ok && NamesWhole(key)
	if !ok || KindOf(key)&KeyUser == 0 && !whole {
		return 0, 0, false
	}
	cell := bytes.TrimRight(chars.LineFrom(b, at+1), " \t\r|")
	start := at + 1
	for len(cell) > 0 && chars.IsSpace(cell[0]) {
		start, cell = start+1, cell[1:]
	}
	if len(cell) > 80 || bytes.IndexByte(cell, b[at]) >= 0 {
		return 0, 0, false
	}
	return start, start + len(cell), !whole && IsAccountWord(cell) && KindOf(cell) == 0 || LooksPersonal(cell)
}

// secretInBrackets finds what stands in brackets behind a word for a secret: PASSWORD(…), as some configurations have it.
func secretInBrackets(b []byte, at, free int) (int, int, bool) {
	start := at
	for start > 0 && chars.IsWord(b[start-1]) {
		start--
	}
	if at+1 < len(b) && (b[at+1] == '"' || b[at+1] == '\'') || !chars.IsOneOf(b[start:at], "password", "passwd", "pwd") || start > 0 &&
		bytes.IndexByte([]byte(".>:"), b[start-1]) >= 0 {
		return 0, 0, false
	}
	return bracketed(b, at, free)
}

// isOfSystem says whether a value behind a telling key is one that systems have there: the sources of passwd in nsswitch.conf, and the
// pins of a board.
func isOfSystem(key, v []byte) bool {
	switch {
	case chars.IsOneOf(key, "passwd", "shadow"):
		for _, w := range bytes.Fields(v) {
			if !chars.IsOneOf(w, "files", "compat", "systemd", "sss", "ldap", "nis", "nisplus", "winbind", "db", "dns",
				"cache", "altfiles", "centrifydc", "vas4") && w[0] != '[' {
				return false
			}
		}
		return true
	case len(v) > 4 && len(v) < 10 && bytes.EqualFold(v[:4], []byte("gpio")):
		return bytes.EqualFold(key[max(0, len(key)-3):], []byte("pin"))
	}
	return false
}

// isNumberOfPort says whether a text is the number of a port and its protocol: 113/tcp.
func isNumberOfPort(v []byte) bool {
	number, protocol, ok := bytes.Cut(v, []byte("/"))
	return ok && chars.IsAllDigits(number) && chars.IsOneOf(protocol, "tcp", "udp", "sctp", "dccp")
}

// standsForSecret says whether a value names where a secret is or what it is for: a macro (DB_PASSWORD), the file of a key, a bound, and
// ways in which something may be done.
func standsForSecret(key, v []byte) bool {
	switch {
	case isMacro(v):
		return KindOf(v)&KeySecret != 0
	case chars.IsAllDigits(v):
		return chars.IsOneOf([]byte(chars.LastWord(key)), "min", "max", "minimum", "maximum")
	case len(v) == 7 && v[0] == '#': // a colour
		return chars.IsHexes(v[1:])
	case isFileOfKey(v):
		return bytes.IndexByte(v, '/') >= 0 && bytes.IndexByte(v, ' ') < 0 || len(key) > 4 && chars.IsOneOf(key[len(key)-3:], "key")
	case chars.IsAllLetters(v) && !tellsAtEnd(key) && IsEveryday(bytes.ToLower(v)): // token_cache: enabled
		return true
	case isEverydayPhrase(v):
		last := chars.LastWord(key)
		return last == "auth" || last == "credential"
	}
	return false
}

// tellsAtEnd says whether a key ends with what tells of a secret, as most do: db_password, passwordForGate, but not
// privkey_get_number.
func tellsAtEnd(key []byte) bool {
	var buf [chars.MaxKey]byte
	plain := PlainKey(&buf, key)
	for _, t := range Telling {
		if bytes.HasSuffix(bytes.TrimSuffix(plain, []byte("s")), []byte(t)) {
			return true
		}
	}
	return !holdsTelling(plain)
}

// isFileOfKey says whether a text ends like the names of files that hold keys and certificates.
func isFileOfKey(v []byte) bool {
	n := bytes.LastIndexByte(v, '.')
	return n > 0 && chars.IsOneOf(v[n+1:], "pem", "key", "crt", "cer", "p12", "pfx", "jks", "der", "pub", "asc", "gpg", "kdb", "keytab")
}

// isEverydayPhrase says whether a text is several words that everybody uses, joined by dashes or by capitals: always-impersonate,
// trustedHosts.
func isEverydayPhrase(v []byte) bool {
	words, start := 0, 0
	for i := 0; i <= len(v); i++ {
		if i < len(v) && v[i] != '-' && (v[i] < 'a' || v[i] > 'z') && !chars.IsUpper(v[i]) {
			return false
		}
		if i < len(v) && v[i] != '-' && (i == 0 || !chars.IsUpper(v[i])) {
			continue
		}
		if i > start {
			if !IsEveryday(bytes.ToLower(v[start:i])) {
				return false
			}
			words++
		}
		if start = i; i < len(v) && v[i] == '-' {
			start++
		}
	}
	return words > 1
}

// bracketed finds a secret that a sentence puts in brackets: password [SECRET].
func bracketed(b []byte, open, free int) (int, int, bool) {
	if PlaceholderLen(b[open:]) > 0 {
		return 0, 0, false
	}
	shut := byte(']')
	switch b[open] {
	case '(':
		shut = ')'
	case '<':
		shut = '>'
	}
	line := chars.LineFrom(b, open+1)
	n := bytes.IndexByte(line[:min(len(line), chars.MaxKey)], shut)
	if n < 1 || line[0] == '$' || bytes.IndexByte(line[:n], ' ') >= 0 {
		return 0, 0, false
	}
	v := line[:n]
	if shut == ')' && !bytes.ContainsAny(v, "0123456789") {
		return 0, 0, false // a remark
	}
	return open + 1, open + 1 + n, open+1 >= free && LooksChosen(v) && IsValue(v) && !IsPlainWord(string(v)) || n >= 8 &&
		looksMixed(v) && IsValue(v) && open+1 >= free
}

// setters are the ends of the names of calls that give a key its value: props.setProperty("…", "…").
var setters = []string{"put", "set", "setproperty", "putenv", "setenv", "property", "header", "addheader", "setheader", "config",
	"option", "setoption", "setvalue", "define", "param", "setparameter", "add"}

// isSetter says whether a key is the first argument of such a call.
func isSetter(b []byte, key int) bool {
	at := key - 1 // its quote
	for at > 1 && b[at-1] == ' ' {
		at--
	}
	if at < 1 || b[at-1] != '(' {
		return false
	}
	start := at - 1
	for start > 0 && at-start < chars.MaxKey && chars.IsWord(b[start-1]) {
		start--
	}
	return chars.IsOneOf(b[start:at-1], setters...)
}
