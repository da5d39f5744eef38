package redact

import (
	"bytes"
	"strings"
)

// A value may stand behind its telling word with nothing but a space between: in configurations of network devices and
// servers, in SQL and mail protocols, and in sentences. Which of these it is decides how sure one can be: behind the words
// of a configuration any value counts, in a sentence only one that looks chosen.

// tellingWords say in a configuration or a sentence that a secret follows.
var tellingWords = wordSet(`password passwd passphrase passcode secret community key key-string pwd pre-shared-key authentication-key encryption-key
	message-digest-key server-key md5 sha wpa-psk wpa2-psk psk psksecret encrypted-password plain-text-password auth-pass priv-pass ascii-text ascii hex
	authentication pin otp code token pass sha1 sha256 sha-256 shared-secret auth-password priv-password passwort kennwort senha plain login enc
	key-chain simple by auth authentication-password privacy-password privacy-key api-token access-token auth-token apikey eap xauth api-key auth-key user-password admin-password bind-password hex-key ascii-key encrypted cipher passwords aes des string text`)

// directives are first words of a line behind which, alone, a secret stands.
var directives = wordSet(`bindpw rootpw requirepass masterauth rocommunity rwcommunity rocommunity6 rwcommunity6 authpass password_hash smtp_sasl_password
	rootdn-password userpw ldap_default_authtok storepass keypass passin passout`)

// configVerbs begin the lines of device and server configurations in which a value stands behind its word.
var configVerbs = wordSet(`enable username user snmp-server snmp radius-server radius tacacs-server tacacs crypto pre-shared-key neighbor ip ipv6 ntp standby vrrp ppp
	wpa-psk wpa2-psk set key-string area isis authentication password secret community machine login default peer aaa server wlan wireless ssid security
	interface bgp ospf eigrp glbp hsrp create alter grant identified localuser local-user super add proxy credentials account administrator admin
	encrypted-password authentication-key key psk server-private address mgmt-user dot1x aaa-server pac hwtacacs-server key-chain snmp-agent ldap mysql vpn tunnel no-login console line config define trap-receiver stats`)

// keyVerbs begin the lines in which even the plain word key announces a secret.
var keyVerbs = wordSet(`failover option radius-server radius tacacs-server tacacs crypto pre-shared-key ntp server-key aaa server server-private aaa-server pac key-chain key authentication vpn tunnel address wlan set peer`)

// skipped stand between the word and its value: how the value is written.
var skipped = newWordList(wordSet(`0 3 4 5 6 7 8 9 10 enc ascii ascii-text hex plain plaintext plain-text encrypted cipher simple irreversible-cipher is was md5 sha sha1 sha256 sha-256 hmac-md5
	hmac-sha-256 string key key-string password secret pass des aes 3des aes128 aes256 unencrypted clear cleartext hash hashed reversible aes-128 aes-256 128 192 256`))

// notValues follow a telling word in configurations without being its value.
var notValues = newWordList(wordSet(`policy expiry expires expired length minimum maximum min max encryption level for to is was from file authentication type chain has and or of in on the a an with must may can
	cannot not no yes true false null none never ever required optional enabled disabled changed change reset wrong missing invalid incorrect accepted rejected denied failed failure ok check
	checking verified verification prompt manager service store storage lookup hash rotation generated created updated set sent read received empty mismatch match matches valid mode
	method list group server protocol algorithm history lifetime retry retries attempts attempt timeout lockout complexity strength strong weak protected protection encryption-type
	recovery default change-password update field hint id name string any all default-group local rsa dsa ecdsa ed25519 generate zeroize public private version size bits exchange
	agreement usage import export pair material management server-side client-side label at by as if when while than then until only edition member website forum manager-mode
	authorization ro rw view read-only read-write map context engineid users user login password secret key token community code pin bearer basic digest null-auth cryptographic`))

// placeWords tell of a secret only in their place, see behindOther.
var placeWords = func() map[string]bool {
	words := wordSet("host is reset changed reg_sz reg_expand_sz")
	for w := range arguments {
		words[w] = true
	}
	return words
}()

// valueWords are all words behind which a value may stand.
var valueWords = newWordList(tellingWords, directives, placeWords)

// valueAfterWord finds the value behind the telling word that ends before a space.
func valueAfterWord(b []byte, at, free int) (int, int, bool) {
	start := at
	for start > 0 && at-start < 24 && (isWord(b[start-1]) || b[start-1] == '-') {
		start--
	}
	if start > 0 && (b[start-1] == '.' || b[start-1] == '/' || b[start-1] == '=') {
		return 0, 0, false
	}
	if start > 0 && b[start-1] == '\\' && start+1 < at && bytes.IndexByte([]byte("nrt"), b[start]) >= 0 {
		start++ // the letter of an escape
	}
	if at-start == 4 && b[start] == 'p' && b[start+1] == 'a' && b[start+2] == 's' {
		return 0, 0, false // only in capitals it is the word of a protocol
	}
	switch string(b[start:at]) { // these tell in capitals only, see weakWord
	case "auth":
		if bytes.HasSuffix(b[:start], []byte("stats ")) { // stats auth NAME:SECRET, of a proxy
			if words := wordsFrom(b, at); len(words) > 0 {
				return behindUser(b, words[0][0], words[0][1])
			}
		}
		return 0, 0, false
	case "by":
		return 0, 0, false
	}
	var buf [32]byte
	word := string(lowered(&buf, b[start:at]))
	if !valueWords.has(b[start:at]) {
		return behindCompound(b, at, free, start)
	}
	first := lineStart(b, start)
	if !tellingWords[word] {
		return behindOther(b, at, free, first, start, word)
	}
	if at+4 < len(b) && b[at+1] == 'f' && string(b[at+1:at+5]) == "for " && isOneOf(b[start:at], "password", "passphrase", "passcode", "passwd", "otp", "pin") {
		return prompted(b, at, free)
	}
	if (word == "login" || word == "auth") && isUpper(b[start]) {
		if words := wordsFrom(b, at); len(words) == 2 && (word == "login" || nameAt(b, words[0][0]) == words[0][1] && !waysToLogIn.has(b[words[0][0]:words[0][1]])) { // LOGIN NAME SECRET of mailboxes, AUTH NAME SECRET of caches
			vs, ve := words[1][0], words[1][1]
			if ve-vs > 2 && b[vs] == '"' && b[ve-1] == '"' {
				return vs + 1, ve - 1, vs >= free && isValue(b[vs+1:ve-1])
			}
			return vs, ve, vs >= free && isValue(b[vs:ve]) && looksChosen(b[vs:ve]) && bytes.IndexByte([]byte(".,:;"), b[ve-1]) < 0
		}
	}
	if at+1 < len(b) && (b[at+1] == '[' || b[at+1] == '(' || b[at+1] == '<') && isOneOf(b[start:at], "password", "passphrase", "passcode", "passwd", "pwd") {
		return bracketed(b, at+1, free)
	}
	vs, ve, sure := worded(b, at)
	if len(word) < 6 && vs > 0 && isAllLetters(b[vs:ve]) && isOneOf(b[start:at], "token", "code", "otp", "pin") {
		return 0, 0, false // see weakWord; most of what is behind these words is no more than the next word
	}
	if !mayFollow(b, vs, ve, free) {
		return 0, 0, false
	}
	if ve < len(b) && (b[ve] == '"' || b[ve] == '\'') && b[ve-1] == '=' || bytes.IndexByte([]byte(".,:"), b[ve-1]) >= 0 {
		return 0, 0, false // an attribute, or the end of a clause
	}
	verb, sureVerb := verbOf(b[first:start])
	switch {
	case !sureVerb && (isUpper(b[start]) || !looksChosen(b[vs:ve])): // a message that begins like a command
		verb = ""
	case verb == "":
		verb = word
	}
	switch word {
	case "string", "text", "key", "md5", "sha", "ascii", "hex", "authentication", "plain", "login", "enc", "simple", "code", "token", "pin", "encrypted", "cipher", "aes", "des", "sha1", "sha256", "sha-256", "pass", "otp", "by", "auth", "eap", "xauth":
		return vs, ve, weakWord(b, word, verb, first, start, vs, ve)
	}
	if configVerbs[verb] && verb != word {
		return vs, ve, true
	}
	if isAllDigits(b[vs:ve]) && ve-vs >= 4 && isOneOf([]byte(lastWordOf(b[first:start])), "one-time", "onetime", "temporary", "initial", "sms") {
		return vs, ve, true
	}
	return vs, ve, sure || looksChosen(b[vs:ve])
}

// mayFollow says whether a text can be a value behind a word and a space.
func mayFollow(b []byte, vs, ve, free int) bool {
	return vs >= free && ve > vs && bytes.IndexByte([]byte("=:<>-("), b[vs]) < 0 && isValue(b[vs:ve]) && !notValues.has(bytes.TrimRight(b[vs:ve], ".,:;"))
}

// behindOther finds the secret behind a word from start on that tells of one only in its place: a directive, a command, a verb.
func behindOther(b []byte, at, free, first, start int, word string) (int, int, bool) {
	place := arguments[word]
	if directives[word] {
		place = 1
	}
	switch {
	case place > 0 && len(bytes.Trim(b[first:start], " \t")) == 0:
		return argument(b, at, free, place)
	case place > 0 && beginsMessage(b, start):
		vs, ve, ok := argument(b, at, free, place)
		return vs, ve, ok && looksChosen(b[vs:ve])
	case word == "host" && bytes.Contains(b[first:start], []byte("snmp-server")):
		return snmpHost(b, at, free)
	case word == "reg_sz" || word == "reg_expand_sz":
		return secretOfRegistry(b, at, free)
	case word == "is":
		if bytes.HasPrefix(b[at:], []byte(" your ")) {
			return codeBefore(b, at, free, start)
		}
		return saidToBe(b, at, free, first, start)
	case word == "changed" && bytes.HasPrefix(b[at+1:], []byte("from ")):
		return changedFrom(b, at, free, first, start)
	case word == "reset" || word == "changed":
		if !bytes.HasPrefix(b[at+1:], []byte("to ")) {
			return 0, 0, false
		}
		return saidToBe(b, at+len(" to"), free, first, start)
	}
	return 0, 0, false
}

// codeBefore finds the code of a message that begins with it: 481516 is your code for ….
func codeBefore(b []byte, at, free, start int) (int, int, bool) {
	end := start - 1
	from := end
	for from > free && isDigit(b[from-1]) {
		from--
	}
	lettered := from > 1 && b[from-1] == '-' && isUpper(b[from-2]) && (from == 2 || !isKeyByte(b[from-3])) // G-481516
	if n := end - from; n < 4 || n > 10 || b[end] != ' ' || from > 0 && !lettered && (isWord(b[from-1]) || b[from-1] == '.' || b[from-1] == '-') {
		return 0, 0, false
	}
	for _, w := range bytes.Fields(b[at:min(len(b), at+48)]) {
		if isOneOf(bytes.TrimRight(w, ".,:;!"), "code", "pin", "otp", "password", "passcode") {
			return from, end, true
		}
	}
	return 0, 0, false
}

// compoundEnds are the last parts of the words of configurations that end in a dash and a telling word: area-password, wpa-passphrase,
// snmp-community-string.
var compoundEnds = newWordList(compoundWords)

// underscoreEnds are those behind an underscore.
var underscoreEnds = newWordList(compoundWords, looseWords)

var looseWords = wordSet("key pass pin")

var compoundWords = wordSet("password passwd passphrase pwd psk secret token apikey hexkey shared-key community-string key-string")

// behindCompound finds the secret behind such a word from start on, at the beginning of a line or behind the verb of a configuration.
func behindCompound(b []byte, at, free, start int) (int, int, bool) {
	if n := bytes.LastIndexByte(b[start:at], '_'); n > 0 && underscoreEnds.has(b[start+n+1:at]) && kindOf(b[start:at])&keySecret != 0 {
		vs, ve, _ := worded(b, at)
		return vs, ve, mayFollow(b, vs, ve, free) && looksStrong(b[vs:ve]) && (ve == len(b) || b[ve] != '(' && b[ve] != '=') && bytes.IndexByte([]byte(".,:;"), b[ve-1]) < 0
	}
	dash := bytes.IndexByte(b[start:at], '-')
	for dash > 0 && !compoundEnds.has(b[start+dash+1:at]) {
		next := bytes.IndexByte(b[start+dash+1:at], '-')
		if next < 0 {
			return 0, 0, false
		}
		dash += 1 + next
	}
	if dash <= 0 {
		return 0, 0, false
	}
	first := lineStart(b, start)
	verb, sureVerb := verbOf(b[first:start])
	vs, ve, sure := worded(b, at)
	if sureVerb && verb != "" && !configVerbs[verb] && !(sure && vs > 0 && b[vs-1] == '"' && looksChosen(b[vs:ve])) {
		return 0, 0, false
	}
	if !mayFollow(b, vs, ve, free) || bytes.IndexByte([]byte(".,:"), b[ve-1]) >= 0 {
		return 0, 0, false
	}
	return vs, ve, sure && sureVerb || looksChosen(b[vs:ve])
}

// prompted finds the secret behind a prompt that says whose it is: Password for svc@PIER: ….
func prompted(b []byte, at, free int) (int, int, bool) {
	line := lineFrom(b, at)
	n := bytes.Index(line[:min(len(line), maxKey)], []byte(": "))
	if n < 0 {
		return 0, 0, false
	}
	k, ok := keyed{}.readValue(b, at+n+2)
	if !ok || k.start < free {
		return 0, 0, false
	}
	v := b[k.start:k.end]
	return k.start, k.end, isValue(v) && (looksChosen(v) || len(v) >= 4 && isAllDigits(v)) && !endsInAlias(v)
}

// saidToBe finds the secret of a sentence in which more stands between the word and it: the new password for user x is ….
func saidToBe(b []byte, at, free, first, start int) (int, int, bool) {
	before, found := b[max(first, start-64):start], false
	if n := bytes.LastIndex(before, placeholderHead); n >= 0 { // what stood there may have been longer
		before = before[n:]
	}
	for _, w := range bytes.Fields(before) {
		found = found || isOneOf(bytes.TrimLeft(w, `"'(`), "password", "passwd", "passphrase", "passcode", "pwd", "pin", "otp")
	}
	end := start - 1
	name := end
	for name > first && end-name < maxKey && isKeyByte(b[name-1]) {
		name--
	}
	compound := !found && end > name && kindOf(b[name:end])&keySecret != 0 // the client_secret is …
	if !found && !compound {
		return 0, 0, false
	}
	k, ok := keyed{}.readValue(b, at)
	if !ok || k.start < free || !k.quoted && closesText(b, at) {
		return 0, 0, false
	}
	for !k.quoted && k.end > k.start && (b[k.end-1] == '.' || b[k.end-1] == ':') {
		k.end--
	}
	v := b[k.start:k.end]
	return k.start, k.end, len(v) > 0 && isValue(v) && (looksChosen(v) && (found || looksStrong(v)) || found && len(v) >= 4 && isAllDigits(v))
}

// waysToLogIn are the mechanisms of SASL, which stand behind AUTH in mail protocols (IANA, SASL Mechanisms).
var waysToLogIn = newWordList(wordSet("plain login cram-md5 digest-md5 gssapi external ntlm xoauth2 oauthbearer scram-sha-1 scram-sha-256 anonymous"))

// weakWord says whether a value behind a word of several meanings is a secret.
func weakWord(b []byte, word, verb string, first, start, vs, ve int) bool {
	v := b[vs:ve]
	before := lastWordOf(b[first:start])
	switch word {
	case "key":
		if isOneOf([]byte(before), "activation", "license", "licence", "api", "product") && ve-vs >= 8 && looksChosen(v) && bytes.ContainsAny(v, "0123456789") {
			return true
		}
		return keyVerbs[verb] && verb != "set" && (looksChosen(v) || verb != "key" && len(v) >= 6 && !isAllDigits(v))
	case "string", "text": // ip rip authentication string …, vrrp 1 authentication text …
		return before == "authentication" && configVerbs[verb] && verb != before
	case "authentication":
		return (verb == "standby" || verb == "vrrp" || verb == "glbp") && !isOneOf(v, "md5", "text")
	case "by": // IDENTIFIED BY '…'
		return (before == "identified" || bytes.Contains(b[first:start], []byte("IDENTIFIED WITH "))) && (b[vs-1] == '\'' || b[vs-1] == '"') && b[start] == 'B'
	case "auth": // AUTH … of caches
		return string(b[start:vs-1]) == "AUTH" && !waysToLogIn.has(v) && looksChosen(v)
	case "plain", "login": // mail protocols: AUTH PLAIN BASE64
		return before == "auth" && len(v) >= 8 && isBase64(v) && !isLowerWord(v) || before == "vault" && looksChosen(v)
	case "pass":
		return string(b[start:vs-1]) == "PASS" && looksChosen(v) // of FTP and POP
	case "eap", "xauth": // of secrets of IPsec: svc : EAP "…"
		return before == ":" && (b[vs-1] == '"' || b[vs-1] == '\'')
	case "code", "otp", "pin", "token":
		if word == "code" && ve-vs >= 4 && ve-vs <= 8 && isAllDigits(v) && (bytes.HasPrefix(b[ve:], []byte(" expires ")) || bytes.HasPrefix(b[ve:], []byte(" is valid for "))) {
			return true
		}
		if first, _, _ := bytes.Cut(v, []byte("-")); algorithms.has(first) { // the access token is base64url-encoded
			return false
		}
		return (isOneOf([]byte(before), "verification", "one-time", "security", "access", "confirmation", "login", "mfa", "sms", "auth", "pin", "service", "passenger", "unlock") || word == "otp" || word == "pin") &&
			len(v) >= 4 && (isAllDigits(v) || looksChosen(v)) || word == "token" && (looksRandom(v) || quotedToken(b, before, vs, ve))
	case "md5", "sha", "sha1", "sha256", "sha-256", "aes", "des", "simple", "cipher", "encrypted", "ascii", "hex", "enc":
		if verb == "createuser" {
			return true
		}
		return configVerbs[verb] && hasTelling(b[first:start]) && (verb != "set" || looksChosen(v))
	}
	return false
}

func isLowerWord(v []byte) bool {
	for _, c := range v {
		if !isLower(c) {
			return false
		}
	}
	return true
}

// quotedToken says whether what stands in quotes behind the word token is a secret, and not what a parser stumbled over.
func quotedToken(b []byte, before string, vs, ve int) bool {
	return (b[vs-1] == '"' || b[vs-1] == '\'') && ve-vs >= 10 && looksChosen(b[vs:ve]) && !isOneOf([]byte(before), "unexpected", "invalid", "unknown", "illegal", "near", "at", "expected")
}

// worded gives the value behind a telling word, past the words that only say how it is written; sure says that one of
// these, or quotes, make it one beyond doubt.
func worded(b []byte, at int) (start, end int, sure bool) {
	for n := 0; n < 4; n++ {
		k, ok := keyed{}.readValue(b, at)
		if !ok || closesText(b, at) {
			return 0, 0, false
		}
		if k.quoted {
			return k.start, k.end, true
		}
		w := b[k.start:min(k.end, k.start+24)]
		if side := n == 0 && isOneOf(w, "local", "remote") && bytes.HasSuffix(b[:at], []byte("pre-shared-key")); side { // of a tunnel
			sure = true
		} else if !skipped.has(bytes.TrimRight(w, ":")) || k.end >= len(b) || !isSpace(b[k.end]) {
			return k.start, k.end, sure
		}
		if len(w) == 1 && isDigit(w[0]) {
			sure = true
		}
		at = k.end
	}
	return 0, 0, false
}

// hasTelling says whether one of the words of a line is a telling one.
func hasTelling(line []byte) bool {
	for _, w := range bytes.Fields(line) {
		l := strings.ToLower(string(w))
		if tellingWords[l] || strings.Contains(l, "key") || strings.Contains(l, "password") || strings.Contains(l, "authentication") {
			return true
		}
	}
	return false
}

// arguments are directives whose secret stands at a fixed place behind them: com2sec NAME SOURCE COMMUNITY.
var arguments = map[string]int{"com2sec": 3, "com2sec6": 3, "mgmt-user": 3, "trapsink": 2, "trap2sink": 2, "informsink": 2, "rasdial": 3}

// argument finds the secret among the arguments of a directive that ends at a place.
func argument(b []byte, at, free, place int) (int, int, bool) {
	words := wordsFrom(b, at)
	if len(words) > 0 && bytes.IndexByte([]byte("=:-"), b[words[0][0]]) >= 0 && string(b[words[0][0]:words[0][1]]) != "-Cn" {
		return 0, 0, false // another rule reads what is behind such a sign
	}
	if len(words) > 1 && string(b[words[0][0]:words[0][1]]) == "-Cn" {
		place += 2
	}
	return nthWord(b, words, place-1, free)
}

// nthWord gives one of some words, counted from 0, if it can be a value.
func nthWord(b []byte, words [][2]int, n, free int) (int, int, bool) {
	if n >= len(words) {
		return 0, 0, false
	}
	w := words[n]
	return w[0], w[1], w[0] >= free && isValue(b[w[0]:w[1]])
}

// snmpHost finds the community of an snmp-server host line: behind the version, or behind the address.
func snmpHost(b []byte, at, free int) (int, int, bool) {
	words := wordsFrom(b, at)
	place := 1
	for i, w := range words {
		if isOneOf(b[w[0]:w[1]], "version") {
			place = i + 2
		}
	}
	return nthWord(b, words, place, free)
}

// wordsFrom gives the words of the rest of a line as places, or of the text in quotes within it. What is far away is left out: lines can be very long, and full of places
// from which one looks.
func wordsFrom(b []byte, at int) [][2]int {
	end := at + len(lineFrom(b[:min(len(b), at+4*maxPair)], at))
	return fieldsAt(b[at:withinText(b, at, end)], at)
}

// fieldsAt gives the words of a line as places in the text that it begins in at a place.
func fieldsAt(line []byte, base int) (words [][2]int) {
	for i := 0; i < len(line); {
		if isSpace(line[i]) {
			i++
			continue
		}
		j := i
		for j < len(line) && !isSpace(line[j]) {
			j++
		}
		words = append(words, [2]int{base + i, base + j})
		i = j
	}
	return words
}

// findCall finds the secret in a call or a list of two: setPassword("…"), PASSWORD('…'), conf.set("db.password", "…"),
// VALUES ('smtp_password', '…').
func findCall(b []byte, at, free int) (int, int, bool) {
	next := at + 1
	if b[at] == '(' {
		if next >= len(b) || b[next] != '"' && b[next] != '\'' || closesText(b, next) {
			return 0, 0, false
		}
	} else { // a comma or semicolon behind a quoted key
		if at == 0 || b[at-1] != '"' && b[at-1] != '\'' {
			return 0, 0, false
		}
		for next < len(b) && isSpace(b[next]) {
			next++
		}
		if b[at] == ';' && bytes.HasPrefix(b[next:], []byte("s:")) { // s:8:"password";s:11:"…"
			for next += 2; next < len(b) && isDigit(b[next]) || next+1 < len(b) && b[next] == ':' && b[next+1] == '"'; {
				next++
			}
		}
		if next >= len(b) || b[next] != '"' && b[next] != '\'' {
			return 0, 0, false
		}
	}
	end := at
	if b[at] != '(' {
		end--
	}
	start := keyBegin(b, end)
	if start == end {
		return 0, 0, false
	}
	kind := kindOf(b[start:end])
	if kind&keySecret == 0 && (kind&keyCookie == 0 || b[at] != ',') {
		return 0, 0, false
	}
	k, ok := keyed{}.readValue(b, next)
	if !ok || k.start < free || !isValue(b[k.start:k.end]) {
		return 0, 0, false
	}
	if kind&keyCookie != 0 { // ["Cookie", "sid=…"]
		return k.start, k.end, k.quoted && bytes.IndexByte(b[k.start:k.end], '=') > 0
	}
	if b[at] != '(' && (kindOf(b[k.start:k.end]) != 0 || !looksChosen(b[k.start:k.end]) && !(k.quoted && isSetter(b, start) && isPhrase(b[k.start:k.end]))) {
		return 0, 0, false // a list of names of fields
	}
	return k.start, k.end, true
}

// setters are the ends of the names of calls that give a key its value: props.setProperty("…", "…").
var setters = []string{"put", "set", "setproperty", "putenv", "setenv", "property", "header", "addheader", "setheader", "config", "option", "setoption", "setvalue", "define", "param", "setparameter", "add"}

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
	for start > 0 && at-start < maxKey && isWord(b[start-1]) {
		start--
	}
	return isOneOf(b[start:at-1], setters...)
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
	start := keyBegin(b, before)
	if before-start < 3 || kindOf(b[start:before])&keySecret == 0 {
		return 0, 0, false
	}
	for next < len(b) && b[next] == ' ' {
		next++
	}
	k, ok := keyed{}.readValue(b, next)
	if ok && (b[k.end-1] == ':' || b[at] == ',' && bytes.IndexByte(bytes.TrimRight(b[k.start:k.end], "="), '=') > 0) {
		return 0, 0, false // a key of its own
	}
	if ok && isNumberOfPort(b[k.start:k.end]) {
		return 0, 0, false // of /etc/services
	}
	inTable := b[at] == '|' || b[at] == '\t' // else it may be a list of what a program is given
	if ok && b[at] != '-' && isPlainWord(string(b[k.start:k.end])) && !looksRandom(b[k.start:k.end]) && !(k.end-k.start >= 16 && isJumbled(b[k.start:k.end])) && !(inTable && (isCode(b[start:before], b[k.start:k.end]) || looksMixed(b[k.start:k.end]))) {
		return 0, 0, false // a list of names
	}
	if !ok || k.quoted || k.start < free || !isValue(b[k.start:k.end]) || !looksChosen(b[k.start:k.end]) && !(inTable && (isCode(b[start:before], b[k.start:k.end]) || hasSign(b[k.start:k.end]))) || kindOf(b[k.start:k.end]) != 0 || endsInAlias(b[k.start:k.end]) {
		return 0, 0, false
	}
	return k.start, k.end, true
}

// findWorded is one rule over all of these.
func findWorded(b []byte, at, free int) (int, int, bool) {
	switch b[at] {
	case ' ':
		return 0, 0, false
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
		return findCall(b, at, free)
	case ',':
		if at > 0 && (b[at-1] == '"' || b[at-1] == '\'') {
			return findCall(b, at, free)
		}
		return findCell(b, at, free)
	}
	return findCell(b, at, free)
}
