package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Names of people where no key of their own tells: beside a mail address, within what belongs to a user, in the arguments of
// commands, and behind who did something.

// EndsProcessorTime says whether a colon is the one of 0:00, as lists of processes have it before the command.
func EndsProcessorTime(b []byte, i int) bool {
	return b[i-2] == ' ' && b[i+3] == ' ' && chars.IsDigit(b[i-1]) && chars.IsDigit(b[i+1]) && chars.IsDigit(b[i+2])
}

// MailboxName finds the name before an address in angle brackets.
func MailboxName(b []byte, at, free int) (int, int, bool) {
	start := at + 1
	for start < len(b) && (chars.IsSpace(b[start]) || b[start] == '"' || b[start] == '\\') {
		start++
	}
	if start < len(b) && chars.IsDigit(b[start]) { // an address, see worth
		return 0, 0, false
	}
	end := start
	for end < len(b) && end-start < 100 && b[end] != '<' && b[end] > 0x1f && b[end] != '@' && b[end] != '=' && b[end] != ':' {
		end++
	}
	if end >= len(b) || b[end] != '<' {
		return 0, 0, false
	}
	address := b[end:min(len(b), end+chars.MaxPair)]
	if n := bytes.IndexByte(address, '>'); n < 0 || bytes.IndexByte(address[:n], '@') < 0 {
		return 0, 0, false
	}
	for end > start && (chars.IsSpace(b[end-1]) || b[end-1] == '"' || b[end-1] == '\\') {
		end--
	}
	return start, end, start >= free && end > start && IsPerson(b[start:end]) && !(chars.IsLower(b[start]) && IsEveryday(b[start:end]))
}

// ownsName reports whether a key is that of something whose parts name a person.
func ownsName(owner []byte) bool {
	return chars.IsOneOf(owner, "pax", "traveller", "traveler", "crew", "person", "people", "attendees", "guardian", "name") ||
		KindOf(owner)&KeyUser != 0 || KindOf(bytes.TrimSuffix(owner, []byte("s")))&KeyUser != 0
}

// PartName finds the name in a part of something whose key tells: "user": {"name": "…"}, <user><name>…, and in YAML.
func PartName(b []byte, at, free int) (int, int, bool) {
	start, end, _ := KeySpan(b, at)
	start += memberAt(b[start:end])
	var buf [chars.MaxKey]byte
	if key := PlainKey(&buf, b[start:end]); PersonRoles.HasBytes(key) {
		if from, to, ok := findEntryName(b, at, free); ok && len(key) == 2 {
			return from, to, true
		}
		return nameOfRole(b, at, free, key)
	} else if NamedThings.HasBytes(key) {
		if k, ok := keyedAt(b, at); ok && k.start >= free {
			if !k.quoted {
				k.end = MoreNames(b, k.start, k.end)
			}
			if v := b[k.start:k.end]; IsGivenName(v) || LooksPersonal(v) && !isEverydayName(v) && besidePersonal(b, at) {
				return k.start, k.end, true
			}
		}
		if string(key) != "name" {
			return 0, 0, false
		}
	}
	var owner []byte
	switch {
	case b[at] == '=':
		// Of a router's configuration.
		if line := b[chars.LineStart(b, at):at]; !besideSecret(b, at) && !personOfElement(b, at) &&
			!bytes.HasSuffix(line, []byte("user add name")) && !bytes.HasSuffix(line, []byte("secret add name")) {
			return 0, 0, false
		}
		owner = []byte("user")
	case b[at] == '>':
		owner = elementAround(b, start-1)
	case start > 0 && b[start-1] == '"':
		owner = objectAround(b, start-1)
	default:
		owner = mappingAround(b, start)
	}
	if !ownsName(owner) && !besideContact(b, start) {
		return 0, 0, false
	}
	k, ok := keyedAt(b, at)
	if !ok || k.start < free {
		return 0, 0, false
	}
	return k.person(b)
}

// contactKeys are keys of objects that are people.
var contactKeys = [][]byte{[]byte(`"email"`), []byte(`"mobile"`), []byte(`"phone"`), []byte(`"birthday"`), []byte(`"dob"`),
	[]byte(`"birthdate"`)}

// besideContact reports whether a key of JSON for a part of a name stands in an object that is a person by its other keys.
func besideContact(b []byte, start int) bool {
	key := b[start:min(len(b), start+8)]
	if start == 0 || b[start-1] != '"' || !(bytes.HasPrefix(key, []byte("first\"")) || bytes.HasPrefix(key, []byte("last\"")) ||
		bytes.HasPrefix(key, []byte("given\"")) || bytes.HasPrefix(key, []byte("family\""))) {
		return false
	}
	object := b[start:min(len(b), start+chars.MaxPair)]
	if n := bytes.IndexAny(object, "{}"); n >= 0 {
		object = object[:n]
	}
	for _, k := range contactKeys {
		if bytes.Contains(object, k) {
			return true
		}
	}
	return false
}

// besideSecret reports whether a line of settings without brackets sets a secret behind a place: add name=itostrund password=….
func besideSecret(b []byte, at int) bool {
	line := chars.LineFrom(b[:min(len(b), at+chars.MaxPair)], at)
	if bytes.IndexByte(line, '<') >= 0 {
		return false
	}
	for _, key := range []string{" password=", " secret=", " pass="} {
		if bytes.Contains(line, []byte(key)) {
			return true
		}
	}
	return false
}

// nameOfRole finds a name behind a key of personRoles.
func nameOfRole(b []byte, at, free int, key []byte) (int, int, bool) {
	k, ok := keyedAt(b, at)
	if !ok || k.start < free {
		return 0, 0, false
	}
	if !k.quoted {
		k.end = MoreNames(b, k.start, k.end)
	}
	v := b[k.start:k.end]
	// Else it is a serial number.
	if string(key) == "sn" && chars.IsUpper(v[0]) && len(v) > 3 && chars.IsLower(v[1]) && chars.IsAllLetters(v) &&
		!IsEveryday(bytes.ToLower(v)) {
		return k.start, k.end, true
	}
	return k.start, k.end, IsUncommonName(v) || IsGivenName(v) || string(key) == "driver" && isLoginLike(v) // most drivers are programs
}

// findEntryName finds the name of a person in an entry of a directory (LDIF, RFC 2849): cn: Ilka Brandvold, and sn: Brandvold beside it.
func findEntryName(b []byte, at, free int) (int, int, bool) {
	start := chars.LineStart(b, at)
	if b[at] != ':' || at+3 >= len(b) || at-start != 2 || b[at+1] != ' ' || at+2 < free || !chars.IsUpper(b[at+2]) ||
		!chars.IsLower(b[at+3]) {
		return 0, 0, false
	}
	value := bytes.TrimRight(chars.LineFrom(b, at+2), " \t")
	if len(value) > 80 {
		return 0, 0, false
	}
	for _, w := range bytes.Fields(value) {
		if chars.HasWord(authorities, w) || chars.IsDigit(w[0]) {
			return 0, 0, false
		}
	}
	if b[at-2]|0x20 == 's' && !bytes.Contains(b[max(0, start-LookBehind):start], []byte("\ncn: ")) || b[at-2]|0x20 == 'c' &&
		bytes.IndexByte(value, ' ') < 0 {
		return 0, 0, false // of one word it may be a group, or the number of a device
	}
	return at + 2, at + 2 + len(value), IsPerson(value)
}

// isLoginLike says whether a word has the form of a login name: one or two letters of the first name, a dot, and the second. Other
// words with dots are those of programs.
func isLoginLike(v []byte) bool {
	dot := bytes.IndexByte(v, '.')
	if dot != 1 && dot != 2 || len(v)-dot < 5 {
		return false
	}
	for i, c := range v {
		if i != dot && (c < 'a' || c > 'z') {
			return false
		}
	}
	return true
}

// userOfProcess finds the owner in a line of a list of processes: NAME 4112 0.0 0.1 …, at the colon of its processor time.
func userOfProcess(b []byte, at int) (int, int, bool) {
	if at < 20 || at+3 >= len(b) || !EndsProcessorTime(b, at) {
		return 0, 0, false
	}
	first := lineText(b, at)
	end := chars.NameAt(b, first)
	if first > 0 && b[first-1] != '\n' && !chars.IsSpace(b[first-1]) || end == first || end > at || b[end] != ' ' && b[end] != '+' {
		return 0, 0, false
	}
	words := chars.FieldsAt(b[end:at], end)
	if b[end] == '+' && len(words) > 0 { // the name is cut off there
		words = words[1:]
	}
	if len(words) != 9 { // number, processor, memory, sizes, terminal, state, start, and the minutes before the colon
		return 0, 0, false
	}
	for _, w := range words[:5] {
		if len(bytes.Trim(b[w[0]:w[1]], "0123456789.")) > 0 {
			return 0, 0, false
		}
	}
	return first, end, true
}

// BeforeNumber are bytes behind which a telephone number may begin.
var BeforeNumber = *chars.BytesOf(" \t\n\"'(,;:=><[")

// InternationalPhone finds a telephone number by its plus sign, where it is written in groups (ITU-T E.123).
func InternationalPhone(b []byte, at, free int) (int, int, bool) {
	if at < free || at > 0 && !BeforeNumber[b[at-1]] || at+1 >= len(b) || b[at+1] < '1' || b[at+1] > '9' {
		return 0, 0, false
	}
	end, digits, groups := groupsOfPhone(b, at)
	if groups == 1 && digits >= 10 && end-at == digits+1 && standsAlone(b, at) && goesOn(b, end) && isNumberOfCountry(b[at+1:end]) {
		return at, end, true // E.164
	}
	quoted := groups == 1 && digits >= 10 && isQuotedPhone(b, at, end)
	if century := string(b[at+1 : at+3]); quoted && digits%2 == 0 && (century == "19" || century == "20") {
		return 0, 0, false // a time, from the year to the second
	}
	return at, end, digits >= 9 && digits <= 15 && (groups > 1 || quoted) && endsNumber(b, end)
}

// endsNumber says whether what stands behind a number lets it be one: no letter, and no colon as in an address with a port.
func endsNumber(b []byte, end int) bool {
	return end == len(b) || !chars.IsWord(b[end]) && (b[end] != ':' || end+1 < len(b) && b[end+1] == ' ')
}

// groupsOfPhone reads the groups of digits of a number behind its plus sign.
func groupsOfPhone(b []byte, at int) (end, digits, groups int) {
	end, groups = at+1, 1
	for end < len(b) && end-at < 24 {
		if chars.IsDigit(b[end]) {
			digits++
			end++
			continue
		}
		next := end + 1
		if bytes.IndexByte([]byte(" -./"), b[end]) >= 0 && next < len(b) && b[next] == '(' {
			next++
		}
		if bytes.IndexByte([]byte(" -./()"), b[end]) < 0 || next >= len(b) || !chars.IsDigit(b[next]) || groups == 1 && digits > 3 {
			break
		}
		groups++
		end = next
	}
	return end, digits, groups
}

// standsAlone says whether a number begins behind a blank, a parenthesis or an equals sign, and not behind the blank that begins a line.
func standsAlone(b []byte, at int) bool {
	return at > 0 && (b[at-1] == ' ' || b[at-1] == '(' || b[at-1] == '=') && (at < 2 || b[at-2] != '\n')
}

// isQuotedPhone says whether a number stands between quotes, brackets or signs of a URL: "+351912345678" (E.164).
func isQuotedPhone(b []byte, at, end int) bool {
	if at == 0 || end == len(b) {
		return false
	}
	return b[at-1] == '(' && b[end] == ')' ||
		bytes.IndexByte([]byte("\"'<:"), b[at-1]) >= 0 && bytes.IndexByte([]byte("\"'>@;,"), b[end]) >= 0
}

// isNumberOfCountry says whether digits are as many as telephone numbers of a country have behind its code (ITU-T E.164): in North America
// ten.
func isNumberOfCountry(digits []byte) bool {
	if digits[0] == '1' {
		return len(digits) == 11 && digits[1] > '1' && digits[4] > '1'
	}
	if code := string(digits[:2]); code == "45" || code == "47" || code == "65" { // eight digits behind it
		return len(digits) == 10
	}
	return len(digits) >= 11 && len(digits) <= 13
}
