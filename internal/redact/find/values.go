package find

import (
	"bytes"
	"unicode"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
)

// What a value looks like decides whether it is a secret where its key or the words before it leave that open.

// IsSetting reports whether a value is a key with a value of its own: mode=dynamic.
func IsSetting(v []byte) bool {
	n := bytes.IndexByte(v, '=')
	if n < 2 || n+1 >= len(v) || v[n+1] == '=' || hasSign(v[n+1:]) && LooksChosen(v[n+1:]) && bytes.IndexByte(v, '^') < 0 {
		return false
	}
	for _, c := range v[:n] {
		if !chars.IsLower(c) && c != '-' && c != '_' && !chars.IsDigit(c) && !chars.IsUpper(c) {
			return false
		}
	}
	return chars.IsLower(v[0]) && !chars.IsDigit(v[n-1]) || chars.IsLower(v[0]) && n < 6
}

// StandsForAny reports whether a value is what manuals write for any: my-password, your-key.
func StandsForAny(v []byte) bool {
	var buf [32]byte
	plain := bytes.ReplaceAll(chars.Lowered(&buf, v), []byte("\\"), nil)
	for _, head := range []string{"my-", "my_", "your-", "your_", "<your", "some-"} {
		if rest, ok := bytes.CutPrefix(plain, []byte(head)); ok && len(bytes.Trim(rest, "abcdefghijklmnopqrstuvwxyz-_.")) == 0 {
			return true
		}
	}
	return false
}

// LooksRandom says whether a value has the look of a token: long, without spaces, of letters and digits.
func LooksRandom(v []byte) bool {
	letters, digits := 0, 0
	for _, c := range v {
		switch {
		case chars.IsDigit(c):
			digits++
		case c|0x20 >= 'a' && c|0x20 <= 'z':
			letters++
		case c <= ' ':
			return false
		}
	}
	return len(v) >= 16 && (letters >= 4 && digits >= 4 || isJumbled(v))
}

// harmless lists ends of keys that speak about a secret without holding it.
var harmless = []string{
	// of an assembly: the checksum of a public key
	"existingsecret", "acctsessionid", "auditsessionid", "acctmultisessionid", "passwordencryption", "publickeytoken",
	"ref", "refs", "reference", "file", "name", "path", "dir", "policy", "expires", "expiry", "expired", "expiration", "expiresin",
	"age", "length", "count", "type", "description", "desc", "label", "title", "help", "usage", "prefix", "suffix",
	"ttl", "url", "uri", "endpoint", "hint", "field", "timeout", "version", "status", "format", "changed", "updated", "valid",
	"required", "enabled", "retries", "attempts", "errors", "error", "failed", "invalid", "rotation", "rotated", "bytes", "limit",
	"exception", "handler", "manager", "service", "validator", "encoder", "reader", "dialog", "prompt", "reset", "check",
	"method", "methods", "arn", "helper", "hashing", "days", "hours", "minutes", "seconds",
	"algorithm", "algo", "scheme", "certhash", "accountsid", "iterations", "rounds", "charset", "stdin",
	"size", "lifetime", "issuer", "audience", "header", "set", "store", "provider", "mode", "complexity", "mgr", "mgmt", "mark",
	"debugpass", "realm", "signingkeyid", "encryptionkeyid", "masterkeyid", "accessor",
	"inputtokens", "outputtokens", "prompttokens", "completiontokens", "totaltokens", "maxtokens", "usedtokens", "personality",
}

// notSecret lists values that stand for something else.
var notSecret = chars.WordSet(`
	bytes binary unencrypted nobody auth session account setcred set configured present stored saved changed
	true false null none nil yes no on off amd64 arm64 i386 armhf all any chauthtok undefined n/a - ok unset enabled disabled
	required optional missing expired invalid empty denied`)

var notSecretWords = chars.NewWordList(notSecret)

// IsAliasWord says whether a value is the first part of an alias, which may have come to stand where a secret would.
func IsAliasWord(v []byte) bool {
	dash := bytes.IndexByte(v, '-')
	if dash < 0 || len(v) > 16 {
		return false
	}
	switch string(v[:dash]) {
	case "mail", "user", "host", "id":
	default:
		return false
	}
	n := alias.CodeLen(v[dash+1:])
	return n > 0 && n == len(v)-dash-1
}

// isZero says whether a value is nothing but zeros: what stands in the place of numbers, and no secret of anybody.
func isZero(v []byte) bool {
	for _, c := range v {
		if c != '0' {
			return false
		}
	}
	return true
}

// isSchemed says whether a value begins with how it is written, in braces: {cipher}4f….
func isSchemed(v []byte) bool {
	n := bytes.IndexByte(v, '}')
	return n > 2 && n < 16 && len(v)-n > 8 && chars.IsAllLetters(v[1:2]) && !bytes.ContainsAny(v[n+1:], "{} \":,")
}

// isBraced says whether a value is a secret that a program encrypted and put into braces.
func isBraced(v []byte) bool {
	return len(v) > 8 && v[len(v)-1] == '}' && LooksChosen(v[1:len(v)-1]) && !bytes.ContainsAny(v[1:len(v)-1], "{}\"' :.")
}

// isBracketed reports whether a value is one of ours, or one that begins with how it is written, in brackets.
func isBracketed(v []byte) bool {
	return bytes.HasPrefix(v, []byte("[redacted:")) || bytes.HasPrefix(v, []byte("[enc:")) || bytes.HasPrefix(v, []byte("[md5]"))
}

// isVariable reports whether a value is the name of a variable of a command line: %DB_PASS%.
func isVariable(v []byte) bool {
	if len(v) < 4 || v[0] != '%' || v[len(v)-1] != '%' {
		return false
	}
	for _, c := range v[1 : len(v)-1] {
		if !chars.IsUpper(c) && !chars.IsDigit(c) && c != '_' {
			return false
		}
	}
	return true
}

// IsValue reports whether a text can be the value of something: what is empty, masked, a placeholder of a template or ours is none.
func IsValue(v []byte) bool {
	switch {
	case len(v) == 0, IsPlaceholder(v), isZero(v), IsAliasWord(v), notSecretWords.Has(v) && (len(v) < 6 || notSecret.HasBytes(v)):
		return false
	case v[0] == '$' && len(v) > 1 && (v[1] == '{' || v[1] == '('), v[0] == '{' && !isSchemed(v) && !isBraced(v), v[0] == '(':
		return false
	case bytes.HasPrefix(v, []byte("# ")), bytes.HasSuffix(v, []byte("={")), isVariable(v): // a remark, the beginning of a list
		return false
	case v[0] == '%' && len(v) <= 3 && (v[len(v)-1]|0x20 >= 'a' && v[len(v)-1]|0x20 <= 'z'): // of a format
		return false
	case v[0] == 'e' && bytes.HasPrefix(v, []byte("env:")), v[0] == 'f' && bytes.HasPrefix(v, []byte("file:")):
		return false
	case v[0] == '[' && !isBracketed(v), bytes.HasPrefix(v, []byte("****")):
		return false
	}
	if c := v[0]; c < 0x80 && c != '*' && c|0x20 != 'x' && c != '.' {
		return true
	}
	return len(bytes.Trim(v, "*xX.•")) > 0 // masked already
}

// LooksChosen says whether a value looks like a password rather than a word: letters together with digits or signs, or
// capitals within.
func LooksChosen(v []byte) bool {
	if len(v) < 6 || bytes.IndexByte(v, '/') == 0 || bytes.Contains(v, []byte("://")) || bytes.IndexByte(v, '(') > 0 {
		return false
	}
	letters, digits, signs := 0, 0, 0
	for i, c := range v {
		switch {
		case chars.IsDigit(c):
			digits++
		case c|0x20 >= 'a' && c|0x20 <= 'z':
			letters++
		case c <= ' ':
			return false
		case c >= 0x80:
		case (c == '-' || c == '_' || c == '.' || c == '\'' || c == '%') && i < len(v)-1:
		default:
			signs++
		}
	}
	return letters > 0 && (digits > 0 || signs > 0) || len(v) >= 16 && isJumbled(v)
}

// LooksQuotedSecret says whether what stands in quotes looks like a secret of a few words, or with signs that would end one elsewhere: it
// has digits, and a word that is none of everybody's.
func LooksQuotedSecret(v []byte) bool {
	if len(v) < 6 || len(v) > 48 || !bytes.ContainsAny(v, " (") || bytes.ContainsAny(v, ",;<>{}=/$%\\\n") ||
		bytes.Contains(v, []byte(". ")) || v[len(v)-1] == ')' || v[len(v)-1] == '.' {
		return false
	}
	odd, digits, words := false, false, 0
	for _, w := range bytes.FieldsFunc(v, func(r rune) bool { return r == ' ' || r == '(' || r == ')' }) {
		words++
		letters := bytes.TrimFunc(w, func(r rune) bool { return r < 0x80 && !unicode.IsLetter(r) })
		digits = digits || bytes.ContainsAny(w, "0123456789")
		odd = odd || len(letters) > 2 && !IsEveryday(bytes.ToLower(letters)) && !chars.IsUpper(letters[len(letters)-1])
	}
	return odd && digits && words <= 5
}

// isJumbled says whether letters and digits change between capitals, small letters and digits as they do by chance: in names of several
// words stretches are longer, each has one capital, and a single small letter stands alone at most once or twice.
func isJumbled(v []byte) bool {
	kind := func(i int) int {
		switch {
		case i < 0 || i >= len(v):
			return -1
		case chars.IsDigit(v[i]):
			return 0
		case chars.IsUpper(v[i]):
			return 1
		case v[i] >= 'a' && v[i] <= 'z':
			return 2
		}
		return -2
	}
	changes, odd := 0, 0
	for i := range v {
		k := kind(i)
		if k == -2 {
			return false
		}
		begins, ends := kind(i-1) != k, kind(i+1) != k
		if begins && i > 0 {
			changes++
		}
		if k == 2 && begins && ends || k == 1 && !begins && ends { // a small letter alone, two capitals or more
			odd++
		}
	}
	return 3*changes >= len(v) && odd >= 3
}

// LooksStrong says whether a value is a secret where prose may stand, too: letters of both kinds and digits, signs that words do not
// have, or a long one without order.
func LooksStrong(v []byte) bool {
	if len(v) < 8 || !LooksChosen(v) || !IsValue(v) || bytes.IndexByte(v, '/') >= 0 {
		return false
	}
	first, _, _ := bytes.Cut(v, []byte("-"))
	if Algorithms.Has(first) {
		return false
	}
	upper, lower, digits := 0, 0, 0
	for _, c := range v {
		switch {
		case chars.IsDigit(c):
			digits++
		case chars.IsUpper(c):
			upper++
		case c >= 'a' && c <= 'z':
			lower++
		}
	}
	return upper > 0 && lower > 1 && digits > 0 || digits > 0 && bytes.ContainsAny(v[1:len(v)-1], "!@#$^&*") || len(v) >= 16 &&
		(chars.IsHexes(v) && digits > 2 || isJumbled(v))
}

func isBase64(v []byte) bool {
	for _, c := range v {
		if !chars.IsBase64Byte(c) && c != '=' {
			return false
		}
	}
	return true
}

// isPhrase says whether some words are a secret rather than words: they have a digit or a sign.
func isPhrase(v []byte) bool {
	return len(v) >= 6 && bytes.ContainsAny(v, "0123456789!@#$^&*?") && !isPath(v) && bytes.ContainsAny(v, "abcdefghijklmnopqrstuvwxyz")
}

// Algorithms are words with digits that stand in columns beside telling names without being secrets.
var Algorithms = chars.NewWordList(chars.WordSet("sha1 sha224 sha256 sha384 sha512 md5 bcrypt2 aes128 aes192 aes256 rc4 des3 desede " +
	"utf8 utf8mb4 utf16 latin1 base64 base64url base32 argon2 pbkdf2 ed25519 rsa2048 rsa4096 hs256 hs512 rs256 es256 int4 int8 " +
	"int32 int64 float8 varchar2 oauth2 saml2 tls12 tls13 http2 ipv4 ipv6"))

// hasSign says whether a short value has a sign that words do not have.
func hasSign(v []byte) bool {
	return len(v) >= 3 && bytes.ContainsAny(v, "!@#$^&*?") && !isPath(v)
}

// isCode says whether a value of digits alone stands behind a word that means such a one.
func isCode(key, v []byte) bool {
	return len(v) >= 4 && chars.IsAllDigits(v) && chars.IsOneOf([]byte(chars.LastWord(key)), "pin", "otp", "password",
		"passwd", "pwd", "passcode", "pass")
}

// looksMixed says whether a plain word of six bytes or more has letters and, more than as a number behind them, digits, or, when it is
// long, letters of both kinds and digits: names of columns do not.
func looksMixed(v []byte) bool {
	letters, capitals, digits := 0, 0, 0
	for _, c := range v {
		if chars.IsDigit(c) {
			digits++
		} else if chars.IsWord(c) {
			letters++
		}
		if chars.IsUpper(c) {
			capitals++
		}
	}
	if len(v) >= 20 && digits > 0 && capitals > 1 && letters > capitals {
		return true
	}
	return len(v) >= 6 && letters > 1 && digits > 1 && !Algorithms.Has(v)
}

// IsPlainWord says whether a text is written the same everywhere.
func IsPlainWord(s string) bool {
	for i := 0; i < len(s); i++ {
		if !chars.IsWord(s[i]) && s[i] != '-' && s[i] != '.' {
			return false
		}
	}
	return true
}

// isPath says whether a value is a path or a piece of a program rather than a name.
func isPath(v []byte) bool {
	return bytes.IndexByte(v, '/') >= 0 && !isTicketName(v) || bytes.IndexByte(v, '(') > 0
}

// isTicketName says whether a value is a name as tickets have it: BRANDVOLD/ILKA MRS.
func isTicketName(v []byte) bool {
	slashes := 0
	for _, c := range v {
		if c == '/' {
			slashes++
		} else if !chars.IsUpper(c) && c != ' ' && c != '-' {
			return false
		}
	}
	return slashes == 1 && len(v) > 4 && v[0] != '/' && v[len(v)-1] != '/'
}
