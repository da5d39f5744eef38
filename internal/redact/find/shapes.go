package find

import (
	"bytes"
	"strings"

	"envask/internal/redact/chars"
)

// digitsOfMAC reads groups of hexadecimal digits with a sign between them: whether letters are among them, and whether all are the same.
func digitsOfMAC(text []byte, width int, sign byte) (letters, same, ok bool) {
	same = true
	for i, c := range text {
		if i%(width+1) == width {
			if c != sign {
				return false, false, false
			}
			continue
		}
		if !chars.IsHex(c) {
			return false, false, false
		}
		letters = letters || !chars.IsDigit(c)
		same = same && (c == '0' || c|0x20 == 'f') && c == text[0]
	}
	return letters, same, true
}

// longerBefore says whether what looks like a hardware address is the end of something longer.
func longerBefore(b []byte, start int, sign byte) bool {
	switch before := b[start-1]; {
	case before == '.' || before == '*':
		return true
	case before == sign:
		return sign != ':' || !isKeyBefore(b, start-1)
	}
	return chars.IsWord(b[start-1]) && chars.WordBefore(b, start)
}

// MAC finds a hardware address around its first separator, in the notations 00:00:5e:00:53:01, 00-00-5E-00-53-01 and
// 0000.5e00.5301. All zeros and all ones are nobody's address.
func MAC(b []byte, at, free int) (int, int, bool) {
	width, groups := 2, 6
	if b[at] == '.' {
		width, groups = 4, 3
	}
	// Most separators stand elsewhere: in dates, numbers, words.
	if start, end, ok := findShortMAC(b, at, free); ok {
		return start, end, true
	}
	if next := at + width + 1; next >= len(b) || b[next] != b[at] || at == 0 || !chars.IsHex(b[at-1]) || !chars.IsHex(b[at+1]) {
		return 0, 0, false
	}
	start := at - width
	end := start + groups*(width+1) - 1
	if start < free || start < 0 || end > len(b) || start > 0 && longerBefore(b, start, b[at]) {
		return 0, 0, false
	}
	letters, same, ok := digitsOfMAC(b[start:end], width, b[at])
	if !ok {
		return 0, 0, false
	}
	if same || !letters && b[at] != ':' { // digits alone with dashes or dots are a date or a number
		return 0, 0, false
	}
	if end < len(b) && (chars.IsWord(b[end]) || b[end] == b[at] && end+1 < len(b) && chars.IsWord(b[end+1]) && !BeginsFrame(b, start)) {
		return 0, 0, false // a longer run, such as a fingerprint
	}
	return start, end, true
}

// BeginsFrame says whether a place is that of both addresses and the type of a frame, as firewalls log them: MAC=receiver:sender:08:00.
func BeginsFrame(b []byte, at int) bool {
	const addresses, all = 2 * 18, 2*18 + 5
	return bytes.HasSuffix(b[:at], []byte("MAC=")) && at+all <= len(b) && b[at+addresses-1] == ':' && (at+all == len(b) ||
		chars.IsBlank(b[at+all]))
}

// findShortMAC finds a hardware address as some systems write it, without the zeros before a digit: at 0:0:5e:0:53:1.
func findShortMAC(b []byte, at, free int) (int, int, bool) {
	if b[at] != ':' {
		return 0, 0, false
	}
	start := at
	for start > free && at-start < 3 && chars.IsHex(b[start-1]) {
		start--
	}
	if start == at || at-start > 2 || !shortMACWord(b[:start]) {
		return 0, 0, false
	}
	end, groups, digits, letters := start, 1, 0, false
	for end < len(b) && end-start < 18 {
		if b[end] == ':' && digits > 0 && digits < 3 {
			groups, digits = groups+1, 0
		} else if chars.IsHex(b[end]) {
			digits++
			letters = letters || !chars.IsDigit(b[end])
		} else {
			break
		}
		end++
	}
	return start, end, groups == 6 && digits > 0 && digits < 3 && letters && end-start < 17 && (end == len(b) || !chars.IsWord(b[end]))
}

// shortMACWord says whether text ends in a word behind which a hardware address stands.
func shortMACWord(text []byte) bool {
	for _, w := range []string{" at ", "ether ", "lladdr ", "hwaddr ", "mac ", "mac=", "mac: ", "= string: ", "hwaddr:", "ether:"} {
		if n := len(text) - len(w); n >= 0 && chars.EqualFold(text[n:], w) {
			return true
		}
	}
	return false
}

// hashSchemes are the names that a password hash begins with, between its first two dollar signs (crypt(5), PHC strings).
var hashSchemes = [][]byte{[]byte("1$"), []byte("5$"), []byte("6$"), []byte("h$"), []byte("c$"),
	[]byte("7$"), []byte("y$"), []byte("gy$"), []byte("2a$"), []byte("2b$"), []byte("2x$"), []byte("2y$"), []byte("apr1$"),
	[]byte("argon2i$"), []byte("argon2d$"), []byte("argon2id$"),
	[]byte("scrypt$"), []byte("pbkdf2-sha256$"), []byte("pbkdf2-sha512$"), []byte("md5$"), []byte("sha1$")}

// beginsHash says whether the name of a scheme follows the first dollar sign, or the second, where each is written twice, as files of
// containers have it: $$apr1$$….
func beginsHash(rest []byte) bool {
	if len(rest) < 8 || rest[0] != '$' {
		return knownScheme(rest)
	}
	n := bytes.IndexByte(rest[1:8], '$')
	return n >= 0 && n+2 < len(rest) && rest[n+2] == '$' && knownScheme(rest[1:n+2])
}

func knownScheme(text []byte) bool {
	for _, s := range hashSchemes {
		if bytes.HasPrefix(text, s) {
			return true
		}
	}
	return false
}

// minHash is the length of the shortest hash that counts, in bytes: crypt's oldest has 22 behind its salt.
const minHash = 24

// PasswordHash finds a password hash by its form.
func PasswordHash(b []byte, at, free int) (int, int, bool) {
	switch b[at] {
	case '{', '*', ':':
		return otherHash(b, at, free)
	}
	if bytes.HasSuffix(b[:at], []byte("SCRAM-SHA-256")) && at-13 >= free { // RFC 7677, as databases keep it
		end := at
		for end < len(b) && (chars.IsTokenByte(b[end]) || b[end] == '$' || b[end] == ':') {
			end++
		}
		return at - 13, end, end-at > minHash
	}
	if at < free || at > 0 && (b[at-1] == '$' || chars.IsWord(b[at-1]) && chars.WordBefore(b, at)) {
		return 0, 0, false
	}
	if !beginsHash(b[at+1:]) {
		return 0, 0, false
	}
	end, dollars := at, 0
	for end < len(b) && (chars.IsWord(b[end]) || bytes.IndexByte([]byte("$./=,+-"), b[end]) >= 0) {
		if b[end] == '$' {
			dollars++
		}
		end++
	}
	for end > at && (b[end-1] == ',' || b[end-1] == '.' && end < len(b) && chars.IsSpace(b[end])) {
		end--
	}
	return at, end, end-at >= minHash && dollars >= 3
}

// hashLabels begin the password hashes of directories (RFC 2307).
var hashLabels = [][]byte{[]byte("{SSHA}"), []byte("{SHA}"), []byte("{SMD5}"),
	[]byte("{MD5}"), []byte("{CRYPT}"), []byte("{SSHA256}"), []byte("{SSHA512}"),
	[]byte("{AES}"), []byte("{AES256}"), []byte("{3DES}"), []byte("{PBKDF2"), []byte("{SHA256}"), []byte("{SHA512}"), []byte("{ssha}")}

// plainLabels say in lists of accounts that a password stands there as it is.
var plainLabels = [][]byte{[]byte("{PLAIN}"), []byte("{CLEAR}"), []byte("{CLEARTEXT}")}

// otherHash finds the password hashes of directories ({SSHA}…), of databases (* and 40 hexadecimal digits) and of pairs of
// 32 hexadecimal digits with colons around.
func otherHash(b []byte, at, free int) (int, int, bool) {
	switch b[at] {
	case '{':
		return labelledHash(b, at, free)
	case '*':
		end := at + 1
		for end < len(b) && end-at <= 41 && chars.IsHex(b[end]) && !(b[end] >= 'a') {
			end++
		}
		return at, end, at >= free && end-at == 41 && (end == len(b) || !chars.IsWord(b[end]))
	case ':':
		return pairOfHashes(b, at, free)
	}
	return 0, 0, false
}

// labelledHash finds a hash behind its way in braces, as directories have it: {SSHA}….
func labelledHash(b []byte, at, free int) (int, int, bool) {
	if at+1 >= len(b) || bytes.IndexByte([]byte("SMCPsA3"), b[at+1]) < 0 {
		return 0, 0, false
	}
	for _, l := range plainLabels {
		if bytes.HasPrefix(b[at:], l) && at > 0 && b[at-1] == ':' {
			end := at + len(l)
			for end < len(b) && b[end] > ' ' && b[end] != ':' {
				end++
			}
			return at, end, at >= free && end-at-len(l) >= 3
		}
	}
	for _, l := range hashLabels {
		if bytes.HasPrefix(b[at:], l) {
			end := at + len(l)
			for end < len(b) && (chars.IsTokenByte(b[end]) || b[end] == '$' || b[end] == '}') {
				end++
			}
			return at, end, at >= free && end-at-len(l) >= 16
		}
	}
	return 0, 0, false
}

// pairOfHashes finds two hashes of a dump of accounts: :32 digits:32 digits:.
func pairOfHashes(b []byte, at, free int) (int, int, bool) {
	if at+33 >= len(b) || b[at+33] != ':' || !chars.IsHexes(b[at+1:at+33]) {
		return 0, 0, false
	}
	if end := at + 34 + 32; end < len(b) && b[end] == ':' && chars.IsHexes(b[at+34:end]) {
		return at + 1, end, at+1 >= free
	}
	return 0, 0, false
}

// tokenShape is a beginning of tokens, and how many letters and digits follow at least.
type tokenShape struct {
	Head string
	more int
}

// TokenShapes are beginnings that services give their tokens so that they can be told.
var TokenShapes = []tokenShape{
	{"ghp_", 30}, {"gho_", 30}, {"ghu_", 30}, {"ghs_", 30}, {"ghr_", 30}, {"github_pat_", 30}, {"glpat-", 18}, {"gldt-", 18}, {"glrt-", 18},
	{"sk_live_", 16}, {"sk_test_", 16}, {"rk_live_", 16}, {"whsec_", 20}, {"npm_", 30}, {"hf_", 30}, {"pypi-", 40}, {"dop_v1_", 40},
	{"hvs.", 20}, {"hvb.", 20}, {"ya29.", 20}, {"SG.", 40}, {"AGE-SECRET-KEY-1",
		40}, {"glptt-", 18}, {"glsa_", 24}, {"shpat_", 30}, {"dapi-", 30}, {"sq0atp-", 20}, {"EAAA-", 40},
	{"xoxb-", 16}, {"xoxp-", 16}, {"xoxa-", 16}, {"xoxr-", 16}, {"xoxs-", 16}, {"xapp-", 16}, {"sk-", 32}, {"tskey-", 16},
	{"squ_", 20}, {"sqp_", 20}, {"sqa_", 20}, {"rubygems_", 30},
}

// shapesBy are the shapes by the byte before their first separator, which rules nearly all places out.
var shapesBy = chars.Late[[256][]tokenShape]{Build: func() *[256][]tokenShape {
	by := new([256][]tokenShape)
	for _, s := range TokenShapes {
		before := s.Head[strings.IndexAny(s.Head, "_-.")-1]
		by[before] = append(by[before], s)
	}
	return by
}}

// ServiceToken finds a token by the beginning that its service gives it.
func ServiceToken(b []byte, at, free int) (int, int, bool) {
	if at == 0 {
		return 0, 0, false
	}
	if b[at] == 'A' || b[at] == 'K' {
		return findAccessKey(b, at, free)
	}
	if at > 1 && !TokenEnds.Get().Has(b[at-2], b[at-1]) {
		return 0, 0, false
	}
	for _, s := range shapesBy.Get()[b[at-1]] {
		first := strings.IndexByte(s.Head, b[at])
		if first < 0 || first > at {
			continue
		}
		start := at - first
		if start < free || !bytes.HasPrefix(b[start:], []byte(s.Head)) || start > 0 && (chars.IsWord(b[start-1]) &&
			chars.WordBefore(b, start) || b[start-1] == '-') {
			continue
		}
		if end, ok := s.endOf(b, start); ok {
			return start, end, true
		}
	}
	return 0, 0, false
}

// endOf gives the end of a token that begins as this shape does; ok is false where what begins so is words.
func (s *tokenShape) endOf(b []byte, start int) (end int, ok bool) {
	end, digits, capitals := start+len(s.Head), 0, 0
	dots := strings.IndexByte(s.Head, '.') >= 0
	for end < len(b) && (chars.IsWord(b[end]) || b[end] == '-' || dots && b[end] == '.' && end+1 < len(b) && chars.IsWord(b[end+1])) {
		switch {
		case chars.IsDigit(b[end]):
			digits++
		case chars.IsUpper(b[end]):
			capitals++
		}
		end++
	}
	for end > start && (b[end-1] == '-' || b[end-1] == '_') {
		end--
	}
	n := end - start - len(s.Head)
	return end, n >= s.more && (digits > 0 || capitals > 2 && n >= 24)
}

// findAccessKey finds keys of cloud services: AKIA and 16 capitals and digits, AIza and 35 letters and digits.
func findAccessKey(b []byte, at, free int) (int, int, bool) {
	if at < free || at > 0 && chars.IsWord(b[at-1]) && chars.WordBefore(b, at) {
		return 0, 0, false
	}
	end := at + 4
	switch {
	case bytes.HasPrefix(b[at:], []byte("AKIA")), bytes.HasPrefix(b[at:], []byte("ASIA")), bytes.HasPrefix(b[at:], []byte("AROA")):
		for end < len(b) && (chars.IsUpper(b[end]) || chars.IsDigit(b[end])) {
			end++
		}
		return at, end, end-at == 20 && (end == len(b) || !chars.IsWord(b[end]))
	case bytes.HasPrefix(b[at:], []byte("AIza")):
		for end < len(b) && (chars.IsWord(b[end]) || b[end] == '-') {
			end++
		}
		return at, end, end-at >= 39
	}
	return 0, 0, false
}

// TokenEnds are the two bytes before the first sign of the tokens of services.
var TokenEnds = chars.Late[chars.Pairs]{Build: func() *chars.Pairs {
	set := new(chars.Pairs)
	for _, s := range TokenShapes {
		for i := 2; i < len(s.Head); i++ {
			if c := s.Head[i]; c == '-' || c == '_' || c == '.' {
				set.Add(s.Head[i-2], s.Head[i-1])
				break
			}
		}
	}
	return set
}}
