package judge

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// Pieces of programs and names of files stand behind keys that read like those of secrets: token = parser.next_token, key = 1 << 2.

// expression reports whether a value is such a piece, whatever its key is.
func expression(t []byte) bool {
	switch {
	case bytes.HasPrefix(t, []byte(" + ")), bytes.HasPrefix(t, []byte(`json:"`)), bytes.HasPrefix(t, []byte(`yaml:"`)),
		bytes.Contains(t, []byte(" << ")), bytes.HasPrefix(t, []byte("len(")):
		return true
	}
	for _, word := range []string{"true", "false"} {
		if rest, ok := bytes.CutPrefix(t, []byte(word)); ok && len(rest) > 0 && bytes.IndexByte([]byte(",;`|"), rest[0]) >= 0 {
			return true
		}
	}
	return member(t) || call(t) || parameter(t) || tag(t) || slot(t) || markup(t)
}

// stands reports whether a value is the name of a file or such a piece, behind a key that is none for passwords.
func (p *Place) stands() bool { return (namesFile(p.Text) || loosePiece(p.Text)) && !p.ofPassword() }

// loosePiece reports whether a text is a piece of a manual or page, or a number: what people choose for passwords may read so.
func loosePiece(t []byte) bool {
	n := len(t)
	bold := n > 4 && (bytes.HasPrefix(t, []byte("__")) && bytes.HasSuffix(t, []byte("__")) ||
		bytes.HasSuffix(t, []byte("**")) && chars.IsAllLetters(t[:n-2]))
	return bold || roff(t) || colour(t) || numberOf(t)
}

// markup reports whether a text is a piece of one with marks: an entity, the attribute of an element, POD's C<…>, a place in
// a page.
func markup(t []byte) bool {
	for _, piece := range []string{"&ndash;", "&mdash;", `=\"`, ".md#", ".html#"} {
		if bytes.Contains(t, []byte(piece)) {
			return true
		}
	}
	return len(t) > 4 && chars.IsUpper(t[0]) && t[1] == '<' && t[len(t)-1] == '>'
}

// numberOf reports whether a text is the number of a version or of a report: 3.6.1, GateAgent/4.2, lp#314814.
func numberOf(t []byte) bool {
	if chars.IsDigit(t[0]) {
		return bytes.Count(t, []byte(".")) > 1 && len(bytes.Trim(t, "0123456789.")) == 0
	}
	if name, version, ok := bytes.Cut(t, []byte("/")); ok && chars.IsAllLetters(name) && bytes.IndexByte(version, '.') > 0 &&
		len(bytes.Trim(version, "0123456789.")) == 0 {
		return true
	}
	n := bytes.IndexByte(t, '#')
	return n > 1 && n < 7 && len(t) > n+3 && chars.IsAllLetters(t[:n]) && chars.IsAllDigits(t[n+1:])
}

// roff reports whether a text has the escapes of manuals in it (groff(7)): creds\-name, info\&.
func roff(t []byte) bool {
	for _, escape := range []string{`\-`, `\&`, `\fR`, `\fB`, `\fI`, `\f5`} {
		if bytes.Contains(t, []byte(escape)) {
			return true
		}
	}
	return false
}

// colour reports whether a text ends with the number of a colour, or is the number of something: bg:#ffffe0, #5021.
func colour(t []byte) bool {
	n := bytes.LastIndexByte(t, '#')
	if n < 0 || len(t)-n < 4 {
		return false
	}
	number := t[n+1:]
	return n == 0 && len(number) < 7 && chars.IsAllDigits(number) || n > 0 && (t[n-1] == ':' || t[n-1] == ' ') && len(number) == 6 &&
		chars.IsHexes(number)
}

// tag reports whether a text is the tag of a field in Go: sshtype:"50".
func tag(t []byte) bool {
	n := bytes.Index(t, []byte(`:"`))
	return n > 1 && t[len(t)-1] == '"' && len(t) > n+2 && chars.IsAllLetters(t[:n])
}

// slot reports whether a text is the place of a value in a format of Python: {0.nonce!r}.
func slot(t []byte) bool {
	if len(t) < 4 || t[0] != '{' || t[len(t)-1] != '}' {
		return false
	}
	name, how, _ := bytes.Cut(t[1:len(t)-1], []byte("!"))
	return len(how) < 2 && bytes.IndexByte(name, '.') > 0 && len(bytes.Trim(name, "abcdefghijklmnopqrstuvwxyz_.0123456789")) == 0
}

// bareExpression reports whether a value without quotes is a piece of a program: what is computed, an element, a call, a name that says
// that it is a secret itself.
func (p *Place) bareExpression() bool {
	t := p.Text
	if p.ofPassword() {
		return p.callOf()
	}
	for _, sign := range []string{" + ", "+len(", " % (", " or ", " if ", "<<", "[:", `["`, "[0]", "['"} {
		if n := bytes.Index(t, []byte(sign)); n > 0 && isLower(t[0]|0x20) || n == 1 {
			return true
		}
	}
	if rest, ok := bytes.CutSuffix(t, []byte(" |")); ok && macro(rest) {
		return true
	}
	return p.callOf() || p.namesSecret() || p.namesPart() || constant(t) || t[0] == '`' && bytes.IndexByte(t[1:], '`') < 0 ||
		chars.IsDigit(t[0]) && len(t) < 4 && t[len(t)-1] == ':'
}

// callOf reports whether a value without quotes begins a call whose arguments go on behind it: decodeHex(t, …).
func (p *Place) callOf() bool {
	t := p.Text
	open := bytes.IndexByte(t, '(')
	return open > 2 && identifier(t[:open]) && !hasDigit(t[:open]) && len(p.After) > 0 &&
		(p.After[0] == ',' || len(t) > open+1 && t[len(t)-1] == ' ')
}

// constant reports whether a text is the name of a constant of several words, with digits or without: X509_STORE_CTX.
func constant(t []byte) bool {
	words := 0
	for part := range bytes.SplitSeq(t, []byte("_")) {
		for _, c := range part {
			if !chars.IsUpper(c) && !chars.IsDigit(c) {
				return false
			}
		}
		if len(part) > 2 && !hasDigit(part) {
			words++
		}
	}
	return words > 1
}

// namesPart reports whether a value is the name of a variable, in small letters and of several words, that a program gives to another:
// token_mark = start_mark. Passwords may read so.
func (p *Place) namesPart() bool {
	if bytes.IndexByte(p.Text, '_') < 1 || !bytes.HasSuffix(p.Before, []byte(" = ")) {
		return false
	}
	for _, c := range p.Text {
		if !isLower(c) && c != '_' {
			return false
		}
	}
	return len(p.After) == 0 || p.After[0] == ';'
}

// tells are the last words of names of variables that hold secrets.
var tells = chars.WordSet("token password passwd pass pwd secret key creds credentials credential auth cookie")

// longName is from how many bytes on a word with digits in it is the name of a variable, and no password.
const longName = 16

// namesSecret reports whether a value is the name of a variable: several words of which the last is one for a secret, where programs have
// it: credentials=user_creds, or token = current_token at the end of a line.
func (p *Place) namesSecret() bool {
	t := p.Text
	n, behind := len(p.Before), len(p.After)
	worded := n > 1 && p.Before[n-1] == ' ' && (isLower(p.Before[n-2]|0x20) || p.Before[n-2] == '"') // behind a word, without a sign
	given := behind > 0 && bytes.IndexByte([]byte(",)}"), p.After[0]) >= 0
	last := behind == 0 && bytes.HasSuffix(p.Before, []byte(" = "))
	if !worded && !given && !last || !endsTelling[t[len(t)-1]|0x20] || !identifier(t) || bytes.IndexByte(t, '-') >= 0 {
		return false
	}
	word := chars.LastWord(t)
	return len(word) < len(t) && tells.Has(word) && !(hasDigit(t) && len(t) < longName)
}

// endsTelling are the last letters of these words.
var endsTelling = *chars.BytesOf("ndstylshe")

// stands are the words that stand for any key in examples.
var stands = chars.WordSet(`my your the a api key keys token secret test testing fake example sample synthetic default client admin dummy
	placeholder here some valid invalid bad other another new old mock`)

// standsFor reports whether a value is words that stand for any: "My API Key", test-key. People choose such ones for passwords.
func (p *Place) standsFor() bool {
	if len(p.Text) > 64 || !bytes.ContainsAny(p.Text, " -_") {
		return false
	}
	words := 0
	for w := range bytes.FieldsFuncSeq(p.Text, func(r rune) bool { return r == ' ' || r == '-' || r == '_' }) {
		if words++; !stands.HasBytes(bytes.ToLower(w)) {
			return false
		}
	}
	return words > 1 && !p.ofPassword()
}

// saying are words that only sentences have, and no passphrase.
var saying = chars.WordSet("is are was does do did must should cannot has have not")

// says reports whether a value in quotes is a sentence: "HOTP value does not match.".
func (p *Place) says() bool {
	words := bytes.Fields(p.Text)
	if len(words) < 3 || bytes.Contains(bytes.ToLower(p.key()), []byte("word")) ||
		bytes.Contains(bytes.ToLower(p.key()), []byte("phrase")) {
		return false
	}
	said, plain := false, 0
	for _, w := range words {
		w = bytes.ToLower(bytes.TrimRight(w, ".,:;!?"))
		said = said || saying.HasBytes(w)
		if len(w) > 0 && chars.IsAllLetters(w) && (len(w) < 3 || lexicon.Everyday(w)) {
			plain++
		}
	}
	return said && plain+1 >= len(words)
}

// told reports whether a plain word behind a key that is none for passwords begins a sentence: auth: isolate the requests of tokens.
func (p *Place) told() bool {
	if !chars.IsAllLetters(bytes.Trim(p.Text, "'")) || len(p.Before) < 2 || p.Before[len(p.Before)-1] != ' ' || p.ofPassword() {
		return false
	}
	words := bytes.Fields(p.After)
	change := bytes.HasSuffix(p.Before, []byte(":** ")) && chars.IsUpper(p.Text[0]) // an entry of a list of changes
	if len(words) < 3 && !(change && len(words) > 1) || p.After[0] != ' ' {
		return false
	}
	plain := 0
	if change {
		plain++
	}
	for _, w := range words[:min(4, len(words))] {
		if chars.IsAllLetters(bytes.TrimRight(w, ".,")) {
			plain++
		}
	}
	return plain > 1
}

// verbs begin the names of commands in PowerShell.
var verbs = chars.WordSet("add convertfrom convertto export get import invoke join new out read resolve select set start test write")

// cmdlet reports whether a text is such a name: ConvertTo-SecureString.
func cmdlet(t []byte) bool {
	verb, noun, ok := bytes.Cut(t, []byte("-"))
	return ok && len(verb) > 2 && len(noun) > 2 && chars.IsUpper(t[0]) && chars.IsUpper(noun[0]) && chars.IsAllLetters(noun) &&
		verbs.HasBytes(bytes.ToLower(verb))
}

// parameter reports whether a text is the number of a parameter of a statement in SQL: $1.
func parameter(t []byte) bool {
	n := 1
	for n < len(t) && chars.IsDigit(t[n]) {
		n++
	}
	return t[0] == '$' && n > 1 && n < 4 && (n == len(t) || bytes.IndexByte([]byte(", );"), t[n]) >= 0)
}

// call reports whether a text begins with the call of something whose name has several parts, or with one that is given a variable.
func call(t []byte) bool {
	open := bytes.IndexByte(t, '(')
	if open < 2 || hasDigit(t[:open]) || bytes.HasPrefix(t, []byte(".")) {
		return false
	}
	parts := 0
	for part := range bytes.FieldsFuncSeq(t[:open], func(r rune) bool { return r == '.' || r == '_' }) {
		if parts++; !identifier(part) {
			return false
		}
	}
	return parts > 0 && (parts > 1 || t[0] == '_' || open+1 < len(t) && t[open+1] == '$')
}

// member reports whether a text is the member of something as programs write it: words joined by underscores behind a dot, or before it.
func member(t []byte) bool {
	if bytes.IndexByte(t, '.') < 2 || bytes.IndexByte(t, '_') < 0 || hasDigit(t) || t[len(t)-1] == '.' {
		return false
	}
	for part := range bytes.SplitSeq(t, []byte(".")) {
		if len(part) == 0 || !identifier(part) {
			return false
		}
	}
	return true
}

// fileEndings are those of texts, programs and keys.
var fileEndings = chars.WordSet("txt asc gpg c h cc cpp go py pl pm rb js ts java sh pem crt cer csr keytab json yaml yml toml ini conf " +
	"xml html md log patch diff")

// ofPassword reports whether the key of a value is one for a password: what people choose may end as the name of a file does.
func (p *Place) ofPassword() bool {
	p.key()
	return p.password
}

func namesPassword(key []byte) bool {
	var buf [lowerSize]byte
	key = lowered(&buf, key)
	return bytes.Contains(key, []byte("pass")) || bytes.Contains(key, []byte("pwd")) || bytes.HasSuffix(key, []byte("pin")) ||
		bytes.HasSuffix(key, []byte("pw")) || bytes.HasSuffix(key, []byte("wort")) || bytes.HasSuffix(key, []byte("senha"))
}

// namesFile reports whether a text is the name of a file, with or without its path.
func namesFile(t []byte) bool {
	dot := bytes.LastIndexByte(t, '.')
	if dot < 2 || !fileEndings.HasBytes(t[dot+1:]) {
		return false
	}
	for _, c := range t[:dot] {
		if !chars.IsWord(c) && bytes.IndexByte([]byte("./-$~"), c) < 0 {
			return false
		}
	}
	return bytes.IndexByte(t, '/') >= 0 || isLower(t[0])
}
