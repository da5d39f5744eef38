// Package redact finds what must not leave a site (secrets and identities) and replaces it: secrets by a placeholder,
// identities by stable aliases.
package redact

import (
	"bytes"
	"fmt"
	"regexp"
)

// Class says what a finding is, and with that, what stands in its place.
type Class string

// The classes. A Secret becomes [redacted:RULE]; every other class is an identity and becomes an alias.
const (
	Secret Class = "secret"
	IPv4   Class = "ipv4"
	IPv6   Class = "ipv6"
	Mail   Class = "mail"
	User   Class = "user"
	Host   Class = "host" // given as part of mail addresses
	MAC    Class = "mac"
)

// Rule finds one kind of sensitive text. Find is called at every byte of Triggers, with the block, the place of that
// byte, and the first place that is still free; it gives the span that must not leave.
type Rule struct {
	Name     string
	Class    Class
	Doc      string
	Triggers string
	Find     func(b []byte, at, free int) (start, end int, ok bool)
	Keys     keyKind // when set, Find is called only behind a key of one of these kinds
}

// Rules is the table of rules. Where two begin at the same trigger, the earlier one goes first.
var Rules = []Rule{
	{"private-key", Secret, "private key blocks (PEM, OpenSSH, PGP), over several lines or with \\n within one", "-", findPrivateKey, 0},
	{"password-option", Secret, "the value after a telling command-line option, such as --password VALUE", "-", findOption, 0},
	{"url-credentials", Secret, "user:password@ or token@ within a URL", ":", findURLCredentials, 0},
	{"authorization", Secret, "the value of Authorization and Proxy-Authorization headers, without the scheme", ":=", findAuthorization, keyAuthorization},
	{"cookie", Secret, "the value of Cookie and Set-Cookie headers", ":=", findCookie, keyCookie},
	{"keyed-secret", Secret, "the value next to a telling key (password, token, secret, api key, …), in the usual notations", ":=>", findKeyedSecret, keySecret | keyWeak},
	{"bearer", Secret, "the token after the word Bearer", "B", findBearer, 0},
	{"jwt", Secret, "JSON web tokens (RFC 7519)", "J", findJWT, 0},
	{"service-token", Secret, "tokens by the beginning that services give them so that they can be told", "_-", findServiceToken, 0},
	{"password-hash", Secret, "password hashes by their form: crypt, bcrypt, argon2, scrypt", "$", findPasswordHash, 0},
	{"mail", Mail, "e-mail addresses", "@", findMail, 0},
	{"user", User, "names next to a telling key (user, login, passenger, …); well-known service accounts stay", ":=>", findUser, keyUser},
	{"ipv4", IPv4, "IPv4 addresses; loopback, unspecified, broadcast and multicast stay", ".", findIPv4, 0},
	{"ipv6", IPv6, "IPv6 addresses; loopback, unspecified and multicast stay", ":", findIPv6, 0},
	{"mac", MAC, "hardware addresses in three notations; all zeros and all ones stay", ":-.", findMAC, 0},
}

// RulesVersion is written into manifests. It changes whenever the rules find other things than before.
const RulesVersion = "2"

var ruleName = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

// Validate says what is wrong with a table of rules.
func Validate(rules []Rule) error {
	seen := map[string]bool{}
	for i, r := range rules {
		switch {
		case !ruleName.MatchString(r.Name):
			return fmt.Errorf("rule %d: the name %q is not lower-case words with dashes", i+1, r.Name)
		case seen[r.Name]:
			return fmt.Errorf("rule %s: there are two of that name", r.Name)
		case r.Doc == "":
			return fmt.Errorf("rule %s: has no description", r.Name)
		case r.Class == "":
			return fmt.Errorf("rule %s: has no class", r.Name)
		case r.Triggers == "" || r.Find == nil:
			return fmt.Errorf("rule %s: can find nothing", r.Name)
		}
		seen[r.Name] = true
	}
	return nil
}

// Placeholder is what stands in the place of a secret.
func Placeholder(rule string) string { return "[redacted:" + rule + "]" }

// placeholderLen gives the length of the placeholder at the beginning of text, or 0.
func placeholderLen(text []byte) int {
	const most = 64
	if !bytes.HasPrefix(text, []byte("[redacted:")) {
		return 0
	}
	n := bytes.IndexByte(text[:min(len(text), most)], ']')
	if n < 0 || !isPlaceholder(text[:n+1]) {
		return 0
	}
	return n + 1
}

// isPlaceholder says whether text is one placeholder and nothing else.
func isPlaceholder(text []byte) bool {
	const head = "[redacted:"
	if len(text) < len(head)+2 || string(text[:len(head)]) != head || text[len(text)-1] != ']' {
		return false
	}
	for i, c := range text[len(head) : len(text)-1] {
		if !(c >= 'a' && c <= 'z' || i > 0 && (isDigit(c) || c == '-')) {
			return false
		}
	}
	return true
}
