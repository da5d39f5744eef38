package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// MinSecret is how long a secret is at least that is removed everywhere.
const MinSecret = 6

// User finds a name next to a telling key. Behind a key without quotes, further words with capitals belong to it.
func User(b []byte, at, free int) (int, int, bool) {
	k, ok := keyedAt(b, at)
	if at+2 < len(b) && b[at+1] == '<' && b[at] == '=' { // user=<NAME> of mail servers
		k = keyed{quoted: true, start: at + 2, end: chars.NameAt(b, at+2)}
		domain, _, _ := bytes.Cut(b[k.end:min(len(b), k.end+chars.MaxKey)], []byte(">"))
		ok = len(domain) == 0 && k.end < len(b) ||
			len(domain) > 0 && domain[0] == '@' && bytes.IndexByte(domain, '.') < 0 // else it is a mail address
	}
	if at+2 < len(b) && b[at+1] == '[' && b[at] == '=' { // user=[NAME]
		k = keyed{quoted: true, start: at + 2, end: chars.NameAt(b, at+2)}
		ok = k.end < len(b) && b[k.end] == ']'
	}
	if n := lengthBefore(b, at+1); n > 0 {
		k, ok = keyed{}.readValue(b, at+1+n)
	}
	if !ok || k.start < free {
		return 0, 0, false
	}
	if isThingsKey(b, at, k) {
		return 0, 0, false
	}
	if v := b[k.start:k.end]; len(v) > 3 && (v[0]|0x20 == 'c') && v[1]|0x20 == 'n' && v[2] == '=' { // Owner: CN=…, see DistinguishedName
		return 0, 0, false
	}
	return k.person(b)
}

// isThingsKey reports whether the key of a value is one that devices and pages have, too, and the value is no account by itself.
func isThingsKey(b []byte, at int, k keyed) bool {
	if c := b[at-1] | 0x20; c != 'y' && c != 'n' && chars.IsWord(b[at-1]) {
		return false
	}
	key, end, _ := KeySpan(b, at)
	v := b[k.start:k.end]
	return chars.IsOneOf(bytes.ToLower(b[key:end]), "identity", "admin", "/admin") && bytes.IndexByte(v, '.') < 0 &&
		!IsGivenName(v) && !isFieldAccount(b, k.start, k.end)
}

// lengthBefore gives the length of [8] and the space behind it, as audits of databases have it before a value in quotes, or 0.
func lengthBefore(b []byte, at int) int {
	if at+4 >= len(b) || b[at] != '[' || !chars.IsDigit(b[at+1]) {
		return 0
	}
	end := at + 2
	for chars.IsDigit(b[end]) && end+3 < len(b) {
		end++
	}
	if b[end] != ']' || b[end+1] != ' ' || b[end+2] != '"' && b[end+2] != '\'' {
		return 0
	}
	return end + 2 - at
}

// person gives the name that a value is, if it is one. Mail addresses are left to their own rule.
func (k keyed) person(b []byte) (int, int, bool) {
	if !k.quoted && bytes.IndexByte(b[k.start:k.end], '\\') < 0 {
		k.end = MoreNames(b, k.start, k.end)
	}
	k = k.withoutRealm(b)
	if v := b[k.start:k.end]; len(v) > 3 && v[0] == 's' && v[1] == ':' { // username:s:DOMAIN\NAME of files for remote desktops
		k.start += 2
	}
	// DOMAIN\NAME: the name is the same elsewhere.
	if n := bytes.LastIndexByte(b[k.start:k.end], '\\'); n > 0 && chars.NameAt(b, k.start) < k.start+n+1 &&
		chars.NameAt(b, k.start+n+1) == k.end {
		if domain := bytes.TrimRight(b[k.start:k.start+n], "\\"); len(domain) > 0 && chars.NameAt(domain, 0) == len(domain) {
			k.start += n + 1
		}
	}
	if n := bytes.IndexByte(b[k.start:k.end], '/'); n > 1 && chars.IsUpper(b[k.start]) { // SURNAME/GIVEN MR
		line := bytes.TrimRight(chars.LineFrom(b, k.start), " \r")
		if gap := bytes.Index(line, []byte("  ")); gap > 0 {
			line = line[:gap]
		}
		if IsTravelName(line) {
			return k.start, k.start + len(line), true
		}
	}
	if bytes.HasPrefix(b[k.start:k.end], []byte("name=")) { // new user: name=kvale, UID=1007
		k.start += len("name=")
	}
	// What is said of the name stands behind a colon, or its secret.
	if n := chars.NameAt(b, k.start); !k.quoted && n < k.end && b[n] == ':' && n > k.start {
		k.end = n
	}
	v := b[k.start:k.end]
	if isExtension(b, k.start, v) || k.quoted && namesBoth(v) {
		return k.start, k.end, true
	}
	return k.start, k.end, bytes.IndexByte(v, '@') < 0 && IsPerson(v) && (k.quoted || !beginsProse(b, k.start, k.end))
}

// withoutRealm gives a name without the realm in which it is known: NAME@pam.
func (k keyed) withoutRealm(b []byte) keyed {
	v := b[k.start:k.end]
	if n := bytes.IndexByte(v, '@'); !k.quoted && n > 2 && len(v)-n < 16 && chars.NameAt(v, 0) == n &&
		realms.HasBytes(bytes.ToLower(v[n+1:])) {
		k.end = k.start + n
	}
	return k
}

// realms are those of systems that know accounts of several kinds.
var realms = chars.WordSet("pam pve pbs local ldap ad ssh sso internal system")

// namesBoth says whether a text is the name of somebody, and the account in parentheses.
func namesBoth(v []byte) bool {
	name, account, ok := bytes.Cut(v, []byte(" ("))
	n := len(account)
	return ok && n > 3 && account[n-1] == ')' && LooksPersonal(name) && chars.NameAt(account, 0) == n-1
}

// Telephones log in with the number of their line, which a few keys alone say: username=4412.
var extensionKeys = chars.WordSet("username authname authid authusername authuser sipuser sipusername authorizationusername")

// isExtension reports whether a value is such a number behind such a key.
func isExtension(b []byte, start int, v []byte) bool {
	if len(v) < 3 || len(v) > 6 || !chars.IsAllDigits(v) {
		return false
	}
	at := start
	for at > 0 && start-at < 4 && bytes.IndexByte([]byte(" \"'=:>"), b[at-1]) >= 0 {
		at--
	}
	if at == start || at == 0 {
		return false
	}
	var buf [chars.MaxKey]byte
	key := b[KeyBegin(b, at):at]
	return extensionKeys.HasBytes(PlainKey(&buf, key[memberAt(key):]))
}

// MoreNames gives the end of a name that may go on with further words: Ilka Brandvold.
func MoreNames(b []byte, start, end int) int {
	if start >= len(b) || !chars.IsUpper(b[start]) {
		return end
	}
	for n := 0; n < 3 && end+2 < len(b) && b[end] == ' ' && (chars.IsUpper(b[end+1]) || b[end+1] >= 0x80); n++ {
		next := end + 1
		for next < len(b) && (chars.IsWord(b[next]) && !chars.IsDigit(b[next]) || b[next] == '-' || b[next] == '\'' || b[next] >= 0x80) {
			next++
		}
		if next-end < 3 || next < len(b) && bytes.IndexByte([]byte("=:_(/0123456789"), b[next]) >= 0 ||
			!chars.IsLower(b[end+2]) && !goesOnInCapitals(b, start, end, next) {
			break
		}
		end = next
	}
	return end
}

// goesOnInCapitals reports whether a word in capitals belongs to the name before it, which is written so, too: K STRAND, KARI STRAND.
func goesOnInCapitals(b []byte, start, end, next int) bool {
	word := b[end+1 : next]
	return isCapitals(b[start:end]) && isCapitals(word) && !IsEveryday(bytes.ToLower(word)) &&
		(next == len(b) || b[next] == '\n' || b[next] == '\r' || bytes.HasPrefix(b[next:], []byte("  ")) || b[next] == ',' ||
			b[next] == ';')
}

// Words around a user name, as logs of logins have them.
var (
	NoUserNames = chars.WordSet(`code limits limit information general agent account accounts name names id ids input interface group
	groups mode space data defined manager management guide session sessions profile profiles service services
		request requests directory error table list database db type level role roles settings config store home login password token
	agent-string has is was who that can may must will with
		from and or not the a an in on at to for by of via no this experience count cache info information scope permissions
	permission lookup exists record records does did could cannot failed
		connected disconnected authenticated created deleted locked logged defined-by authentication authorization authorisation
	verification registration creation deletion provisioning credential credentials sync
		synchronization logon logout logoff signin sign-in import export update updates query queries validation enrollment enrolment
	onboarding input-output preference preferences privilege privileges rights rights-assignment activity actions action event events
	time limit quota slice instance bus unit lib local bin`)
)

// LogUser finds user names in the idioms of system logs, listings and prompts.
func LogUser(b []byte, at, free int) (start, end int, ok bool) {
	switch b[at] {
	case '(':
		start, end, ok = userInParentheses(b, at)
	case ')':
		start, end, ok = userBeforeCron(b, at)
	case '[':
		start, end, ok = userOfRequest(b, at)
	case '=':
		start, end, ok = firstOf(b, at, userOfSudoers, userOfSudo, userOfDelivery)
	case '@':
		start, end, ok = firstOf(b, at, numberOfCall, userAtHost)
	case '\\':
		start, end, ok = userOfDomain(b, at)
	case '/':
		start, end, ok = firstOf(b, at, userOfResource, userOfTerminal, nameOnPass)
	case ':':
		start, end, ok = firstOf(b, at, userOfPasswd, userOfProcess, userBehindSign, speaker)
	case '-':
		start, end, ok = userOfArrow(b, at)
	case '?':
		start, end, ok = userOfJob(b, at)
	case '|', '\t':
		start, end, ok = firstOf(b, at, userOfRevision, userOfRow, userOfRecord)
	case ',':
		if at > 0 && b[at-1] == '>' { // the next of several mail addresses
			start, end, ok = MailboxName(b, at, free)
		} else {
			start, end, ok = userOfTuple(b, at)
		}
	}
	return start, end, ok && start >= free && start < end && (IsPerson(b[start:end]) || b[at] == '@' && ofCall(b, at) == start)
}

// firstOf gives what the first of several finders finds.
func firstOf(b []byte, at int, finders ...func(b []byte, at int) (int, int, bool)) (start, end int, ok bool) {
	for _, by := range finders {
		if start, end, ok = by(b, at); ok {
			return start, end, true
		}
	}
	return 0, 0, false
}

// userOfResource finds the name in arn:aws:iam::123456789012:user/NAME.
func userOfResource(b []byte, at int) (int, int, bool) {
	return at + 1, chars.NameAt(b, at+1), bytes.HasSuffix(b[:at], []byte(":user"))
}

// userBehindSign finds the name of a mail service behind a closing bracket and a colon.
func userBehindSign(b []byte, at int) (int, int, bool) {
	if at < 2 || b[at-1] != ')' && b[at-1] != '>' || at+1 >= len(b) || b[at+1] != ' ' {
		return 0, 0, false
	}
	return userOfMailService(b, at-1)
}

// isDomainBefore says whether the name of a domain in capitals stands before a backslash, and no part of a path or the registry.
func isDomainBefore(b []byte, at int) bool {
	first := at
	for first > 0 && (chars.IsUpper(b[first-1]) || chars.IsDigit(b[first-1]) || b[first-1] == '-') && at-first < 16 {
		first--
	}
	return at-first >= 2 && (first == 0 || !chars.IsNameByte(b[first-1]) && bytes.IndexByte([]byte("\\/:%"), b[first-1]) < 0) &&
		!bytes.HasPrefix(b[first:], []byte("HK"))
}

// userOfDomain finds the name in DOMAIN\NAME.
func userOfDomain(b []byte, at int) (int, int, bool) {
	if !isDomainBefore(b, at) {
		return 0, 0, false
	}
	start := at + 1
	if start < len(b) && b[start] == '\\' {
		start++
	} else if escapes(b, at) && !onlyBackslash(b, at) ||
		start+2 < len(b) && b[start] == 'x' && chars.IsHex(b[start+1]) && chars.IsHex(b[start+2]) {
		return 0, 0, false
	}
	end := chars.NameAt(b, start)
	if end-start < 3 || end < len(b) && (b[end] == '\\' || b[end] == '$') || chars.IsUpper(b[start]) && end-start > 1 &&
		chars.IsUpper(b[start+1]) || bytes.IndexByte(b[start:end], '.') > 0 && bytes.ContainsAny(b[end-4:end], ".") {
		return 0, 0, false // a path, or the account of a machine
	}
	return start, end, chars.IsLower(b[start]) || chars.IsUpper(b[start])
}
