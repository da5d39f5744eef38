package judge

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// Place is a value where it stands in its line.
type Place struct {
	Before, Text, After []byte // of one line
	Sure                bool   // what stands around it is enough for a name

	keyed    bool // whether the next two are known: they are asked for many times
	name     []byte
	password bool
}

// quoted reports whether quotes stand around the value.
func (p *Place) quoted() bool {
	n := len(p.Before)
	return n > 0 && len(p.After) > 0 && p.Before[n-1] == p.After[0] && (p.After[0] == '"' || p.After[0] == '\'' || p.After[0] == '`')
}

// escaped reports whether the beginning of the value is the end of an escape that stands before it: \n, \fR of manuals.
func (p *Place) escaped() bool {
	n := len(p.Before)
	return n > 0 && p.Before[n-1] == '\\' && (n < 2 || p.Before[n-2] != '\\') && bytes.IndexByte([]byte("nrtfabv0xu*-"), p.Text[0]) >= 0 &&
		!(n > 2 && chars.IsUpper(p.Before[n-2]) && chars.IsUpper(p.Before[n-3]) && (bytes.Count(p.Before, []byte("\\")) == 1 ||
			n > 4 && chars.IsUpper(p.Before[n-4]) && chars.IsUpper(p.Before[n-5])) && !bytes.ContainsAny(p.Before, "\"'`")) // DOMAIN\name
}

// programWords begin lines of programs.
var programWords = chars.WordSet("my our local let const var final static return if elif else elsif unless for foreach while " +
	"private public " +
	"protected def func " +
	"function import char int bool string auto unsigned struct typedef class assert case raise throw new print printf fn pub use sub " +
	"lambda yield await " +
	"#define #if #ifdef and or not && || }")

// statements begin those of SQL, in which an account stands without quotes.
var statements = chars.WordSet("grant revoke create alter drop")

// program reports whether the line is one of a program, as far as the signs around the value tell.
func (p *Place) program() bool {
	before := bytes.TrimLeft(p.Before, " \t*+-")
	if sign := bytes.TrimRight(before, " \t"); bytes.HasSuffix(sign, []byte(":=")) {
		return true
	}
	word := before
	if n := bytes.IndexAny(before, " \t($"); n >= 0 {
		word = before[:n]
	}
	if programWords.HasBytes(word) || bytes.HasPrefix(before, []byte("self.")) || bytes.HasPrefix(before, []byte("this.")) ||
		bytes.HasPrefix(before, []byte("$")) && len(before) > 2 && isLower(before[1]|0x20) {
		return true
	}
	after := bytes.TrimRight(p.After, " \t\r")
	if len(after) == 0 {
		return false
	}
	switch after[len(after)-1] {
	case '{', '(':
		return true
	case ';':
		if statements.HasBytes(bytes.ToLower(word)) {
			return false
		}
		return len(after) == 1 || bytes.IndexByte(after, ')') >= 0
	case ')':
		return bytes.IndexByte(before, '(') > 0
	}
	return false
}

// key gives the last word before the sign before the value: the key, or the end of it.
func (p *Place) key() []byte {
	if !p.keyed {
		p.keyed, p.name = true, keyBefore(p.Before)
		p.password = namesPassword(p.name)
	}
	return p.name
}

// keyBefore gives the last word before the sign that a text ends with.
func keyBefore(b []byte) []byte {
	b = bytes.TrimRight(b, " \t\"'=:>({[`*")
	start := len(b)
	for start > 0 && (isLower(b[start-1]|0x20) || chars.IsDigit(b[start-1]) || b[start-1] == '_' || b[start-1] == '-' ||
		b[start-1] == '.') {
		start--
	}
	return b[start:]
}

// Secret reports whether a value next to a telling key or word can be a secret: a piece of a program, a name of a type or variable, a
// macro, and a sentence are none.
func (p *Place) Secret() bool {
	t := p.Text
	if len(t) < leastSecret || len(t) == 2 && chars.IsDigit(t[0]) && chars.IsDigit(t[1]) {
		return false
	}
	if p.elsewhere() || Code(t) && !p.quotedOption() || isNamed(t) || expression(t) || p.stands() || p.standsFor() || p.otherwise() ||
		p.reading() {
		return false
	}
	if p.quoted() {
		return p.secretInQuotes()
	}
	return !reference(t) && (!p.bareCode() && !p.bareExpression() || p.ofURL()) && !p.ofSentence() && !p.asked() && !p.told()
}

// secretInQuotes reports whether a value in quotes is no format, sentence, variable or reference.
func (p *Place) secretInQuotes() bool {
	t := p.Text
	return !Format(t) && !p.says() && !(p.After[0] == '"' && t[0] == '$' && variable(t)) &&
		(bytes.IndexByte([]byte("!*"), t[0]) >= 0 || !reference(t))
}

// asked reports whether a plain value is the last word of a question: who has the password of gate1?
func (p *Place) asked() bool {
	return len(p.After) > 0 && p.After[0] == '?' && (len(p.After) == 1 || p.After[1] == ' ' || p.After[1] == '\r') && identifier(p.Text)
}

// quotedOption reports whether the value stands in quotes behind an option, as on a command line: --password 'Sheet(Bend)'.
func (p *Place) quotedOption() bool {
	before := bytes.TrimRight(p.Before, " ='\"")
	return p.quoted() && len(before)+1 < len(p.Before) && bytes.HasPrefix(before[bytes.LastIndexByte(before, ' ')+1:], []byte("--"))
}

// ofURL reports whether the value is one of the parameters of a URL: ?password=Eye_Splice3&delete=true.
func (p *Place) ofURL() bool {
	url := bytes.LastIndex(p.Before, []byte("://"))
	return url >= 0 && len(p.Before) > url+3 && p.Before[len(p.Before)-1] == '=' && bytes.IndexByte(p.Before[url:], ' ') < 0 &&
		bytes.ContainsAny(p.Before[url:], "?;&")
}

// bareCode reports whether a value without quotes is a piece of a program: a variable, a macro, an argument with its name.
func (p *Place) bareCode() bool {
	t := p.Text
	last := t[len(t)-1]
	switch {
	case chars.IsUpper(t[0]) && identifier(t) && !hasDigit(t) && bytes.HasPrefix(p.After, []byte(" {")), cmdlet(t) &&
		len(p.After) > 1 && p.After[0] == ' ', variable(t) && (t[0] == '$' || p.program()), macro(t) && len(t) > 3 &&
		bytes.LastIndexByte(t, '_') > 0:
		return true
	case identifier(t) && !mixed(t) && !chosen(t) && (p.program() || p.follows(t)), last == ']' && indexed(t) && p.program():
		return true
	}
	return last == '=' && identifier(t[:len(t)-1]) && !hasDigit(t) && len(t) <= 20 && !filledUp(t)
}

// filledUp reports whether a text is one in base64 that was filled up (RFC 4648): one of words is no key before its value.
func filledUp(t []byte) bool {
	capitals, turns := 0, 0
	for i, c := range t {
		if c >= 'A' && c <= 'Z' {
			capitals++
			if i > 0 && isLower(t[i-1]) {
				turns++
			}
		}
	}
	return len(t)%4 == 0 && len(t) >= 8 && capitals > turns
}

// ofSentence reports whether a value without quotes is a part of a sentence, or one.
func (p *Place) ofSentence() bool {
	t := p.Text
	if word, rest, more := bytes.Cut(append(append([]byte{}, t...), p.After...), []byte(", ")); more && states.HasBytes(word) &&
		len(rest) > 0 && isLower(rest[0]) {
		return true
	}
	if p.prose() && sentence(append(append([]byte{}, t...), p.After...)) || p.worded() || p.headed() || p.listed() ||
		bytes.Contains(t, []byte("n't")) && chars.IsAllLetters(t[:len(t)-2]) || bytes.HasSuffix(t, []byte("'s")) &&
		chars.IsAllLetters(t[:len(t)-2]) {
		return true
	}
	return sentence(t) && !bytes.Contains(bytes.ToLower(p.key()), []byte("phrase"))
}

// states are words that say of a secret how it is, before a comma and more of the sentence.
var states = chars.WordSet(`required optional mandatory missing expired unchanged incorrect invalid wrong accepted rejected redacted hidden
	masked encrypted empty unset disabled enabled`)

// documented reports whether the line is of the documentation of a program, and tells of a parameter: ":param user: Name of".
func (p *Place) documented() bool {
	line := bytes.TrimLeft(p.Before, " \t*#/")
	if len(line) == 0 || line[0] != ':' && line[0] != '@' {
		return false
	}
	for _, head := range []string{":param ", ":type ", ":keyword ", ":arg ", ":ivar ", ":return", "@param ", "@return"} {
		if bytes.HasPrefix(line, []byte(head)) {
			return true
		}
	}
	return false
}

// elsewhere reports whether what stands before a value says that it is none, although the key reads so: a public key, the pin of a package,
// an option of another program that begins in the same way (find -print0).
func (p *Place) elsewhere() bool {
	var buf [lowerSize]byte
	before := lowered(&buf, p.Before[max(0, len(p.Before)-24):])
	switch {
	case p.documented(), bytes.Contains(before, []byte("public key")),
		bytes.HasSuffix(before, []byte(" -p")) && bytes.HasPrefix(p.Text, []byte("rint")):
		return true
	case bytes.HasPrefix(before, []byte("pin:")) && len(p.Before) <= 6:
		return !hasDigit(p.Text) || bytes.IndexByte(p.Text, ' ') > 0 && isLower(p.Text[0])
	}
	switch {
	case p.quoted() && (missing(p.After[1:]) || p.argued()): // its name
		return true
	case bytes.HasSuffix(p.Before, []byte("<")) && bytes.IndexByte(p.Text, '>') > 0: // <code>code</code>
		return true
	case p.summed():
		return true
	case plainURL(p.Text):
		return true
	case bytes.HasPrefix(p.After, []byte(" secret ")) && chars.IsAllLetters(p.Text): // what the secret is called that follows
		return true
	case bytes.LastIndex(p.Before, []byte("{{")) > bytes.LastIndex(p.Before, []byte("}}")) && bytes.IndexByte(p.Text, '/') > 0:
		return true // where a template reads it
	}
	return p.Text[0] == '$' && bytes.IndexByte(p.Text, ' ') > 0 && variable(p.Text[:bytes.IndexByte(p.Text, ' ')])
}

// plainURL reports whether a text is the URL of something that everybody may know: without an account, and without a part that is as
// long as a token and has digits.
func plainURL(t []byte) bool {
	if !bytes.HasPrefix(t, []byte("http://")) && !bytes.HasPrefix(t, []byte("https://")) || bytes.IndexByte(t, '@') >= 0 {
		return false
	}
	for part := range bytes.FieldsFuncSeq(t, func(r rune) bool { return r == '/' || r == '?' || r == '&' || r == '=' }) {
		if len(part) >= longName && hasDigit(part) && bytes.IndexByte(part, '.') < 0 {
			return false
		}
	}
	return true
}

// takers are methods that take the name of something, and no secret.
var takers = []string{".get(", ".pop(", ".remove(", ".append(", ".startswith(", ".endswith(", ".has(", ".index(", ".getpwnam("}

// argued reports whether a word in quotes is the argument of such a method, and one that everybody uses: token.get('state').
func (p *Place) argued() bool {
	var buf [lowerSize]byte
	before := p.Before[:len(p.Before)-1]
	for _, method := range takers {
		if bytes.HasSuffix(before, []byte(method)) {
			return identifier(p.Text) && (lexicon.Everyday(lowered(&buf, p.Text)) || macro(p.Text) || bytes.IndexByte(p.Text, '_') > 0)
		}
	}
	return false
}

// summed reports whether a value is a checksum behind the path of a file, in a list of them.
func (p *Place) summed() bool {
	before := bytes.TrimRight(p.Before, " *")
	file := before[bytes.LastIndexByte(before, ' ')+1:]
	return len(before) < len(p.Before) && len(p.Text) >= 32 && chars.IsHexes(p.Text) && bytes.IndexByte(file, '/') >= 0 &&
		bytes.IndexByte(file, '=') < 0
}

// missing reports whether what follows a name says that the thing is there, or not.
func missing(after []byte) bool {
	for _, said := range []string{" not found", " does not exist", " already exists", " is missing", " created", " deleted", " updated",
		" unchanged", " configured"} {
		if bytes.HasPrefix(after, []byte(said)) {
			return true
		}
	}
	return false
}

// indexed reports whether a text is an element of a variable.
func indexed(t []byte) bool {
	n := bytes.IndexByte(t, '[')
	return n > 0 && identifier(t[:n]) && !hasDigit(t[:n])
}

// leastSecret is from how many bytes on something is a secret: what is shorter tells nothing.
const leastSecret = 2

// named are the names of what secrets are made or sent with, and of encodings.
var named = chars.WordSet("eap psk xauth mschapv2 mschap ms-chap-v2 chap pap gtc eap-gtc ttls peap tls leap external cram-md5 digest-md5 " +
	"gssapi ntlm scram-sha-1 scram-sha-256 negotiate kerberos spnego oauthbearer " +
	"xoauth2 " +
	"utf-8 utf8 utf-16 utf16 utf-16le utf-16-le ascii latin-1 iso-8859-1 base64 sha256 sha-256 sha512 sha-512 md5 bcrypt argon2 scrypt " +
	"pbkdf2 aes-256-gcm " +
	"bearer basic plain login cleartext")

func isNamed(t []byte) bool {
	var buf [lowerSize]byte
	t = bytes.TrimRight(t, " ")
	return len(t) <= 16 && named.Has(string(bytes.TrimPrefix(lowered(&buf, t), []byte("eap-"))))
}

// reference reports whether a text says where something is, or what it is in a program, and not what: a path of plain words, a pointer, a
// scope, a small constant, the placeholder of a manual.
func reference(t []byte) bool {
	switch t[0] {
	case '!': // a tag of YAML
		return identifier(t[1:]) && !mixed(t[1:]) && len(t) > 3 || bytes.IndexByte(t, ' ') > 0 && t[len(t)-1] == '|'
	case ':', '*', '\\':
		return len(t) > 1 && (t[1] == ':' || t[1] == '-' || t[1] == '%' || t[1] == 'f' || isLower(t[1]|0x20) && !mixed(t[1:])) ||
			bytes.IndexByte(t, 'n') == 1 && len(t) == 2
	case '/', '~':
		return plainPath(t)
	case '0':
		return len(t) <= 10 && len(t) > 2 && t[1] == 'x'
	}
	for _, of := range []string{"self.", "this.", "args.", "cls.", "opts.", "req."} {
		if bytes.HasPrefix(t, []byte(of)) && identifier(t) && !hasDigit(t) {
			return true
		}
	}
	var buf [lowerSize]byte
	lower := lowered(&buf, t)
	return (bytes.HasPrefix(lower, []byte("your-")) || bytes.HasPrefix(lower, []byte("your_"))) && madeOfWords(t)
}

// plainPath reports whether a text is a path of names without signs and numbers, as a secret is not.
func plainPath(t []byte) bool {
	if t[0] == '~' && (len(t) < 2 || t[1] != '/') {
		return false
	}
	parts := 0
	for _, part := range bytes.Split(t, []byte("/")) {
		if len(part) == 0 || part[0] == '~' {
			continue
		}
		parts++
		if !identifier(part) || mixed(part) && len(part) > 12 || len(part) > 24 && !madeOfWords(part) {
			return false
		}
	}
	return parts > 0
}

// follows reports whether a bare word is what a program calls the value of its key: another variable of that name, or a part of something.
func (p *Place) follows(t []byte) bool {
	if len(p.After) > 0 && (p.After[0] == ',' || p.After[0] == ')') && (sameWord(t, p.key()) || shortForms.HasBytes(t)) {
		return true // owner=owner, credentials=creds), Password: pw,
	}
	spaced := bytes.HasSuffix(p.Before, []byte(" = ")) || bytes.HasSuffix(p.Before, []byte(": ")) && len(p.After) > 0 &&
		bytes.IndexByte([]byte(",)}"), p.After[0]) >= 0
	if !spaced || hasDigit(t) {
		return false
	}
	if bytes.IndexByte(t, '.') > 0 && (madeOfWords(t) || bytes.HasPrefix(t, []byte("self."))) {
		return true
	}
	key := p.key()
	if joinedKey(t, key) {
		return true // upcaseTokens = upcase_tokens
	}
	shares := false
	if bytes.IndexByte(key, '.') > 0 { // c.sessionID = …
		key = bytes.ToLower(key)
		eachPart(t, func(part []byte) bool {
			shares = len(part) >= 4 && bytes.Contains(key, bytes.TrimSuffix(bytes.ToLower(part), []byte("s")))
			return !shares
		})
	}
	return shares
}

// joinedKey reports whether a word is its key, written in another way.
func joinedKey(t, key []byte) bool {
	plain := func(w []byte) []byte { return bytes.ReplaceAll(bytes.ToLower(w), []byte("_"), nil) }
	return !bytes.Equal(t, key) && bytes.Equal(plain(t), plain(key))
}

// shortForms are what programs call the variables that hold secrets.
var shortForms = chars.WordSet("pw pwd pass passwd password passphrase creds cred credentials priv tok token secret key")

// worded reports whether the value is a word of a sentence: behind a word and a blank, one that everybody uses, with more words behind it.
func (p *Place) worded() bool {
	before := bytes.TrimRight(p.Before, " ")
	if n := len(before); n < 2 || n == len(p.Before) || !isLower(before[n-1]|0x20) {
		return false
	}
	var buf, next [lowerSize]byte
	t := bytes.TrimRight(p.Text, ".,;:!?")
	if !lexicon.Everyday(lowered(&buf, t)) {
		return false
	}
	if len(t) < len(p.Text) && (p.Text[len(t)] == '.' || p.Text[len(t)] == ',') ||
		len(p.After) > 1 && p.After[0] == ',' && p.After[1] == ' ' {
		return true // the end of a sentence, or of a part of one
	}
	if len(p.After) < 3 || p.After[0] != ' ' || !isLower(p.After[1]) {
		return false
	}
	after := p.After[1:]
	if i := bytes.IndexAny(after, " .,;:"); i >= 0 {
		after = after[:i]
	}
	return joining.HasBytes(lowered(&next, after))
}

// headed reports whether the value is the first word of a message behind the name of what speaks: AUTH: Received control message.
func (p *Place) headed() bool {
	n := len(p.Before)
	if n < 2 || p.Before[n-1] != ' ' || p.Before[n-2] != ':' || len(p.After) < 3 || p.After[0] != ' ' || !isLower(p.After[1]|0x20) ||
		!chars.IsAllLetters(p.Text) {
		return false
	}
	var buf, key [lowerSize]byte
	if !chars.IsUpper(p.Text[0]) && bytes.HasPrefix(lowered(&key, p.key()), []byte("passw")) { // password: correct horse battery
		return false
	}
	if lower := lowered(&buf, p.Text); !lexicon.Everyday(lower) && !named.HasBytes(lower) {
		return false
	}
	next := p.After[1:]
	if i := bytes.IndexAny(next, " =:"); i >= 0 && next[i] != ' ' { // logfmt goes on behind it
		return next[i] == ':'
	}
	return true
}

// listed reports whether the value is the first of several settings behind the name of what speaks: auth: user=itostrund result=ok.
func (p *Place) listed() bool {
	n, sign := len(p.Before), bytes.IndexByte(p.Text, '=')
	if n < 2 || p.Before[n-1] != ' ' || p.Before[n-2] != ':' || sign < 2 || !chars.IsAllLetters(p.Text[:sign]) {
		return false
	}
	rest := bytes.TrimLeft(p.After, " ")
	next := bytes.IndexByte(rest, '=')
	return len(rest) < len(p.After) && next > 1 && identifier(rest[:next])
}

// variable reports whether a text is a variable of a shell, of Perl or PHP: $name, ${name}, $name->x, @name.
func variable(t []byte) bool {
	if len(t) < 2 || t[0] != '$' && t[0] != '@' {
		return false
	}
	i := 1
	for i < len(t) && (isLower(t[i]) || t[i] == '_' || chars.IsDigit(t[i]) && i > 1 || t[i] == ':' || chars.IsUpper(t[i]) && t[0] == '$') {
		i++
	}
	if i == len(t) {
		return !mixed(t[1:]) || bytes.IndexByte(t, '_') > 0
	}
	return i > 1 && (bytes.HasPrefix(t[i:], []byte("->")) || t[i] == '[' || t[i] == '{' || t[i] == ';' || t[i] == '-' && i+1 == len(t))
}

// mixed reports whether a text has letters together with digits, or capitals in the middle of what is no name of several words.
func mixed(t []byte) bool {
	letters, digits := false, false
	for _, c := range t {
		letters = letters || isLower(c|0x20)
		digits = digits || chars.IsDigit(c)
	}
	return letters && digits && !madeOfWords(t)
}

// chosen reports whether a word of letters of both sizes ends with a digit, as passwords do, and names of variables hardly: Eye_Splice1.
func chosen(t []byte) bool {
	return chars.IsUpper(t[0]) && chars.IsDigit(t[len(t)-1]) && bytes.IndexFunc(t, func(r rune) bool { return r >= 'a' && r <= 'z' }) > 0
}

// macro reports whether a text is one in capitals that stands for something else: DB_PASSWORD.
func macro(t []byte) bool {
	for _, c := range t {
		if !chars.IsUpper(c) && c != '_' {
			return false
		}
	}
	return len(t) > 1
}

// sameWord reports whether a bare value is named like its key, or is a short form of it: password=password, credentials=creds.
func sameWord(t, key []byte) bool {
	a, b := bytes.ToLower(t), bytes.ToLower(key)
	if len(a) == 0 || len(b) == 0 {
		return false
	}
	if bytes.Equal(a, b) || bytes.HasSuffix(a, b) || bytes.HasSuffix(b, a) || bytes.HasSuffix(a, []byte("_"+string(b))) {
		return true
	}
	return len(a) >= 4 && bytes.HasPrefix(b, bytes.TrimSuffix(a, []byte("s")))
}

// sentence reports whether a text is several words that everybody uses, one of them a word that only sentences have.
func sentence(t []byte) bool {
	if bytes.IndexByte(t, ' ') < 0 {
		return false
	}
	words := bytes.Fields(t)
	if len(words) < 2 {
		return false
	}
	plain, joins := 0, false
	for _, w := range words {
		w = bytes.ToLower(bytes.Trim(w, ".,;:?()'\"`"))
		joins = joins || joining.HasBytes(w)
		if len(w) == 0 || isLower(w[0]) && (len(w) <= 2 || lexicon.Everyday(w)) {
			plain++
		}
	}
	return plain == len(words) && joins
}

// joining are words of sentences.
var joining = chars.WordSet("a an the is are was were be been to of in on at for from by with and or not no when if that this " +
	"it as than then " +
	"after before " +
	"can cannot must may will should would could do does did has have had into only also remove add fix use using new file")

// Format reports whether a text is a format or a template rather than what comes of it: %s, {}, ${name}.
func Format(t []byte) bool {
	switch {
	case len(t) >= 2 && t[0] == '%' && len(t) <= 4 && isLower(t[len(t)-1]):
		return true
	case bytes.Equal(t, []byte("{}")), bytes.HasPrefix(t, []byte("{{")), bytes.HasPrefix(t, []byte("${")), bytes.HasPrefix(t, []byte("$(")):
		return true
	case t[0] == '<' && t[len(t)-1] == '>':
		return true
	}
	return bytes.Contains(t, []byte("%s")) || bytes.Contains(t, []byte("%d")) || bytes.Contains(t, []byte("%v"))
}
