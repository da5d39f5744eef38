package redact

import (
	"fmt"
	"regexp"
	"sync"

	"envask/internal/redact/alias"
	"envask/internal/redact/find"
	"envask/internal/redact/scan"
)

// Classes are all of them, in the order in which they are listed.
var Classes = []alias.Class{alias.Secret, alias.Mail, alias.User,
	alias.Host, alias.IPv4, alias.IPv6, alias.MAC, alias.Phone, alias.Card, alias.IBAN, alias.ID}

// separators stand between a key and its value; %3D and &gt; are written so within other texts.
const separators = ":=>%;\\\xef"

// Rules is the table of rules. Where two begin at the same trigger, the earlier one goes first.
var Rules = []Rule{
	{Name: privateKeyRule, Class: alias.Secret,
		Doc:      "private key blocks (PEM, OpenSSH, PGP, static keys of VPNs), over several lines or with \\n within one",
		Triggers: "-", Find: find.PrivateKey},
	{Name: passwordOptionRule, Class: alias.Secret,
		Doc:      "the value after a telling command-line option, such as --password VALUE, and of the options of well-known programs",
		Triggers: "-", Find: find.Option, beside: nameBeside(find.NameJoined), judged: true},
	{Name: "url-credentials", Class: alias.Secret,
		Doc:      "user:password@ or token@ within a URL or connection string, and the token of a link that is for one person alone",
		Triggers: ":@", Find: find.URLCredentials, beside: accountOfURL},
	{Name: "authorization", Class: alias.Secret,
		Doc:      "the value of Authorization and Proxy-Authorization headers, without the scheme",
		Triggers: separators, Find: find.Authorization, Keys: find.KeyAuthorization},
	{Name: "cookie", Class: alias.Secret, Doc: "the value of Cookie and Set-Cookie headers",
		Triggers: separators, Find: find.Cookie, Keys: find.KeyCookie},
	{Name: keyedSecretRule, Class: alias.Secret,
		Doc:      "the value next to a telling key (password, token, secret, api key, …), in the usual notations",
		Triggers: separators, Keyed: find.KeyedSecret, Keys: find.KeySecret | find.KeyWeak | find.KeyOwn,
		beside: nameBeside(find.NameOfEntry), judged: true},
	{Name: wordedSecretRule, Class: alias.Secret,
		Doc:      "the value behind a telling word and a space: configurations of network devices and servers, SQL, sentences",
		Triggers: "\t(,;|-", Find: find.Worded, beside: nameBeside(find.NamePassed), judged: true},
	{Name: "bearer", Class: alias.Secret, Doc: "the token after the words Bearer and Basic", Triggers: "B", Find: find.Bearer},
	{Name: "jwt", Class: alias.Secret, Doc: "JSON web tokens (RFC 7519)", Triggers: "J", Find: find.JWT},
	{Name: serviceTokenRule, Class: alias.Secret, Doc: "tokens by the beginning that services give them so that they can be told",
		Triggers: "_-.A", Find: find.ServiceToken},
	{Name: passwordHashRule, Class: alias.Secret,
		Doc:      "password hashes by their form: crypt, bcrypt, argon2, scrypt, and those of directories and databases",
		Triggers: "${*:", Find: find.PasswordHash, beside: nameBeside(find.NameJoined)},
	{Name: "mail", Class: alias.Mail, Doc: "e-mail addresses", Triggers: "@%&\\", Find: find.Mail},
	{Name: userRule, Class: alias.User,
		Doc:      "names next to a telling key (user, login, passenger, …); well-known service accounts stay",
		Triggers: separators, Find: find.User, Keys: find.KeyUser, beside: secretBehindUser, judged: true},
	{Name: logUserRule, Class: alias.User, Doc: "user names in the idioms of system logs, listings and prompts",
		Triggers: " \t()[=@\\/:-,?|", Find: find.LogUser, beside: besideName, judged: true},
	{Name: ownerRule, Class: alias.User, Doc: "owner and group in the lines of ls -l", Triggers: " ", Find: find.Owner},
	{Name: "home", Class: alias.User, Doc: "names of people in the paths of their homes", Triggers: "/\\%", Find: find.Home},
	{Name: "person", Class: alias.User, Doc: "names of people in distinguished names: CN=…", Triggers: "=", Find: find.DistinguishedName},
	{Name: "mailbox-name", Class: alias.User,
		Doc:      "the name before a mail address in angle brackets, behind From, To, Author and the like",
		Triggers: separators, Find: find.MailboxName, Keys: find.KeyMailbox},
	{Name: "part-name", Class: alias.User,
		Doc:      "names within something whose key tells, as in \"user\": {\"name\": …}, in JSON, XML and YAML",
		Triggers: separators, Find: find.PartName, Keys: find.KeyPart, judged: true},
	{Name: "international-phone", Class: alias.Phone, Doc: "telephone numbers in groups behind a plus sign and a country code",
		Triggers: "+", Find: find.InternationalPhone},
	{Name: phoneRule, Class: alias.Phone, Doc: "telephone numbers next to a telling key",
		Triggers: separators, Find: find.Phone, Keys: find.KeyPhone | find.KeyMailbox},
	{Name: documentRule, Class: alias.ID,
		Doc:      "numbers of passports, identity cards, driving licences and people, and dates of birth, next to a telling key",
		Triggers: separators, Find: find.DocumentNumber, Keys: find.KeyDocument},
	{Name: "host", Class: alias.Host,
		Doc:      "host names under private domains (.internal, .local, .lan, .corp, .home.arpa, …) and under those of the site",
		Triggers: ".", Find: find.Host},
	{Name: "ipv4", Class: alias.IPv4, Doc: "IPv4 addresses; loopback, unspecified, broadcast and multicast stay",
		Triggers: ".-", Find: find.IPv4, beside: besideAddress},
	{Name: "keyed-ipv4", Class: alias.IPv4, Doc: "IPv4 addresses written as one number, hexadecimal or not, next to a telling key",
		Triggers: separators, Find: find.NumberIPv4, Keys: find.KeyAddress},
	{Name: "ipv6", Class: alias.IPv6, Doc: "IPv6 addresses; loopback, unspecified and multicast stay", Triggers: ":%", Find: find.IPv6},
	{Name: "mac", Class: alias.MAC, Doc: "hardware addresses in three notations; all zeros and all ones stay",
		Triggers: ":-.", Find: find.MAC, beside: besideMAC},
	{Name: "keyed-mac", Class: alias.MAC, Doc: "hardware addresses without signs next to a telling key",
		Triggers: separators, Find: find.BareMAC, Keys: find.KeyMAC},
	{Name: "card", Class: alias.Card, Doc: "payment cards, by issuer, length and check digit",
		Next: find.NextCard, sparse: &scan.Number{Hot: scan.Cards, Span: &find.CardSpan}},
	{Name: "iban", Class: alias.IBAN, Doc: "bank accounts as IBAN, by their check digits",
		Next: find.NextIBAN, sparse: &scan.Number{Hot: scan.Accounts, Span: &find.AccountSpan}},
}

// RulesVersion is written into manifests. It changes whenever the rules find other things than before.
const RulesVersion = "21"

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
