package find

import (
	"bytes"
	"maps"
	"slices"
	"strings"
	"sync"

	"envask/internal/redact/chars"
)

// KeyKind says what a key announces. It is told from the key alone and cheaply, since most separators in a log stand
// behind a key that announces nothing.
type KeyKind uint16

const (
	KeySecret KeyKind = 1 << iota // its value is a secret
	KeyWeak                       // its value is a secret if it looks like one
	KeyAuthorization
	KeyCookie
	KeyUser
	KeyPhone
	KeyMAC
	KeyMailbox // its value may be a name with a mail address
	KeyPart    // its value is a name if it is part of something whose key tells
	KeyOwn     // it begins a form of its own, see ownForms
	KeyAddress // its value may be an address written as one number
	KeyDocument
)

// KeyLoose are the kinds that a key has only as long as it is not a part of a longer one.
const KeyLoose = KeyWeak | KeyMailbox | KeyPart

// WholeKeys are keys that announce something as a whole.
var WholeKeys = sync.OnceValue(func() map[string]KeyKind {
	m := map[string]KeyKind{"authorization": KeyAuthorization, "proxyauthorization": KeyAuthorization, "xauthorization": KeyAuthorization,
		"cookie": KeyCookie, "setcookie": KeyCookie, "documentcookie": KeyCookie, "cookies": KeyCookie}
	for k := range tellingUser.All() {
		m[k] = KeyUser
	}
	for k := range tellingPhone.All() {
		m[k] = KeyPhone
	}
	for _, k := range []string{"mac", "macaddress", "macaddr", "hwaddr", "hwaddress", "physicaladdress", "bssid", "clientmac",
		"ethernetaddress"} {
		m[k] = KeyMAC
	}
	for _, k := range []string{"encryptkey", "keycontent", "loggedinkey",
		"noncekey", "authsalt", "secureauthsalt", "loggedinsalt", "noncesalt", "recoverycode", "backupcode", "securityanswer",
		"secretanswer", "challengeanswer", "remotepass", "dnpass", "cvc", "cvv", "cvv2", "cardcvc", "pass4symmkey",
		"tlspskvalue", "pskvalue", "cleartext", "awsseckey", "seckey", "xjfrogartapi"} {
		m[k] = KeySecret
	}
	for _, k := range []string{"keyingmaterial", "productkey", "encrypt", "inlinestring", "provided", "supplied", "attempted", "entered"} {
		m[k] = KeyWeak
	}
	for k := range mailboxKeys.All() {
		m[k] |= KeyMailbox
	}
	for _, keys := range partKeys {
		for k := range keys.All() {
			m[k] |= KeyPart
		}
	}
	for k := range documentKeys.All() {
		m[k] = KeyDocument
	}
	for k := range ownForms {
		m[k] |= KeyOwn
	}
	for k := range AddressKeys.All() {
		m[k] |= KeyAddress
	}
	return m
})

// sourceEndings are those of files of programs, as stack traces name them before a line: TokenManager.java:97.
var sourceEndings = chars.WordSet("c h cc cpp cs go java js jsx ts tsx py rb rs php kt scala swift m mm pl pm lua vb sql sh " +
	"groovy erl ex hs")

func isSourceFile(key []byte) bool {
	n := bytes.LastIndexByte(key, '.')
	return n > 0 && len(key)-n <= 7 && sourceEndings.HasBytes(key[n+1:])
}

// wholeEnds are the ends of WholeKeys; twoEnds, those and the ends of the telling pieces.
var (
	wholeEnds = chars.Late[chars.WordEnds]{Build: func() *chars.WordEnds { return chars.NewWordEnds(maps.Keys(WholeKeys())) }}
	twoEnds   = chars.Late[chars.WordEnds]{Build: func() *chars.WordEnds {
		return chars.NewWordEnds(maps.Keys(WholeKeys()), slices.Values(Telling))
	}}
)

// WordBeforeKey returns the start of a key of two words, given the start of the second. The first must be a plain word that belongs to
// nothing before it.
func WordBeforeKey(b []byte, at int) (int, bool) {
	if at < 3 || b[at-1] != ' ' || !chars.IsWord(b[at-2]) || chars.IsDigit(b[at-2]) && (chars.IsDigit(b[at-3]) || !chars.IsWord(b[at-3])) {
		return 0, false
	}
	start := at - 1
	for start > 0 && at-start < chars.MaxKey/2 && (chars.IsWord(b[start-1]) || b[start-1] == '-') {
		start--
	}
	return start, start == 0 || b[start-1] != '=' && b[start-1] != '/'
}

// KindOfTwo gives the kind of a key of two words, to which both must belong.
func KindOfTwo(both, second []byte) KeyKind {
	var buf, part [chars.MaxKey]byte
	key := PlainKey(&buf, both)
	own := len(PlainKey(&part, second))
	if !twoEnds.Get().Before(key, len(key)) {
		return 0
	}
	if string(key) == "logname" { // Log Name: Application
		return 0
	}
	if kind := WholeKeys()[string(key)]; kind != 0 {
		return kind
	}
	if string(key) == "keymaterial" { // in two words, of a sentence
		return KeyWeak
	}
	if string(key) == "depasse" { // mot de passe
		return KeySecret
	}
	for _, t := range Telling {
		if len(t) > own && bytes.HasSuffix(key, []byte(t)) {
			return KeySecret
		}
	}
	return 0
}

// kindOfLetter gives the kind of a key of one letter: the private parts of JSON web keys (RFC 7517), and what stands in URLs behind an
// account.
func kindOfLetter(raw []byte) KeyKind {
	if len(raw) == 1 && (raw[0] == 'd' || raw[0] == 'k' || raw[0] == 'p') {
		return KeyWeak
	}
	return 0
}

// KindOf gives the kind of a key as it is written.
func KindOf(raw []byte) KeyKind {
	if len(raw) < 2 {
		return kindOfLetter(raw)
	}
	if len(raw) > 4 && raw[0] == '-' && raw[1] == 'D' { // -Dkey=value, as runtimes take it
		raw = raw[2:]
	}
	if !chars.IsAscii(raw) {
		if kind := kindElsewhere(raw); kind != 0 {
			return kind
		}
	}
	var buf [chars.MaxKey]byte
	key := PlainKey(&buf, raw)
	if len(key) < 2 || isSourceFile(raw) {
		return 0
	}
	kind := KeyKind(0)
	if wholeEnds.Get().Before(key, len(key)) {
		if kind = WholeKeys()[string(key)]; kind == 0 {
			kind = lastMember(raw)
		}
	}
	if holdsTelling(key) {
		if !IsHarmless(key) {
			kind |= KeySecret
		}
		return kind
	}
	if lastTwo.Get().Has(key[len(key)-2], key[len(key)-1]) {
		return kindOfLast(raw, key, kind)
	}
	return kind
}

// kindOfLast gives the kind of a key by its last word, given what it is as a whole.
func kindOfLast(raw, key []byte, kind KeyKind) KeyKind {
	last := chars.LastWord(raw)
	switch {
	case tellingLast.Has(last) && !otherPasses.HasBytes(key), tellingLast.HasBytes(key), isCompoundPass(last),
		entries.Has(last) && isShortPassword(key, last):
		return kind | KeySecret
	case weaklyTelling.Has(last) && !namesOpenly(key, last):
		return kind | KeyWeak
	case kind != 0:
	case last == "mac" || bytes.HasSuffix(key, []byte("macaddress")):
		return KeyMAC
	case tellingPhone.Has(last):
		return KeyPhone
	case namesUser(key, last), len(key) > 4 && doneBy(key, last):
		return KeyUser
	}
	return kind
}

// doneBy reports whether a key of several words ends with "by": started_by, exportedBy. What something is parted or ordered by is no
// person.
func doneBy(key []byte, last string) bool {
	if last != "by" {
		return false
	}
	verb := key[:len(key)-2]
	return bytes.HasSuffix(verb, []byte("ed")) && !orderedBy.HasBytes(verb) || chars.IsOneOf(verb, "done", "taken", "made", "given",
		"written", "sent", "run")
}

// orderedBy are deeds behind which no person stands.
var orderedBy = chars.WordSet(`ordered sorted grouped parted partitioned indexed separated delimited followed preceded caused divided
	multiplied satisfied generated required used needed limited bounded supported provided powered matched filtered clustered
	distributed referenced imported included affected covered blocked`)

// namesOpenly reports whether a key whose last word tells weakly is one of what everybody may know: a public key, the number of an account.
func namesOpenly(key []byte, last string) bool {
	return last == "key" && (bytes.Contains(key, []byte("public")) || bytes.HasSuffix(key, []byte("pubkey"))) ||
		bytes.HasSuffix(key, []byte("accountsid"))
}

// leastMember is how long the last part of a key with dots is at least that tells alone, in bytes.
const leastMember = 8

// lastMember gives the kind of the last part of a key with dots, which says whose it is before: account.1.display_name.
func lastMember(raw []byte) KeyKind {
	n := memberAt(raw)
	if n == 0 {
		return memberOf(raw)
	}
	var buf [chars.MaxKey]byte
	return WholeKeys()[string(PlainKey(&buf, raw[n:]))]
}

// memberOf gives the kind of a short last part by what stands before it: user.login, User1.Name, User1.Code.
func memberOf(raw []byte) KeyKind {
	n := bytes.LastIndexByte(raw, '.')
	if n < 1 || n == len(raw)-1 || KindOf(bytes.TrimRight(raw[:n], "0123456789_"))&KeyUser == 0 {
		return 0
	}
	switch string(bytes.ToLower(raw[n+1:])) {
	case "login", "name":
		return KeyUser
	case "code":
		return KeySecret
	}
	return 0
}

// memberAt gives where that part begins, or 0.
func memberAt(key []byte) int {
	n := bytes.LastIndexByte(key, '.')
	if n < 1 || len(key)-n <= leastMember {
		return 0
	}
	return n + 1
}

// isShortPassword says whether a key is a short word for a password before a last one.
func isShortPassword(key []byte, last string) bool {
	return chars.IsOneOf(key[:len(key)-len(last)], "pw", "pwd", "pass", "passwd", "otp", "totp", "pin")
}

// otherPasses are words that end in pass and mean no password.
var otherPasses = chars.WordSet(`bypass compass trespass surpass overpass underpass encompass outpass onepass firstpass twopass
	multipass lowpass
	testpass testspass highpass bandpass allpass renderpass subpass boardingpass buspass daypass seasonpass byepass impass pypass`)

// isCompoundPass says whether the last word of a key is a compound whose end is the short word for a password: controlpass.
func isCompoundPass(last string) bool {
	return len(last) > len("pass")+1 && strings.HasSuffix(last, "pass") && !otherPasses.Has(last)
}

// namesUser says whether a key ends like those of users: session_user, dbUserName.
func namesUser(key []byte, last string) bool {
	if last == "id" {
		return bytes.HasSuffix(key, []byte("userid")) && len(key) > len("userid")
	}
	return last == "user" || last == "userid" || last == "usr" || last == "username" ||
		bytes.HasSuffix(key, []byte("username")) || bytes.HasSuffix(key, []byte("user")) &&
		!bytes.HasSuffix(key, []byte("expanduser")) && !chars.IsOneOf(key, "superuser", "multiuser", "enduser",
		"singleuser", "fuser", "adduser", "deluser")
}

// lastTwo are the last two letters of the words that tell as the last word of a key: what ends in others is not looked up.
var lastTwo = chars.Late[chars.Pairs]{Build: func() *chars.Pairs {
	set := new(chars.Pairs)
	for _, words := range []*chars.Words{tellingLast, weaklyTelling, tellingPhone, entries,
		chars.WordSet("user usr username id userid mac address by")} {
		for w := range words.All() {
			set.Add(w[len(w)-2], w[len(w)-1])
		}
	}
	return set
}}

// harmlessEnds are the last three letters of these.
var harmlessEnds = chars.Late[chars.GramSet]{Build: func() *chars.GramSet {
	g := new(chars.GramSet)
	for _, h := range harmless {
		g.Add(h[len(h)-3:])
	}
	return g
}}

// asking are verbs that begin keys which say what is done about secrets: requirePassword, allowEmptyPassword.
// Not enable: behind enable_password stands one.
var asking = []string{"require", "allow", "disable", "show", "hide", "nopass"}

// IsHarmless says whether a key speaks about a secret without holding it.
func IsHarmless(key []byte) bool {
	for _, verb := range asking {
		if bytes.HasPrefix(key, []byte(verb)) {
			return true
		}
	}
	if len(key) < 3 || !harmlessEnds.Get().Has(key, len(key)-3) {
		return false
	}
	for _, h := range harmless {
		if bytes.HasSuffix(key, []byte(h)) && string(key) != "idtokenhint" { // it is the token itself
			return true
		}
	}
	return false
}

// holdsTelling says whether one of the telling pieces stands in a key.
func holdsTelling(key []byte) bool {
	for i := 0; i+3 <= len(key); i++ {
		if !tellingGrams.Get().Has(key, i) {
			continue
		}
		for _, t := range Telling {
			if len(key)-i >= len(t) && string(key[i:i+len(t)]) == t && !otherWord(key, i, i+len(t)) {
				return true
			}
		}
	}
	return false
}

// otherWords are beginnings of what makes another word of a telling one behind it: tokenizer, secretary, passwordless.
var otherWords = [][]byte{[]byte("iz"), []byte("is"), []byte("ary"), []byte("ari"), []byte("ly"), []byte("less"), []byte("review")}

// otherWord reports whether a telling piece of a key is a part of another word.
func otherWord(key []byte, start, end int) bool {
	for _, g := range otherWords {
		if bytes.HasPrefix(key[end:], g) {
			return true
		}
	}
	return start == 3 && string(key[:3]) == "lib"
}

// KeySpan gives the key before the separator at a place: in key=value and key: value, also quoted (closed says so), and the
// name of an XML element before its >.
func KeySpan(b []byte, at int) (start, end int, closed bool) {
	switch b[at] {
	case '>':
		start, end = elementName(b, at)
		return start, end, false
	case '%', ';', '\\':
		start, end = encodedKey(b, at)
		return start, end, false
	}
	end = withoutBlanks(b, at)
	if end > 4 && (b[end-1] == '*' || b[end-1] == '`') {
		return markedKey(b, end)
	}
	if closed = end > 0 && (b[end-1] == '"' || b[end-1] == '\''); closed {
		end--
		for n := 0; end > 0 && b[end-1] == '\\' && n < 16; n++ {
			end--
		}
	} else if end >= len(entityQuote) && b[end-1] == ';' && bytes.HasSuffix(b[:end], entityQuote) {
		end, closed = end-len(entityQuote), true
	}
	if start = bracedKey(b, end); !closed && start < end {
		return start, end - 1, true
	}
	if !closed && end > 0 && b[end-1] == ']' {
		start, end = indexedKey(b, at, end)
		return start, end, true
	}
	start = end
	for start > 0 && end-start < chars.MaxKey && chars.IsKeyByte(b[start-1]) {
		start--
	}
	if !closed {
		start, end = beforeType(b, at, start, end)
	}
	return start, end, closed
}

// withoutBlanks gives the end of what stands before a separator and the blanks before it; lists are filled up with them.
func withoutBlanks(b []byte, at int) int {
	end, most := at, 8
	if b[at] == ':' {
		most = 40
	}
	for n := 0; end > 0 && chars.IsSpace(b[end-1]) && n < most; n++ {
		end--
	}
	return end
}

// bracedKey gives where a key begins whose brace closes before a place, behind the name of what holds it: $cfg{dbpw} = …; the place itself
// where there is none.
func bracedKey(b []byte, end int) int {
	if end < 3 || b[end-1] != '}' || !chars.IsWord(b[end-2]) {
		return end
	}
	start := KeyBegin(b, end-1)
	if start < 2 || b[start-1] != '{' || !chars.IsWord(b[start-2]) {
		return end
	}
	return start
}

// beforeType gives the name before the type of a declaration that has it behind the name: param adminPassword string = '…'.
func beforeType(b []byte, at, start, end int) (int, int) {
	if b[at] != '=' || end-start != len("string") || start < 2 || b[start-1] != ' ' || string(b[start:end]) != "string" {
		return start, end
	}
	return KeyBegin(b, start-1), start - 1
}

// KeyBegin gives where the bytes of keys begin that end at a place.
func KeyBegin(b []byte, end int) int {
	start := end
	for start > 0 && end-start < chars.MaxKey && chars.IsKeyByte(b[start-1]) {
		start--
	}
	return start
}

// markedKey gives the key that Markdown sets apart, and whose marks end at a place: **key**: and `key`:.
func markedKey(b []byte, at int) (start, end int, closed bool) {
	mark := 1
	if b[at-1] == '*' {
		if mark = 2; b[at-2] != '*' {
			return at, at, false
		}
	}
	end = at - mark
	start = end
	for start > 0 && end-start < chars.MaxKey && chars.IsKeyByte(b[start-1]) {
		start--
	}
	if mark == 1 && (at+2 >= len(b) || b[at+1] != '`' && (b[at+1] != ' ' || b[at+2] != '`' &&
		b[at+2] != '"')) { // else it may be said what the key is for
		return at, at, false
	}
	if start < mark || start == end || b[start] == '-' || b[start-1] != b[at-1] || mark == 2 && b[start-2] != '*' || mark == 1 &&
		start > 1 && (b[start-2] == '`' || b[start-2] == '_') {
		return at, at, false
	}
	return start, end, false
}

// indexedKey gives the key of config['password'], of [password] => and of secret[0], which end with a bracket. Without quotes
// it is one before an equals sign only: in logs, what stands in brackets before a colon is where the line comes from.
func indexedKey(b []byte, at, end int) (int, int) {
	from := max(0, end-chars.MaxKey)
	open := bytes.LastIndexByte(b[from:end-1], '[')
	if open < 0 || from+open+1 == end-1 && b[at] != '=' {
		return end, end
	}
	start, stop := from+open+1, end-1
	if start == stop { // char password[] = "…"
		stop = start - 1
		for start = stop; start > 0 && stop-start < chars.MaxKey && chars.IsKeyByte(b[start-1]); {
			start--
		}
		return start, stop
	}
	if quote := b[start]; (quote == '"' || quote == '\'') && stop-start > 2 && b[stop-1] == quote {
		start, stop = start+1, stop-1
	} else if b[at] != '=' {
		return end, end
	}
	if chars.IsAllDigits(b[start:stop]) {
		stop = start - 1
		for start = stop; start > 0 && stop-start < chars.MaxKey && chars.IsKeyByte(b[start-1]); {
			start--
		}
		return start, stop
	}
	for _, c := range b[start:stop] {
		if !chars.IsKeyByte(c) {
			return end, end
		}
	}
	return start, stop
}

// elementName gives the name of the XML element whose start tag ends at a place, without its prefix. <key/> holds nothing,
// and what stands behind </key> is no value of it: both have none.
func elementName(b []byte, at int) (start, end int) {
	start = at
	for n := 0; start > 0 && n < 4*chars.MaxKey && b[start-1] != '<' && b[start-1] != '\n' && b[start-1] != '>'; n++ {
		start--
	}
	if start == 0 || b[start-1] != '<' || start == at || b[at-1] == '/' {
		return 0, 0
	}
	for end = start; end < at && !chars.IsSpace(b[end]); end++ {
		if !chars.IsKeyByte(b[end]) && b[end] != ':' {
			return 0, 0 // no name of an element
		}
	}
	if n := bytes.LastIndexByte(b[start:end], ':'); n >= 0 {
		start += n + 1
	}
	return start, min(end, start+chars.MaxKey)
}

var entityQuote = []byte("&quot;")

// PlainKey takes a key down to lower-case letters and digits without trailing digits, so that dbPassword2, DB_PASSWORD and
// db-password are one.
func PlainKey(buf *[chars.MaxKey]byte, raw []byte) []byte {
	n := 0
	for _, c := range raw {
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		if (c >= 'a' && c <= 'z' || chars.IsDigit(c)) && n < chars.MaxKey {
			buf[n] = c
			n++
		}
	}
	for n > 0 && chars.IsDigit(buf[n-1]) {
		n--
	}
	return buf[:n]
}
