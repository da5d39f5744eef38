package redact

import (
	"bytes"
	"strings"
)

// maxKey is the longest key that is looked at, in bytes.
const maxKey = 64

// keyed is a value behind a key and a separator, in any of the usual notations: key=value, key: value, "key": "value",
// key => value, <key>value</key>.
type keyed struct {
	start, end int // of the value
	quoted     bool
	lineStart  bool // the key is the first thing on its line
}

func isWord(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_'
}

// wordBefore says whether a word goes on before a place. The letter of an escape such as \n, as texts within JSON have it, is
// no part of the word behind it.
func wordBefore(b []byte, at int) bool {
	if at == 0 || !isWord(b[at-1]) {
		return false
	}
	return at < 2 || b[at-2] != '\\' || b[at-1] != 'n' && b[at-1] != 't' && b[at-1] != 'r'
}

func isKeyByte(c byte) bool { return isWord(c) || c == '-' || c == '.' }

func isSpace(c byte) bool { return c == ' ' || c == '\t' }

// keyedAt reads the key before and the value after the separator at a place.
func keyedAt(b []byte, at int) (k keyed, ok bool) {
	if b[at] == '>' {
		return elementAt(b, at)
	}
	if at > 0 && bytes.IndexByte([]byte("=!<>:"), b[at-1]) >= 0 {
		return k, false // a comparison, or the second half of := and ::
	}
	if b[at] == '=' && at+1 < len(b) && b[at+1] == '=' {
		return k, false
	}
	start, end, closed := keySpan(b, at)
	if start == end {
		return k, false
	}
	k.lineStart = atLineStart(b, start)
	value := at + 1
	if value < len(b) && (b[value] == '>' && b[at] == '=' || b[value] == '=' && b[at] == ':') {
		value++
	}
	if !closed && start > 0 && (b[start-1] == '"' || b[start-1] == '\'') && value < len(b) && b[value] == b[start-1] {
		return k, false // the quote closes the text that the key stands in: ["Authorization:"]
	}
	return k.readValue(b, value)
}

func atLineStart(b []byte, at int) bool {
	for at > 0 && (isSpace(b[at-1]) || b[at-1] == '"' || b[at-1] == '\'' || b[at-1] == '-') {
		at--
	}
	return at == 0 || b[at-1] == '\n'
}

// readValue finds the value from a place on.
func (k keyed) readValue(b []byte, at int) (keyed, bool) {
	for at < len(b) && isSpace(b[at]) {
		at++
	}
	if at >= len(b) {
		return k, false
	}
	switch {
	case b[at] == '"' || b[at] == '\'':
		k.quoted = true
		k.start = at + 1
		k.end = closing(b, k.start, b[at])
	case b[at] == '\\' && at+1 < len(b) && b[at+1] == '"':
		k.quoted = true
		k.start = at + 2
		k.end = k.start
		if n := bytes.Index(lineFrom(b, k.start), []byte(`\"`)); n >= 0 {
			k.end = k.start + n
		}
	default:
		k.start, k.end = at, at
		for k.end < len(b) && bytes.IndexByte([]byte(" \t\r\n,;&|\"'<>)]}"), b[k.end]) < 0 {
			k.end++
		}
		if k.start < len(b) && b[k.start] == '[' { // a placeholder of ours, or a list
			if n := bytes.IndexByte(lineFrom(b, k.start), ']'); n >= 0 && isPlaceholder(b[k.start:k.start+n+1]) {
				k.end = k.start + n + 1
			}
		}
	}
	return k, k.end > k.start
}

// closing gives the place of the closing quote, or the end of the line when there is none.
func closing(b []byte, from int, quote byte) int {
	for i := from; i < len(b); i++ {
		switch b[i] {
		case '\\':
			i++
		case '\n', '\r':
			return i
		case quote:
			return i
		}
	}
	return len(b)
}

// maxValue is how far a value can go on in its line, in bytes. Without a bound, every key in a line without end would be
// followed to that end.
const maxValue = 64 << 10

// lineFrom gives the rest of the line from a place on, maxValue at most.
func lineFrom(b []byte, from int) []byte {
	b = b[:min(len(b), from+maxValue)]
	if n := bytes.IndexByte(b[from:], '\n'); n >= 0 {
		return bytes.TrimSuffix(b[from:from+n], []byte("\r"))
	}
	return b[from:]
}

// elementAt reads <key>value</…: the separator is the end of an XML start tag.
func elementAt(b []byte, at int) (k keyed, ok bool) {
	if start, end := elementName(b, at); start == end {
		return k, false
	}
	k.start, k.end, k.quoted = at+1, at+1, true
	for k.end < len(b) && b[k.end] != '<' && b[k.end] != '\n' {
		k.end++
	}
	return k, k.end > k.start && k.end < len(b) && b[k.end] == '<'
}

// plainKey takes a key down to lower-case letters and digits without trailing digits, so that dbPassword2, DB_PASSWORD and
// db-password are one.
func plainKey(buf *[maxKey]byte, raw []byte) []byte {
	n := 0
	for _, c := range raw {
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		if (c >= 'a' && c <= 'z' || isDigit(c)) && n < maxKey {
			buf[n] = c
			n++
		}
	}
	for n > 0 && isDigit(buf[n-1]) {
		n--
	}
	return buf[:n]
}

// lastWord gives the last word of a key: pin of service-pin, service_pin2 and servicePin.
func lastWord(raw []byte) string {
	end := len(raw)
	for end > 0 && (raw[end-1] >= '0' && raw[end-1] <= '9' || !isWord(raw[end-1]) || raw[end-1] == '_') {
		end--
	}
	start := end
	for start > 0 && (raw[start-1]|0x20) >= 'a' && (raw[start-1]|0x20) <= 'z' {
		start--
		upper := raw[start] >= 'A' && raw[start] <= 'Z'
		if upper && start > 0 && raw[start-1] >= 'a' && raw[start-1] <= 'z' {
			break // camelCase
		}
	}
	return strings.ToLower(string(raw[start:end]))
}

// telling lists pieces of keys that say that their value is a secret.
var telling = []string{
	"password", "passwd", "passphrase", "pwd", "secret", "token", "apikey", "accesskey", "privatekey", "sharedkey",
	"signingkey", "encryptionkey", "credential", "sessionkey", "sessionid", "authkey", "community",
}

// tellingLast lists last words of keys that say so, but mean something else within a longer word.
var tellingLast = map[string]bool{"pass": true, "pin": true, "psk": true, "otp": true, "auth": true, "jsessionid": true, "phpsessid": true}

// weaklyTelling lists last words of keys whose value is a secret only when it looks like one.
var weaklyTelling = map[string]bool{"session": true, "sess": true, "sid": true, "key": true, "signature": true, "sig": true, "nonce": true}

// looksRandom says whether a value has the look of a token: long, without spaces, of letters and digits.
func looksRandom(v []byte) bool {
	letters, digits := 0, 0
	for _, c := range v {
		switch {
		case isDigit(c):
			digits++
		case c|0x20 >= 'a' && c|0x20 <= 'z':
			letters++
		case c <= ' ':
			return false
		}
	}
	return len(v) >= 16 && letters >= 4 && digits >= 4
}

// harmless lists ends of keys that speak about a secret without holding it.
var harmless = []string{
	"file", "name", "path", "dir", "policy", "expires", "expiry", "expired", "expiration", "expiresin", "age", "length", "count", "type",
	"ttl", "url", "uri", "endpoint", "hint", "field", "timeout", "version", "status", "format", "changed", "updated", "valid",
	"required", "enabled", "retries", "attempts", "errors", "error", "failed", "invalid", "rotation", "rotated", "bytes", "limit",
	"exception", "handler", "manager", "service", "validator", "encoder", "reader", "dialog", "prompt", "reset", "check", "size", "lifetime", "issuer", "audience", "header", "set", "store", "provider", "mode",
}

// notSecret lists values that stand for something else.
var notSecret = map[string]bool{
	"true": true, "false": true, "null": true, "none": true, "nil": true, "yes": true, "no": true, "on": true, "off": true,
	"amd64": true, "arm64": true, "i386": true, "armhf": true, "all": true, "any": true, // passwd:amd64 is a package
	"undefined": true, "n/a": true, "-": true, "ok": true, "unset": true,
}

// isCount says whether a key in the plural counts things: tokens=17.
func isCount(b []byte, at int, value []byte) bool {
	start, end, _ := keySpan(b, at)
	return end > start && b[end-1]|0x20 == 's' && allDigits(string(value))
}

func isValue(v []byte) bool {
	switch {
	case len(v) == 0, isPlaceholder(v), len(v) < 6 && notSecret[strings.ToLower(string(v))], notSecret[string(v)]:
		return false
	case bytes.HasPrefix(v, []byte("${")) || bytes.HasPrefix(v, []byte("{{")) || bytes.HasPrefix(v, []byte("$(")):
		return false
	case v[0] == '{' || v[0] == '(' || bytes.HasPrefix(v, []byte("env:")) || bytes.HasPrefix(v, []byte("file:")):
		return false
	case v[0] == '[' && !bytes.HasPrefix(v, []byte("[redacted:")):
		return false
	}
	return len(bytes.Trim(v, "*xX.•")) > 0 // masked already
}

func findKeyedSecret(b []byte, at, free int) (int, int, bool) {
	if b[at] == ':' && bytes.HasPrefix(b[at:], []byte("://")) {
		return 0, 0, false
	}
	k, ok := keyedAt(b, at)
	if !ok || k.start < free {
		return 0, 0, false
	}
	if kindAt(b, at)&keySecret == 0 { // then it is a weak one
		return k.start, k.end, looksRandom(b[k.start:k.end]) && isValue(b[k.start:k.end])
	}
	if isCount(b, at, b[k.start:k.end]) {
		return 0, 0, false
	}
	if k.lineStart && !k.quoted { // a configuration line: a value may hold spaces
		line := lineFrom(b, k.start)
		if n := bytes.Index(line, []byte(" #")); n >= 0 {
			line = line[:n]
		}
		line = bytes.TrimRight(line, " \t\r,;")
		more := line[min(len(line), k.end-k.start):]
		if len(more) > 0 && len(line) <= 128 && !bytes.ContainsAny(more, "=:") && !isPlaceholder(b[k.start:k.end]) {
			k.end = k.start + len(line)
		}
	}
	if k.start >= k.end || !isValue(b[k.start:k.end]) {
		return 0, 0, false
	}
	return k.start, k.end, true
}

func findAuthorization(b []byte, at, free int) (int, int, bool) {
	k, ok := keyedAt(b, at)
	if !ok || k.start < free {
		return 0, 0, false
	}
	if word := b[k.start:min(k.end, k.start+16)]; !k.quoted && isAllLetters(word) && !strings.EqualFold(string(word), "digest") {
		// One token behind the scheme; the parameters of a digest go on to the end of the line.
		at := k.end
		for at < len(b) && isSpace(b[at]) {
			at++
		}
		end := at
		for end < len(b) && end-at < maxValue && isTokenByte(b[end]) {
			end++
		}
		if end > at || placeholderLen(b[at:]) > 0 {
			return at, end, end > at && isValue(b[at:end])
		}
	}
	start, end := headerValue(b, k)
	// The scheme tells the vendor how the two sides talked.
	if n := bytes.IndexByte(b[start:min(end, start+17)], ' '); n > 0 && isAllLetters(b[start:start+n]) {
		start += n + 1
	}
	return start, end, start < end && isValue(b[start:end])
}

func findCookie(b []byte, at, free int) (int, int, bool) {
	k, ok := keyedAt(b, at)
	if !ok || k.start < free {
		return 0, 0, false
	}
	start, end := headerValue(b, k)
	return start, end, start < end && isValue(b[start:end])
}

// headerValue gives the whole value of a header: to the closing quote, or to the end of the line.
func headerValue(b []byte, k keyed) (int, int) {
	if k.quoted {
		return k.start, k.end
	}
	line := lineFrom(b, k.start)
	if n := bytes.IndexAny(line, `"'`); n >= 0 {
		line = line[:n] // the header stands within quotes, as on a command line
	}
	return k.start, k.start + len(bytes.TrimRight(line, " \t"))
}

func isAllLetters(b []byte) bool {
	for _, c := range b {
		if c|0x20 < 'a' || c|0x20 > 'z' {
			return false
		}
	}
	return true
}

// findOption finds the value of a telling command-line option: --password VALUE.
func findOption(b []byte, at, free int) (int, int, bool) {
	if at < 1 || b[at-1] != '-' || at >= 2 && !isSpace(b[at-2]) && b[at-2] != '"' && b[at-2] != '\'' && b[at-2] != '\n' {
		return 0, 0, false
	}
	end := at + 1
	for end < len(b) && end-at <= maxKey && isKeyByte(b[end]) {
		end++
	}
	if end == at+1 || end >= len(b) || !isSpace(b[end]) || kindOf(b[at+1:end])&keySecret == 0 {
		return 0, 0, false
	}
	k, ok := keyed{}.readValue(b, end)
	if !ok || k.start < free || b[k.start] == '-' || !isValue(b[k.start:k.end]) {
		return 0, 0, false
	}
	return k.start, k.end, true
}

// tellingUser lists whole keys whose value names a person.
var tellingUser = map[string]bool{
	"user": true, "username": true, "userid": true, "login": true, "loginname": true, "account": true, "accountname": true,
	"operator": true, "operatorname": true, "passenger": true, "passengername": true, "fullname": true, "firstname": true,
	"lastname": true, "surname": true, "givenname": true, "customer": true, "customername": true, "contact": true,
	"contactname": true, "staff": true, "staffname": true, "employee": true, "clerk": true, "holder": true, "holdername": true,
}

// serviceAccounts stay: they are the same everywhere and tell the vendor who did it.
var serviceAccounts = map[string]bool{
	"root": true, "daemon": true, "nobody": true, "admin": true, "administrator": true, "system": true, "www-data": true, "nginx": true,
	"postgres": true, "mysql": true, "sshd": true, "svc": true, "service": true, "guest": true, "anonymous": true, "bin": true, "mail": true,
	"syslog": true, "systemd": true, "unknown": true, "local": true, "localhost": true, "user": true, "default": true, "none": true,
}

func findUser(b []byte, at, free int) (int, int, bool) {
	k, ok := keyedAt(b, at)
	if !ok || k.start < free {
		return 0, 0, false
	}
	v := b[k.start:k.end]
	switch {
	case len(v) < 2 || len(v) > 80 || v[0]|0x20 < 'a' && v[0] < 0x80 || v[0]|0x20 > 'z' && v[0] < 0x80:
		return 0, 0, false
	case !isValue(v) || serviceAccounts[strings.ToLower(string(v))] || commonWords[strings.ToLower(string(v))]:
		return 0, 0, false
	case bytes.IndexByte(v, '@') >= 0: // the rule for mail addresses takes it
		return 0, 0, false
	}
	return k.start, k.end, true
}
