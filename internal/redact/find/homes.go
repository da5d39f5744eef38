package find

import (
	"bytes"
	"slices"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// Names of people in the paths of their homes and in distinguished names.

// homes are the folders that hold the folders of people.
var homes = [][]byte{[]byte("/home/"), []byte("/Users/"), []byte("\\Users\\"),
	[]byte("\\\\Users\\\\"), []byte("\\Documents and Settings\\"), []byte("\\\\Documents and Settings\\\\"), []byte("\\users\\"),
	[]byte("/mail/"), []byte("/crontabs/"), []byte("/cron/"), []byte("\\home$\\"), []byte("\\\\home$\\\\"), []byte("\\homes\\"),
	[]byte("\\home\\"), []byte("\\profiles$\\"),
	[]byte("\\\\homes\\\\"), []byte("%2Fhome%2F"), []byte("%2FUsers%2F"), []byte("%5CUsers%5C")}

// publicHomes are folders beside them that are nobody's.
var publicHomes = chars.WordSet("public default shared all defaultuser0 lost+found linuxbrew crontabs tabs user users pi ubuntu vagrant")

// Home finds the name of a person in the path of a home.
func Home(b []byte, at, free int) (int, int, bool) {
	if at+7 >= len(b) {
		return 0, 0, false
	}
	switch b[at+1] {
	case 'h', 'U', 'D', 'p', 'u', '\\', 'm', 'c', '2', '5':
	default:
		return 0, 0, false
	}
	for _, h := range homes {
		if b[at] != h[0] || !bytes.HasPrefix(b[at:], h) || string(h) == "/cron/" && !bytes.HasSuffix(b[:at], []byte("/spool")) {
			continue
		}
		start := at + len(h)
		end := start
		for end < len(b) && end-start < 64 && (chars.IsNameByte(b[end]) && b[end] != 0) {
			end++
		}
		for end > start && b[end-1] == '.' {
			end--
		}
		if start < free || end-start < 2 || chars.HasWord(publicHomes, b[start:end]) || chars.HasWord(serviceAccounts, b[start:end]) {
			return 0, 0, false
		}
		return start, end, true
	}
	return 0, 0, false
}

// commonName gives the end of the common name at a place, and how many blanks are in it.
func commonName(b []byte, start int) (end, spaces int) {
	end = start
	for end < len(b) && end-start < 80 && (chars.IsNameByte(b[end]) || b[end] == ' ' || b[end] == '\'') {
		if b[end] == ' ' {
			spaces++
		}
		end++
	}
	return end, spaces
}

// DistinguishedName finds the name of a person in a distinguished name (RFC 4514): CN=Ilka Brandvold,OU=…
func DistinguishedName(b []byte, at, free int) (int, int, bool) {
	if at < 2 || b[at-1]|0x20 != 'n' || b[at-2]|0x20 != 'c' || at > 2 && chars.IsKeyByte(b[at-3]) {
		return 0, 0, false
	}
	start := at + 1
	if start < len(b) && b[start] == '"' && at > 2 && b[at-3] == ';' {
		start++
	}
	end, spaces := commonName(b, start)
	if start >= free && spaces == 0 && end < len(b) && b[end] == ',' &&
		isAccountOfDirectory(b[start:end], b[end+1:min(len(b), end+40)], b[chars.LineStart(b, at):at]) {
		return start, end, true
	}
	if start < free || spaces == 0 || spaces > 4 || !chars.IsUpper(b[start]) || end == len(b) {
		return 0, 0, false
	}
	v := b[start:end]
	if b[end] != ',' && (at < 3 || !endsName(b[at-3], b[end], v)) {
		return 0, 0, false
	}
	if slices.ContainsFunc(bytes.Fields(v), func(w []byte) bool { return chars.HasWord(authorities, w) }) {
		return 0, 0, false
	}
	return start, end, IsGivenName(v) || !holdsEveryday(v) // else it is a thing: CN=NTDS Settings
}

// endsName reports whether the signs around CN=NAME are those of the attendee of an appointment, ;CN=Ilka Brandvold:mailto:… (RFC 5545), or
// of the subject of a certificate, /CN=Ilka Brandvold/emailAddress=….
func endsName(before, behind byte, name []byte) bool {
	return before == ';' && bytes.IndexByte([]byte(":;\""), behind) >= 0 || behind == '/' &&
		bytes.IndexByte([]byte("/=,"), before) >= 0 && IsGivenName(name)
}

// peopleOf are the branches of directories in which accounts are.
var peopleOf = chars.WordSet("people users user services service serviceaccounts accounts staff admins administrators employees " +
	"system sysaccounts binds svc")

// isAccountOfDirectory reports whether a word is the name of an account in a directory, told by the branch behind it,
// cn=svcgate,ou=services,…, or by
// what it is used for.
func isAccountOfDirectory(v, behind, before []byte) bool {
	branch := bytes.TrimLeft(behind, " ")
	if len(branch) < 4 || !bytes.EqualFold(branch[:3], []byte("ou=")) && !bytes.EqualFold(branch[:3], []byte("cn=")) &&
		!bytes.EqualFold(branch[:3], []byte("dc=")) || !IsPerson(v) || StandsForAny(v) {
		return false
	}
	name := branch[3 : 3+chars.NameAt(branch[3:], 0)]
	if branch[0]|0x20 == 'd' { // right below the domain
		lower := bytes.ToLower(before[max(0, len(before)-chars.MaxKey):])
		return bytes.Contains(lower, []byte("bind")) || bytes.Contains(before, []byte("-D ")) ||
			bytes.Contains(lower, []byte("connectionname"))
	}
	var buf [32]byte
	return peopleOf.HasBytes(bytes.ReplaceAll(chars.Lowered(&buf, name), []byte(" "), nil))
}

// holdsEveryday says whether one of the words of a name is one that everybody uses.
func holdsEveryday(v []byte) bool {
	for _, w := range bytes.Fields(v) {
		if lower := bytes.ToLower(w); IsEveryday(lower) && !lexicon.Given(lower) {
			return true
		}
	}
	return false
}
