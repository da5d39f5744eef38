package find

import (
	"bytes"
	"strings"

	"envask/internal/redact/chars"
)

// IsJSONNumber says whether a text is a number, a truth or nothing, as they stand without quotes in JSON (RFC 8259).
func IsJSONNumber(v []byte) bool {
	switch string(v) {
	case "true", "false", "null":
		return true
	}
	for _, c := range v {
		if !chars.IsDigit(c) && c != '.' && c != '-' && c != '+' && c|0x20 != 'e' {
			return false
		}
	}
	return len(v) > 0 && (chars.IsDigit(v[0]) || v[0] == '-')
}

// valueOf gives the place behind a separator: behind both signs of =>, := and ::, which LDIF has before base64 (RFC 2849), and on the next
// line where a program dumps a value there.
func valueOf(b []byte, at int) int {
	value := at + 1
	switch {
	case value >= len(b):
		return value
	case b[value] == '>' && b[at] == '=', b[value] == '=' && b[at] == ':',
		b[value] == ':' && b[at] == ':' && value+1 < len(b) && b[value+1] == ' ':
		value++
	case b[at] == '=' && bytes.HasPrefix(b[value:], writtenArrow):
		value += len(writtenArrow)
	}
	if b[at] == '=' && value > at+1 && value < len(b) && b[value] == '\n' {
		if next := bytes.TrimLeft(b[value:min(len(b), value+chars.MaxKey)], " \n"); dumped(next, 0) > 0 {
			value += bytes.Index(b[value:], next)
		}
	}
	return value
}

// endsTextOfKey says whether the quote behind a separator closes the text that the key stands in, so that no value follows:
// ["Authorization:"].
func endsTextOfKey(b []byte, start, end, value int, closed bool) bool {
	if !closed && start > 0 && (b[start-1] == '"' || b[start-1] == '\'') && value < len(b) && b[value] == b[start-1] {
		return true
	}
	return (!closed || start > 0 && (b[end] == '"' || b[end] == '\'') && b[start-1] != b[end]) && closesText(b, value)
}

// isOfAnother says whether what was read behind a separator, without quotes, is not its value: the next pair, where nothing stands behind
// this key (logname= uid=0), or what a line of a program gives to a variable.
func (k keyed) isOfAnother(b []byte, at, value int) bool {
	if b[at] == '=' && chars.IsSpace(b[at+1]) && at > 0 && !chars.IsSpace(b[at-1]) && isPair(b[k.start:k.end]) {
		return true
	}
	return value == at+1 && isIndexed(b, at) && !LooksChosen(b[k.start:k.end])
}

// isDefault says whether a colon belongs to what a shell says when a variable is missing: ${KEY:?message}.
func isDefault(b []byte, key, at int) bool {
	return b[at] == ':' && key > 1 && b[key-1] == '{' && b[key-2] == '$' && at+1 < len(b) && (b[at+1] == '?' || b[at+1] == '+')
}

// keyedAt reads the key before and the value after the separator at a place.
func keyedAt(b []byte, at int) (k keyed, ok bool) {
	switch b[at] {
	case '>':
		return elementAt(b, at)
	case '%', ';', '\\':
		return encodedAt(b, at)
	case WideSign:
		return wideAt(b, at)
	}
	if at > 0 && beforeNoSeparator[b[at-1]] || b[at] == '=' && at+1 < len(b) && b[at+1] == '=' {
		return k, false
	}
	start, end, closed := KeySpan(b, at)
	if start == end || isDefault(b, start, at) {
		return k, false
	}
	k.lineStart = chars.AtLineStart(b, start)
	value := valueOf(b, at)
	if value < len(b) && b[value] == '`' && b[at] == ':' && start > 0 && b[start-1] == ':' && !chars.IsOneOf(b[start:end], "user") {
		return k, false // of reStructuredText, which says with it what a name is of
	}
	if bytes.HasPrefix(b[value:], []byte("** ")) { // **Key:** value
		value += 2
	}
	if endsTextOfKey(b, start, end, value, closed) {
		return k, false
	}
	k, ok = k.readValue(b, value)
	return k, ok && (k.quoted || !k.isOfAnother(b, at, value))
}

// isPair says whether a word is a key in small letters and its value.
func isPair(v []byte) bool {
	n := 0
	for n < len(v) && (chars.IsLower(v[n]) || v[n] == '_' || v[n] == '-' || n > 0 && chars.IsDigit(v[n])) {
		n++
	}
	return n > 0 && n+1 < len(v) && v[n] == '=' && v[n+1] != '='
}

// isWholeArgument says whether text ends where, in quotes, one key with its value follows and nothing else.
func isWholeArgument(text []byte) bool {
	for _, s := range []string{"Environment=", "-H ", "-F ", "-d ", "-e ", "--header ", "--form ", "--data ", "--env ", "--set "} {
		if bytes.HasSuffix(text, []byte(s)) {
			return true
		}
	}
	return false
}

// toQuote gives the end of a value behind a key right before which a quote stands, as in "password=a;b": the quote that closes it,
// if nothing in between looks like something else. Blanks are that unless it is the whole.
func toQuote(b []byte, end int, quote byte, whole bool) int {
	for i := end; i < len(b) && i-end < chars.MaxKey; i++ {
		switch {
		case b[i] == quote:
			return i
		case b[i] < ' ' || b[i] == ' ' && !whole || b[i] == '=' || b[i] == '"' || b[i] == '\'' || b[i] == '\\' || b[i] == '<':
			return end
		}
	}
	return end
}

// isIndexed says whether the key before a sign ends with a bracket.
func isIndexed(b []byte, at int) bool {
	for at > 0 && chars.IsSpace(b[at-1]) {
		at--
	}
	return at > 0 && b[at-1] == ']'
}

// writtenArrow is what > of => is in texts of JSON that are made for pages.
var writtenArrow = []byte(`\u003e`)

// elementAt reads <key>value</…: the separator is the end of an XML start tag. The key may also stand in an attribute,
// as in <entry key="…">, or in the element before, as in <key>…</key><string>.
func elementAt(b []byte, at int) (k keyed, ok bool) {
	if start, end := elementName(b, at); start == end {
		return k, false
	}
	k.start, k.quoted = at+1, true
	if bytes.HasPrefix(b[k.start:], cdata) {
		k.start += len(cdata)
		n := bytes.Index(b[k.start:min(len(b), k.start+maxElement)], []byte("]]>"))
		k.end = k.start + max(n, 0)
		return k, n > 0
	}
	for k.start < len(b) && chars.IsBlank(b[k.start]) {
		k.start++
	}
	k.end = k.start
	for k.end < len(b) && k.end-k.start < maxElement && b[k.end] != '<' && b[k.end] != '>' {
		k.end++
	}
	if k.end == len(b) || b[k.end] != '<' || k.end+1 < len(b) && b[k.end+1] != '/' { // it stands for something: password=<password>
		return k, false
	}
	for k.end > k.start && chars.IsBlank(b[k.end-1]) {
		k.end--
	}
	return k, k.end > k.start
}

var cdata = []byte("<![CDATA[")

// maxElement is how long the content of an XML element may be to be the value of a key, in bytes.
const maxElement = 4096

// isCount says whether a key in the plural counts things: tokens=17.
func isCount(b []byte, at int, value []byte) bool {
	if !chars.AllDigits(string(value)) {
		return false
	}
	start, end, _ := KeySpan(b, at)
	if end-start > 4 && len(value) >= 4 && b[end-2]|0x20 == 's' { // smtp_pass is no plural
		return false
	}
	return end > start && b[end-1]|0x20 == 's'
}

// isWorkingFolder says whether a key is the one under which shells keep the folder that they are in.
func isWorkingFolder(b []byte, at int, value []byte) bool {
	if value[0] != '/' && value[0] != '~' && !(len(value) > 2 && value[1] == ':' && value[2] == '\\') {
		return false
	}
	start, end, _ := KeySpan(b, at)
	return chars.IsOneOf(b[start:end], "pwd", "oldpwd")
}

// KeyedSecret finds the secret behind a telling key, in the usual notations.
func KeyedSecret(b []byte, at, free int, kind KeyKind) (int, int, bool) {
	if b[at] == ':' && bytes.HasPrefix(b[at:], []byte("://")) {
		return 0, 0, false
	}
	if kind&KeyOwn != 0 {
		return ownForm(b, at, free)
	}
	if start, end, ok, is := structuredSecret(b, at, free, kind); is {
		return start, end, ok
	}
	k, ok := keyedAt(b, at)
	if ok && k.start >= free {
		if n := declared(b, at, k); n > 0 {
			k, ok = k.readValue(b, n)
		}
	}
	switch {
	case !ok || k.start < free:
		return 0, 0, false
	case kind&KeySecret == 0:
		return k.weakSecret(b, at)
	}
	k = k.toOuterQuote(b, at).ofBoth(b, at)
	if k.saysOtherwise(b, at) || isCount(b, at, b[k.start:k.end]) || isWorkingFolder(b, at, b[k.start:k.end]) {
		return 0, 0, false
	}
	if end := listEnd(b, k.start, k.end); k.quoted && end > 0 && IsValue(b[k.start:k.end]) {
		return k.start, end, !k.listsWords(b, at, end)
	}
	if k.lineStart && !k.quoted {
		k, ok = k.toLineEnd(b)
	}
	return k.start, k.end, ok && k.start < k.end && IsValue(b[k.start:k.end]) && k.holdsSecret(b, at)
}

// structuredSecret finds the secret of a key as the structure of a text has it: a block of YAML, the content of an element, a list below
// the key, a value that goes on in the next line. is says whether it is one of these, whatever stands there.
func structuredSecret(b []byte, at, free int, kind KeyKind) (start, end int, ok, is bool) {
	if kind&KeySecret != 0 {
		if behind := blockMark(b, at); behind > 0 {
			start, end, ok = blockScalar(b, at, behind)
			return start, end, ok, true
		}
		switch b[at] {
		case '>':
			if start, end = elementValue(b, at); start >= free && start < end {
				return start, end, IsValue(b[start:end]), true
			}
		case ':':
			if start, end, ok = itemList(b, at); ok && start >= free {
				return start, end, true, true
			}
		}
	}
	if start, end, is = wrapped(b, at); is {
		return start, end, kind&KeySecret != 0 && start >= free && IsValue(b[start:end]), true
	}
	return 0, 0, false, false
}

// weakSecret gives the value behind a key that often stands before secrets, where it looks like one.
func (k keyed) weakSecret(b []byte, at int) (int, int, bool) {
	v := b[k.start:k.end]
	start, end, _ := KeySpan(b, at)
	if end-start == 1 && (!k.quoted || len(v) < 32) {
		return k.start, k.end, b[start] == 'p' && behindAccount(b, start) && IsValue(v) && len(v) >= MinSecret
	}
	parameter := start > 0 && (b[start-1] == '?' || b[start-1] == '&') // of a URL
	page := b[at] == '>' && string(b[start:end]) == "code"
	looks := LooksRandom(v) && !page || parameter && LooksStrong(v) || k.quoted && LooksFierce(v) && bytes.ContainsAny(v, "!#$%&^")
	return k.start, k.end, looks && IsValue(v) && bytes.IndexByte(v, '(') < 0
}

// behindAccount reports whether a parameter of a URL stands right behind one for an account: ?u=itostrund&p=….
func behindAccount(b []byte, start int) bool {
	if start < 4 || b[start-1] != '&' {
		return false
	}
	before := b[max(0, start-1-chars.MaxKey) : start-1]
	before = before[bytes.LastIndexAny(before, "?& \t\"'")+1:]
	key, _, ok := bytes.Cut(before, []byte("="))
	return ok && (string(key) == "u" || KindOf(key)&KeyUser != 0)
}

// toOuterQuote lets a value without quotes go on to the quote that closes the text in which it stands with its key: "password=a b".
func (k keyed) toOuterQuote(b []byte, at int) keyed {
	if start, _, closed := KeySpan(b, at); !k.quoted && !closed && start > 0 && (b[start-1] == '"' || b[start-1] == '\'') {
		k.end = toQuote(b, k.end, b[start-1], isWholeArgument(b[:start-1]))
		k.lineStart = k.lineStart && (k.end == len(b) || b[k.end] != b[start-1])
	}
	return k
}

// ofBoth lets an account go on to the secret behind a comma, behind an option: --credentials=NAME,SECRET.
func (k keyed) ofBoth(b []byte, at int) keyed {
	start, end, _ := KeySpan(b, at)
	if b[at] != '=' || start == end || b[start] != '-' && (start < 1 || b[start-1] != '-') {
		return k
	}
	k.lineStart = false
	if k.quoted || k.end+2 >= len(b) || b[k.end] != ',' || chars.LastWord(b[start:end]) != "credentials" {
		return k
	}
	for k.end < len(b) && !chars.IsBlank(b[k.end]) {
		k.end++
	}
	return k
}

// listsWords says whether a list behind tokens is one of words, as parsers have it.
func (k keyed) listsWords(b []byte, at, end int) bool {
	key, last, _ := KeySpan(b, at)
	return chars.IsOneOf(b[key:last], "tokens") && isListOfWords(b[k.start:end])
}

// saysOtherwise says whether a value behind the key of a secret is none by what it is: the result of a test, a way to log in, the word of a
// sentence about it.
func (k keyed) saysOtherwise(b []byte, at int) bool {
	v := b[k.start:k.end]
	if b[at] == ':' && at > 3 && string(b[at-4:at]) == "PASS" && !chars.WordBefore(b, at-4) && !k.quoted &&
		(!LooksStrong(v) || k.end < len(b) && b[k.end] == ' ' || bytes.ContainsAny(v, ":./_")) {
		return true
	}
	if len(v) > 2 && len(v) < 12 && chars.HasWord(authWays, v) {
		if start, end, _ := KeySpan(b, at); end-start >= 4 && chars.IsOneOf(b[end-4:end], "auth") {
			return true
		}
	}
	return !k.quoted && bytes.HasPrefix(b[k.end:], []byte(" for ")) && chars.IsAllLetters(v) && IsEveryday(bytes.ToLower(v))
}

// declared gives the place behind the equals sign of a declaration with its type, as in password: String = "…", or 0.
func declared(b []byte, at int, k keyed) int {
	tagged := k.end-k.start <= 2 && chars.IsAllDigits(b[k.start:k.end]) // Tunnel-Password:1 = "…" of RADIUS (RFC 2868)
	if b[at] != ':' || k.quoted || !tagged && !chars.IsOneOf(b[k.start:k.end], "string", "str", "&str", "text", "any", "secretstr") {
		return 0
	}
	if rest := b[k.end:min(len(b), k.end+4)]; !bytes.HasPrefix(rest, []byte(` = "`)) && !bytes.HasPrefix(rest, []byte(" = '")) {
		return 0
	}
	return k.end + len(" = ")
}

// blockMark gives the end of the mark behind a colon that YAML has before a text on the next lines (YAML 1.2.2, section 8.1),
// or 0.
func blockMark(b []byte, at int) int {
	i := at + 1
	for i < len(b) && b[i] == ' ' {
		i++
	}
	if b[at] != ':' || i >= len(b) || b[i] != '|' && b[i] != '>' {
		return 0
	}
	if i++; i < len(b) && (b[i] == '-' || b[i] == '+') {
		i++
	}
	return i
}

// maxBlockLines bounds how many lines of a block belong to its key.
const maxBlockLines = 64

// blockScalar gives the lines that are further in than the key before a place.
func blockScalar(b []byte, at, from int) (int, int, bool) {
	first := chars.LineStart(b, at)
	indent := func(line []byte) int { return len(line) - len(bytes.TrimLeft(line, " ")) }
	own := indent(b[first:at])
	next := bytes.IndexByte(b[from:], '\n')
	if next < 0 || len(bytes.TrimSpace(b[from:from+next])) > 0 {
		return 0, 0, false
	}
	start, end := 0, 0
	for p, n := from+next+1, 0; p < len(b) && n < maxBlockLines; n++ {
		line := chars.LineFrom(b, p)
		if len(bytes.TrimSpace(line)) > 0 {
			if indent(line) <= own {
				break
			}
			if start == 0 {
				start = p + indent(line)
			}
			end = p + len(bytes.TrimRight(line, " \t\r"))
		}
		p += len(line)
		for p < len(b) && b[p] != '\n' {
			p++
		}
		p++
	}
	return start, end, start > 0 && start < end && IsValue(b[start:end]) && !bytes.Contains(b[start:end], beginKey)
}

// wrapped gives a value that stands in something: password = [[…]] and secret=[…], and new String("…").
func wrapped(b []byte, at int) (start, end int, ok bool) {
	start = at + 1
	for start < len(b) && b[start] == ' ' {
		start++
	}
	if bytes.HasPrefix(b[start:], []byte(`Some("`)) { // as Rust prints what is there
		start += len(`Some("`)
		n := bytes.IndexByte(b[start:min(len(b), start+maxElement)], '"')
		return start, start + max(n, 0), n > 0
	}
	if b[at] != '=' {
		return 0, 0, false
	}
	if start == len(b) || b[start] != '[' && b[start] != 'n' {
		return 0, 0, false
	}
	b = b[:min(len(b), start+maxElement)]
	rest := chars.LineFrom(b, start)
	shut := byte(']')
	switch {
	case bytes.HasPrefix(rest, []byte("[[")):
		start += 2
	case start == at+1 && len(rest) > 1 && rest[0] == '[' && chars.IsWord(rest[1]):
		start++
	case bytes.HasPrefix(rest, []byte("new String(\"")):
		start += len("new String(\"")
		shut = '"'
	default:
		return 0, 0, false
	}
	n := bytes.IndexByte(chars.LineFrom(b, start), shut)
	if n < 1 || PlaceholderLen(b[start-1:]) > 0 {
		return 0, 0, false
	}
	v := b[start : start+n]
	return start, start + n, shut == '"' || LooksChosen(v)
}

// authWays are values of keys such as auth that say how somebody is to be recognized.
var authWays = chars.WordSet("basic digest bearer ntlm negotiate kerberos krb5 spnego oauth oauth2 token plain login cram-md5 " +
	"digest-md5 gssapi container application jwt certificate cert ldap radius tacacs pam local md5 sha sha256 psk eap peap saml " +
	"oidc apikey form session server client")

// elementValue gives the text of the element <Value> that an element begins with whose start tag ends at a place.
func elementValue(b []byte, at int) (start, end int) {
	const tag = "<value>"
	rest := bytes.TrimLeft(b[at+1:min(len(b), at+64)], " \t\r\n")
	if len(rest) < len(tag) || !bytes.EqualFold(rest[:len(tag)], []byte(tag)) {
		return 0, 0
	}
	start = min(len(b), at+64) - len(rest) + len(tag)
	n := bytes.IndexByte(b[start:min(len(b), start+maxElement)], '<')
	return start, start + n
}

// Authorization finds the value of an Authorization header, without its scheme (RFC 9110, section 11.6).
func Authorization(b []byte, at, free int) (int, int, bool) {
	k, ok := keyedAt(b, at)
	if !ok || k.start < free {
		return 0, 0, false
	}
	if word := b[k.start:min(k.end, k.start+16)]; !k.quoted && chars.IsAllLetters(word) && !strings.EqualFold(string(word), "digest") {
		// One token behind the scheme; the parameters of a digest go on to the end of the line.
		at := k.end
		for at < len(b) && chars.IsSpace(b[at]) {
			at++
		}
		end := at
		for end < len(b) && end-at < chars.MaxValue && chars.IsTokenByte(b[end]) {
			end++
		}
		if end > at && b[end-1] == '=' && end+1 < len(b) && b[end] == '"' && !chars.IsBlank(b[end+1]) { // parameters, as of a digest
			end = at + len(bytes.TrimRight(chars.LineFrom(b, at), " \t"))
			return at, end, true
		}
		if end > at || PlaceholderLen(b[at:]) > 0 {
			return at, end, end > at && IsValue(b[at:end])
		}
	}
	start, end := headerValue(b, k)
	if !k.quoted && bytes.EqualFold(b[k.start:min(k.end, k.start+7)], []byte("digest")) { // its parameters are quoted
		end = start + len(chars.LineFrom(b, start))
		if key, _, _ := KeySpan(b, at); key > 0 && b[key-1] == '\'' {
			end = closing(b, start, '\'')
		}
	}
	// The scheme tells the vendor how the two sides talked.
	if n := bytes.IndexByte(b[start:min(end, start+17)], ' '); n > 0 && chars.IsAllLetters(b[start:start+n]) {
		start += n + 1
	}
	return start, end, start < end && IsValue(b[start:end])
}

// Cookie finds the value of a Cookie header (RFC 6265).
func Cookie(b []byte, at, free int) (int, int, bool) {
	k, ok := keyedAt(b, at)
	if !ok || k.start < free {
		return 0, 0, false
	}
	if !k.quoted && b[k.start] == '{' { // of JSON: all cookies go as one
		end := objectEnd(b, k.start)
		return k.start, end, end > k.start+2 && b[at] == ':' && b[at-1] == '"' && bytes.IndexByte(b[k.start:end], ':') > 0
	}
	start, end := headerValue(b, k)
	if b[start] == '[' && !IsPlaceholder(b[start:end]) {
		return 0, 0, false
	}
	first, last, _ := KeySpan(b, at)
	if !k.quoted && (b[first] == '-' || first > 0 && b[first-1] == '-') {
		end = endOfOption(b, start, end)
	}
	if !k.quoted && bytes.IndexByte(b[first:last], '.') >= 0 {
		return 0, 0, false // document.cookie of a program
	} else if last > first && b[last-1]|0x20 == 's' && !beginsCookie(b[start:end]) { // cookies: NAME=VALUE
		return 0, 0, false
	}
	if !k.quoted {
		end = beforeAttributes(b, b[first:last], start, end)
	}
	return start, end, start < end && IsValue(b[start:end])
}

// beginsCookie says whether a text begins with a name, an equals sign and a value.
func beginsCookie(text []byte) bool {
	n := bytes.IndexByte(text, '=')
	return n >= 1 && n+1 < len(text) && !chars.IsSpace(text[n+1]) && bytes.IndexFunc(text[:n], func(r rune) bool {
		return r != '_' && r != '-' && (r >= 0x80 || !chars.IsWord(byte(r)))
	}) < 0
}

// cookieAttributes are what stands behind a cookie that is set, and says how long and where it holds (RFC 6265, section 4.1).
var cookieAttributes = chars.WordSet("path domain expires max-age secure httponly samesite priority partitioned")

// beforeAttributes gives the end of a cookie that is set under a key, without its attributes.
func beforeAttributes(b, key []byte, start, end int) int {
	n := bytes.IndexByte(b[start:end], ';')
	if n < 0 || !chars.IsOneOf(key[max(0, len(key)-len("set-cookie")):], "set-cookie") {
		return end
	}
	word, _, _ := bytes.Cut(bytes.TrimLeft(b[start+n+1:end], " "), []byte(";"))
	word, _, _ = bytes.Cut(word, []byte("="))
	if !cookieAttributes.HasBytes(bytes.ToLower(bytes.TrimSpace(word))) {
		return end
	}
	return start + n
}

// endOfOption gives the end of cookies behind an option: they end with a word, but behind the sign between two of them.
func endOfOption(b []byte, start, end int) int {
	for n := start + 1; n < end; n++ {
		if chars.IsSpace(b[n]) && b[n-1] != ';' {
			return n
		}
	}
	return end
}

// headerValue gives the whole value of a header: to the closing quote, or to the end of the line.
func headerValue(b []byte, k keyed) (int, int) {
	if k.quoted {
		return k.start, k.end
	}
	if IsJSONNumber(b[k.start:k.end]) && bytes.HasSuffix(bytes.TrimRight(b[max(0, k.start-16):k.start], " \t"), []byte(`":`)) {
		return k.start, k.end
	}
	line := chars.LineFrom(b, k.start)
	if n := bytes.IndexAny(line, `"'`); n >= 0 {
		line = line[:n] // the header stands within quotes, as on a command line
	}
	return k.start, k.start + len(bytes.TrimRight(line, " \t"))
}
