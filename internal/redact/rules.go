package redact

import (
	"bytes"
	"fmt"
	"regexp"
	"sync"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
)

// Classes are all of them, in the order in which they are listed.
var Classes = []alias.Class{alias.Secret, alias.Mail, alias.User, alias.Host, alias.IPv4, alias.IPv6, alias.MAC, alias.Phone, alias.Card, alias.IBAN, alias.ID}

// Rule finds one kind of sensitive text. Find is called at every byte of Triggers, with the block, the place of that
// byte, and the first place that is still free; it gives the span that must not leave. A rule whose finds begin with no
// byte of their own has Next instead, which gives the first find at or behind a place.
type Rule struct {
	Name     string
	Class    alias.Class
	Doc      string
	Triggers string
	Find     func(b []byte, at, free int) (start, end int, ok bool)
	Keys     keyKind                                                              // when set, Find is called only behind a key of one of these kinds
	Keyed    func(b []byte, at, free int, kind keyKind) (start, end int, ok bool) // instead of Find, with the kind
	Next     func(b []byte, from int) (start, end int, ok bool)
	beside   func(e *Engine, b []byte, from, start, end int) // adds what stands beside a find; nil is nothing
	judged   bool                                            // what it finds is told by what stands beside it, and has to look like it
	sparse   *sparse                                         // where Next finds something at all; nil is anywhere
	hits     int                                             // of the text that an engine is at
	known    *known                                          // aliases that an engine has given to originals of the class
}

// separators stand between a key and its value; %3D and &gt; are written so within other texts.
const separators = ":=>%;\\\xef"

// Names of rules that are spoken of elsewhere.
const (
	keyedSecretRule    = "keyed-secret"
	wordedSecretRule   = "worded-secret"
	passwordOptionRule = "password-option"
	serviceTokenRule   = "service-token"
	userRule           = "user"
	logUserRule        = "log-user"
	ownerRule          = "owner"
	privateKeyRule     = "private-key"
	phoneRule          = "phone"
)

// Rules is the table of rules. Where two begin at the same trigger, the earlier one goes first.
var Rules = []Rule{
	{Name: privateKeyRule, Class: alias.Secret, Doc: "private key blocks (PEM, OpenSSH, PGP, static keys of VPNs), over several lines or with \\n within one", Triggers: "-", Find: findPrivateKey},
	{Name: passwordOptionRule, Class: alias.Secret, Doc: "the value after a telling command-line option, such as --password VALUE, and of the options of well-known programs", Triggers: "-", Find: findOption, beside: nameBeside(nameJoined), judged: true},
	{Name: "url-credentials", Class: alias.Secret, Doc: "user:password@ or token@ within a URL or connection string", Triggers: ":@", Find: findURLCredentials, beside: accountOfURL},
	{Name: "authorization", Class: alias.Secret, Doc: "the value of Authorization and Proxy-Authorization headers, without the scheme", Triggers: separators, Find: findAuthorization, Keys: keyAuthorization},
	{Name: "cookie", Class: alias.Secret, Doc: "the value of Cookie and Set-Cookie headers", Triggers: separators, Find: findCookie, Keys: keyCookie},
	{Name: keyedSecretRule, Class: alias.Secret, Doc: "the value next to a telling key (password, token, secret, api key, …), in the usual notations", Triggers: separators, Keyed: findKeyedSecret, Keys: keySecret | keyWeak | keyOwn, beside: nameBeside(nameOfEntry), judged: true},
	{Name: wordedSecretRule, Class: alias.Secret, Doc: "the value behind a telling word and a space: configurations of network devices and servers, SQL, sentences", Triggers: "\t(,;|-", Find: findWorded, beside: nameBeside(namePassed), judged: true},
	{Name: "bearer", Class: alias.Secret, Doc: "the token after the words Bearer and Basic", Triggers: "B", Find: findBearer},
	{Name: "jwt", Class: alias.Secret, Doc: "JSON web tokens (RFC 7519)", Triggers: "J", Find: findJWT},
	{Name: serviceTokenRule, Class: alias.Secret, Doc: "tokens by the beginning that services give them so that they can be told", Triggers: "_-.A", Find: findServiceToken},
	{Name: "password-hash", Class: alias.Secret, Doc: "password hashes by their form: crypt, bcrypt, argon2, scrypt, and those of directories and databases", Triggers: "${*:", Find: findPasswordHash, beside: nameBeside(nameJoined)},
	{Name: "mail", Class: alias.Mail, Doc: "e-mail addresses", Triggers: "@%&\\", Find: findMail},
	{Name: userRule, Class: alias.User, Doc: "names next to a telling key (user, login, passenger, …); well-known service accounts stay", Triggers: separators, Find: findUser, Keys: keyUser, judged: true},
	{Name: logUserRule, Class: alias.User, Doc: "user names in the idioms of system logs, listings and prompts", Triggers: " \t()[=@\\/:-,?|", Find: findLogUser, beside: besideName, judged: true},
	{Name: ownerRule, Class: alias.User, Doc: "owner and group in the lines of ls -l", Triggers: " ", Find: findOwner},
	{Name: "home", Class: alias.User, Doc: "names of people in the paths of their homes", Triggers: "/\\%", Find: findHome},
	{Name: "person", Class: alias.User, Doc: "names of people in distinguished names: CN=…", Triggers: "=", Find: findDistinguishedName},
	{Name: "mailbox-name", Class: alias.User, Doc: "the name before a mail address in angle brackets, behind From, To, Author and the like", Triggers: separators, Find: findMailboxName, Keys: keyMailbox},
	{Name: "part-name", Class: alias.User, Doc: "names within something whose key tells, as in \"user\": {\"name\": …}, in JSON, XML and YAML", Triggers: separators, Find: findPartName, Keys: keyPart, judged: true},
	{Name: "international-phone", Class: alias.Phone, Doc: "telephone numbers in groups behind a plus sign and a country code", Triggers: "+", Find: findInternationalPhone},
	{Name: phoneRule, Class: alias.Phone, Doc: "telephone numbers next to a telling key", Triggers: separators, Find: findPhone, Keys: keyPhone},
	{Name: "host", Class: alias.Host, Doc: "host names under private domains (.internal, .local, .lan, .corp, .home.arpa, …) and under those of the site", Triggers: ".", Find: findHost},
	{Name: "ipv4", Class: alias.IPv4, Doc: "IPv4 addresses; loopback, unspecified, broadcast and multicast stay", Triggers: ".-", Find: findIPv4, beside: nameBeside(nameOfTunnel)},
	{Name: "keyed-ipv4", Class: alias.IPv4, Doc: "IPv4 addresses written as one number, hexadecimal or not, next to a telling key", Triggers: separators, Find: findNumberIPv4, Keys: keyAddress},
	{Name: "ipv6", Class: alias.IPv6, Doc: "IPv6 addresses; loopback, unspecified and multicast stay", Triggers: ":%", Find: findIPv6},
	{Name: "mac", Class: alias.MAC, Doc: "hardware addresses in three notations; all zeros and all ones stay", Triggers: ":-.", Find: findMAC, beside: besideMAC},
	{Name: "keyed-mac", Class: alias.MAC, Doc: "hardware addresses without signs next to a telling key", Triggers: separators, Find: findBareMAC, Keys: keyMAC},
	{Name: "card", Class: alias.Card, Doc: "payment cards, by issuer, length and check digit", Next: nextCard, sparse: &sparse{cardSifted, &cardSpan}},
	{Name: "iban", Class: alias.IBAN, Doc: "bank accounts as IBAN, by their check digits", Next: nextIBAN, sparse: &sparse{accountSifted, &accountSpan}},
}

// RulesVersion is written into manifests. It changes whenever the rules find other things than before.
const RulesVersion = "13"

var ruleName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`) })

// Validate says what is wrong with a table of rules.
func Validate(rules []Rule) error {
	seen := map[string]bool{}
	for i, r := range rules {
		switch {
		case !ruleName().MatchString(r.Name):
			return fmt.Errorf("rule %d: the name %q is not lower-case words with dashes", i+1, r.Name)
		case seen[r.Name]:
			return fmt.Errorf("rule %s: there are two of that name", r.Name)
		case r.Doc == "":
			return fmt.Errorf("rule %s: has no description", r.Name)
		case r.Class == "":
			return fmt.Errorf("rule %s: has no class", r.Name)
		case (r.Triggers == "" || r.Find == nil && r.Keyed == nil) && r.Next == nil:
			return fmt.Errorf("rule %s: can find nothing", r.Name)
		}
		seen[r.Name] = true
	}
	return nil
}

// Placeholder is what stands in the place of a secret.
func Placeholder(rule string) string { return "[redacted:" + rule + "]" }

var placeholderHead = []byte("[redacted:")

// holdsPlaceholder says whether a placeholder stands in a text.
func holdsPlaceholder(text []byte) bool {
	n := bytes.IndexByte(text, '[')
	return n >= 0 && bytes.Contains(text[n:], placeholderHead)
}

// withinPlaceholder says whether a place is within a placeholder.
func withinPlaceholder(b []byte, at int) bool {
	n := bytes.LastIndexByte(b[max(0, at-chars.MaxKey):at], '[')
	if n < 0 {
		return false
	}
	n += max(0, at-chars.MaxKey)
	return n+placeholderLen(b[n:]) > at
}

// placeholderLen gives the length of the placeholder at the beginning of text, or 0.
func placeholderLen(text []byte) int {
	const most = 64
	if !bytes.HasPrefix(text, placeholderHead) {
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
		if !(c >= 'a' && c <= 'z' || i > 0 && (chars.IsDigit(c) || c == '-')) {
			return false
		}
	}
	return true
}
