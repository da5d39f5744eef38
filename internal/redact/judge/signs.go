package judge

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Sign is a row of the table of what says, beside a value or in it, that it is none although its key is one for passwords. Its examples are
// lines with the value in ⟦ ⟧: Yes are none, No are secrets that look like them. A test holds every row to both.
type Sign struct {
	Name    string
	of      func(p *Place) bool
	Yes, No []string
}

// Signs is the table.
var Signs = []Sign{
	{"the word before the key says that there is none", (*Place).denied,
		[]string{"no password: ⟦it⟧ means nothing", "bad token: ⟦got⟧ x", "The Original Code is: ⟦it⟧ x"},
		[]string{"invalid password: ⟦kelp⟧", "no password: ⟦Kelp-71⟧"}},
	{"the kind of a value", (*Place).typed, []string{"http_auth_pass : ⟦string⟧"}, []string{"http_auth_pass : ⟦strings9⟧",
		"pass: ⟦string⟧ x"}},
	{"a word before the end of a pattern or a stretch of a manual", (*Place).endsSentence,
		[]string{`the passphrase ⟦cache\.$⟧`, `a password ⟦change\&⟧`}, []string{`a password ⟦Kelp71\.$⟧`}},
	{"a sentence goes on", (*Place).continued, []string{"--passphrase= ⟦can⟧ be empty"}, []string{"--passphrase= ⟦can⟧",
		`passphrase="⟦can⟧" be`}},
	{"computed from what its key stands for", (*Place).ofItself,
		[]string{"pw = ⟦pw[:-1]⟧", "pw = ⟦pw + c⟧", "pwd=⟦`cd`⟧"}, []string{"pw = ⟦kelp + c⟧", "pwd: ⟦`Kelp71`⟧"}},
	{"a part of what is put together", (*Place).formatted,
		[]string{`password="⟦' . ⟧"`, "{token:⟦08X⟧}", "password: ⟦authpriv.*⟧", "while token: ⟦while (@tokens) {⟧"},
		[]string{"password: ⟦authprivKelp7⟧", "password: ⟦<<Eel7⟧", "password=⟦]brine⟧"}},
	{"the key is the name of a file", (*Place).ofFile, []string{"/etc/passwd: ⟦gates:x:100⟧", "htpasswd: ⟦Add⟧ -v"},
		[]string{"passwd: ⟦Brine⟧", "htpasswd: ⟦Add71⟧"}},
	{"ends of lines and characters written out", func(p *Place) bool { return signsOnly(p.Text) },
		[]string{`password: ⟦%s\n⟧`, `token=⟦\x80⟧`}, []string{`password: ⟦%s\nkelp⟧`}},
	{"a number of a program", func(p *Place) bool { return hexes(p.Text) }, []string{"key: ⟦0x53c237_53c237⟧", "NULL_PASSWORD = ⟦1<<8⟧"},
		[]string{"key: ⟦0x6c91kelp⟧"}},
	{"two words of a sentence", (*Place).either, []string{"a password ⟦and/or⟧ the name"}, []string{"a password ⟦Kelp/Brine7⟧"}},
	{"a word of a sentence with its sign", (*Place).exclaimed, []string{"it should reject the password ⟦change!⟧",
		"for a password ⟦prompt!⟧"},
		[]string{"password: ⟦change!⟧", "the password is ⟦Change!⟧", "password ⟦summer!⟧"}},
	{"the name of a value that is asked for", (*Place).askedFor,
		[]string{`out = self._get_password("⟦virtualCryptSHA256⟧", True)`, `getPassword('⟦user⟧')`},
		[]string{`set_password("⟦kelp⟧")`, `password = get("⟦kelp⟧")`, `forget_password("⟦kelp⟧")`}},
	{"a function within another, or a sum that is an argument", (*Place).ofProgram,
		[]string{`"300", "⟦main.f$1$1⟧"`, "ntokens, ⟦nnonter+1⟧)"}, []string{`"300", "⟦main.Kelp$71⟧"`, "password=⟦kelp+71⟧"}},
	{"a variable for a password, given to another", (*Place).givenOn, []string{"pw = ⟦password⟧", "    pwd = ⟦passwd⟧"},
		[]string{"password = ⟦password⟧", "pw = ⟦password1⟧", `pw = "⟦password⟧"`, "pw: ⟦password⟧"}},
	{"what stands for a value that is not shown", (*Place).hidden, []string{"db_password\t⟦<hidden>⟧", "set token <⟦hidden⟧>"},
		[]string{"set token ⟦hidden⟧", "password: ⟦<hidden-Kelp7>⟧"}},
	{"a file of changes", (*Place).ofPatch, []string{"drop ⟦000*-zip-.patch⟧", "password ⟦fix-codepage.diff⟧"},
		[]string{"password ⟦kelp.patched7⟧"}},
	{"words with the dashes of manuals", (*Place).ofManual, []string{`reset\-password ⟦creds\-name\-1⟧`},
		[]string{`password ⟦creds-name-1⟧`, `password ⟦kelp\-Brine7⟧`}},
}

// otherwise reports whether the words and signs around a value, or in it, say that it is none, whatever its key is.
func (p *Place) otherwise() bool {
	for i := range Signs {
		if Signs[i].of(p) {
			return true
		}
	}
	return false
}

// exclaimed reports whether a value is a word of every day with a sign behind it, in a sentence.
func (p *Place) exclaimed() bool {
	n := len(p.Before)
	word, ok := bytes.CutSuffix(p.Text, []byte("!"))
	return ok && n > 1 && p.Before[n-1] == ' ' && isLower(p.Before[n-2]|0x20) && ofPasswords.HasBytes(word)
}

// ofPasswords are words behind that for a password in sentences about them.
var ofPasswords = chars.WordSet("change changes changed prompt prompts reset again now first here file files field policy hint")

// askedFor reports whether a value is an argument of what gets a password: get_password("NAME").
func (p *Place) askedFor() bool {
	if !p.quoted() {
		return false
	}
	call, ok := bytes.CutSuffix(p.Before[:len(p.Before)-1], []byte("("))
	if !ok {
		return false
	}
	name := call[bytes.LastIndexAny(call, " .(=\t")+1:]
	name = bytes.TrimLeft(name, "_")
	return bytes.HasPrefix(name, []byte("get_")) || len(name) > 3 && bytes.HasPrefix(name, []byte("get")) && chars.IsUpper(name[3])
}

// ofProgram reports whether a value is the name that compilers give a function within another, or a variable and a number as an argument.
func (p *Place) ofProgram() bool {
	head := bytes.TrimRight(p.Text, "0123456789$")
	if dot := bytes.IndexByte(head, '.'); dot > 0 && len(head) < len(p.Text) {
		return p.Text[len(head)] == '$' && len(bytes.Trim(head, "abcdefghijklmnopqrstuvwxyz.")) == 0
	}
	name, number, ok := bytes.Cut(p.Text, []byte("+"))
	return ok && !p.quoted() && len(name) > 1 && len(bytes.Trim(name, "abcdefghijklmnopqrstuvwxyz")) == 0 && len(number) == 1 &&
		chars.IsDigit(number[0]) && bytes.HasSuffix(p.Before, []byte(", ")) && bytes.HasPrefix(p.After, []byte(")"))
}

// givenOn reports whether a value is a variable whose name says what its key says in another word: pw = password.
func (p *Place) givenOn() bool {
	return !p.quoted() && bytes.HasSuffix(p.Before, []byte(" = ")) && len(p.After) == 0 && wordsForPassword.HasBytes(p.Text) &&
		wordsForPassword.HasBytes(p.key()) && !bytes.Equal(p.Text, p.key())
}

var wordsForPassword = chars.WordSet("password passwd passphrase pwd pw pass")

// hidden reports whether a value in angle brackets says that the real one is not shown.
func (p *Place) hidden() bool {
	t := p.Text
	if bytes.HasSuffix(p.Before, []byte("<")) && bytes.HasPrefix(p.After, []byte(">")) {
		return notShown.HasBytes(t)
	}
	return len(t) > 2 && t[0] == '<' && t[len(t)-1] == '>' && notShown.HasBytes(t[1:len(t)-1])
}

// notShown are words that stand for values.
var notShown = chars.WordSet("hidden masked redacted removed omitted filtered snip snipped secret none empty unset set present encrypted")

// ofPatch reports whether a value is the name of a file of changes.
func (p *Place) ofPatch() bool {
	return bytes.HasSuffix(p.Text, []byte(".patch")) || bytes.HasSuffix(p.Text, []byte(".diff"))
}

// ofManual reports whether a value is words with dashes as manuals write them.
func (p *Place) ofManual() bool {
	return bytes.Contains(p.Text, []byte(`\-`)) && len(bytes.Trim(p.Text, `abcdefghijklmnopqrstuvwxyz0123456789\-`)) == 0
}
