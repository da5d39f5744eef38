package judge

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// What stands before and behind a value says often that it is none, although its key is one for passwords: no password: it means …,
// pw = pw[:-1], Original Code is: …

// typed reports whether a reference of settings says of what kind the value is: http_auth_pass : string.
func (p *Place) typed() bool {
	return len(p.After) == 0 && bytes.HasSuffix(p.Before, []byte(" : ")) && kinds.HasBytes(p.Text)
}

// endsSentence reports whether a value is a word of every day before what ends a pattern or a stretch of a manual, behind a blank:
// passphrase cache\.$, password change\&.
func (p *Place) endsSentence() bool {
	n := len(p.Before)
	if n < 2 || p.Before[n-1] != ' ' || !isLower(p.Before[n-2]|0x20) || !isLower(p.Text[0]) {
		return false
	}
	for _, end := range []string{`\.$`, `)\&`, `\&`} {
		if word, ok := bytes.CutSuffix(p.Text, []byte(end)); ok {
			return lexicon.Everyday(word)
		}
	}
	return false
}

// denials are words before a key by which there is none; doubts, those by which a token was none that a program knows: the wrong password
// that somebody tried is one still.
var (
	denials = chars.WordSet("no without")
	doubts  = chars.WordSet("bad unknown unexpected invalid")
)

// denied reports whether the word before the key says that there is none: "no password: it means", "bad token: got".
func (p *Place) denied() bool {
	before := bytes.TrimRight(p.Before, " ")
	if !bytes.HasSuffix(before, []byte(":")) || len(p.Text) == 0 || !chars.IsAllLetters(bytes.Trim(p.Text, "`")) {
		return false
	}
	key := p.key()
	rest := bytes.TrimRight(before[:len(before)-1], " ")
	if len(key) == 0 || !bytes.HasSuffix(rest, key) {
		return false
	}
	if string(key) == "is" { // The Original Code is: of licences
		return bytes.HasSuffix(rest, []byte("Original Code is"))
	}
	word := chars.LastWordOf(rest[:len(rest)-len(key)])
	told := denials.Has(word) || doubts.Has(word) && !p.ofPassword() || word == "tests" && string(key) == "pass"
	return told && len(p.After) > 1 && p.After[0] == ' '
}

// modals are words behind which a sentence goes on about what its key is.
var modals = chars.WordSet("can must should may cannot is are was has does did will means it got")

// continued reports whether a value begins the rest of a sentence: --passphrase= can be empty.
func (p *Place) continued() bool {
	if p.quoted() || !modals.HasBytes(p.Text) || len(p.After) < 3 || p.After[0] != ' ' {
		return false
	}
	next, _, _ := bytes.Cut(p.After[1:], []byte(" "))
	return len(next) > 0 && (joining.HasBytes(next) || next[0] == '%')
}

// ofItself reports whether a value is computed from what its key stands for, or is an element or argument: pw = pw[:-1], pw = pw + c,
// min_pwd = rows[0]['age'], password=user_pass).
func (p *Place) ofItself() bool {
	key := p.key()
	switch {
	case p.quoted() && bytes.IndexByte(key, '_') > 0 && joinedKey(p.Text, key[bytes.LastIndexByte(key, '.')+1:]):
		return true // CHALLENGE_PASSWORD: "challengePassword"
	case string(p.Text) == "FAIL" && bytes.HasSuffix(key, []byte("PASS")), p.ofFolder(), verdicts(p.Text):
		return true
	}
	t := bytes.TrimRight(p.Text, ");")
	if p.quoted() || len(t) == 0 || !isLower(t[0]) {
		return false
	}
	if bytes.HasSuffix(p.Before, []byte(" = ")) {
		return sumWith(t, key) || element(t) ||
			bytes.HasSuffix(p.Text, append(append([]byte("("), key...), ')'))
	}
	shut := len(t) < len(p.Text) && p.Text[len(t)] == ')' || len(p.After) > 0 && (p.After[0] == ',' || p.After[0] == ')')
	alone := len(p.After) < 2 && len(bytes.TrimSpace(p.Before)) == len(key)+1 // of a call that begins above
	return shut && (alone || bytes.IndexByte(p.Before, '(') >= 0) && bytes.HasSuffix(p.Before, []byte("=")) && snake(t) &&
		(tellsIn(t) || sharesWords(t, key))
}

// sumWith reports whether a text is two variables that are put together, of which one is what the key is: pw + c.
func sumWith(t, key []byte) bool {
	left, right, ok := bytes.Cut(t, []byte(" + "))
	return ok && identifier(left) && len(right) > 0 && identifier(right) && (sameWord(left, key) || sameWord(right, key))
}

// element reports whether a text is an element or a part of a variable: pw[:-1], rows[0]['age'].
func element(t []byte) bool {
	open := bytes.IndexByte(t, '[')
	return open > 0 && open+1 < len(t) && t[len(t)-1] == ']' && identifier(t[:open]) && !hasDigit(t[:open]) &&
		(bytes.IndexByte([]byte(`'":-`), t[open+1]) >= 0 || bytes.Contains(t, []byte("][")))
}

// ofFolder reports whether a program asks another in which folder it is: pwd=`cd`.
func (p *Place) ofFolder() bool {
	sign := bytes.HasSuffix(bytes.TrimRight(p.Before, "` "), []byte("="))
	tick := bytes.HasSuffix(p.Before, []byte("`")) || p.Text[0] == '`'
	return sign && tick && askFolder.HasBytes(bytes.Trim(p.Text, "`")) && bytes.HasSuffix(bytes.ToLower(p.key()), []byte("pwd"))
}

// askFolder are the commands by which it does; in notes of Markdown a password stands between such signs, too.
var askFolder = chars.WordSet("cd pwd cmd dirname")

// outcomes are words that say how a check ended, in lists of them: pass:softfail:neutral.
var outcomes = chars.WordSet("pass fail softfail neutral permerror temperror none policy")

// verdicts reports whether a text is a list of such words, or the number of a step that a check has before its end: 0:.
func verdicts(t []byte) bool {
	head, rest, ok := bytes.Cut(t, []byte(":"))
	if !ok {
		return false
	}
	if len(rest) == 0 {
		return len(head) < 4 && len(head) > 0 && chars.IsAllDigits(head)
	}
	for part := range bytes.SplitSeq(t, []byte(":")) {
		if !outcomes.HasBytes(part) {
			return false
		}
	}
	return true
}

// snake reports whether a text is words in small letters with underscores between.
func snake(t []byte) bool {
	return bytes.IndexByte(t, '_') > 0 && len(bytes.Trim(t, "abcdefghijklmnopqrstuvwxyz_")) == 0
}

// tellsIn reports whether the first or last word of a name is one for a secret: pwd_buf, user_pass.
func tellsIn(t []byte) bool {
	return tells.HasBytes(t[:bytes.IndexByte(t, '_')]) || tells.HasBytes(t[bytes.LastIndexByte(t, '_')+1:])
}

// sharesWords reports whether a name has three words and its key has two of them.
func sharesWords(t, key []byte) bool {
	words, shared := 0, 0
	for w := range bytes.SplitSeq(t, []byte("_")) {
		if words++; len(w) > 3 && bytes.Contains(key, w) {
			shared++
		}
	}
	return words > 2 && shared > 1
}

// formatted reports whether a text is a part of what is put together: a format of messages, a text between two that are joined, a place of
// a value in a program.
func (p *Place) formatted() bool {
	t := p.Text
	for _, head := range putTogether {
		if bytes.HasPrefix(t, head) {
			return true
		}
	}
	switch t[0] {
	case ']':
		return kinds.HasBytes(t[1:])
	case '[', ',', '>':
		return len(t) > 3 && (t[1] == '\\' && t[2] == '%' || t[1] == '$' && variable(t[1:]))
	case '$':
		if len(t) == 2 {
			return bytes.IndexByte([]byte("!@_?&"), t[1]) >= 0
		}
		return (!p.quoted() || bytes.IndexByte(t[1:], '$') > 0) && joinedVariables(t)
	}
	if reports(t) || bytes.HasPrefix(t, []byte(`"{`)) && bytes.HasSuffix(t, []byte(`}"`)) ||
		bytes.IndexByte(t, ' ') > 0 && p.ofTest() {
		return true
	}
	return bytes.Contains(p.After, []byte("; urgency=")) || p.inBrackets() || statement(t) || literalOf(t) ||
		bytes.HasSuffix(t, []byte(".''")) || bytes.HasSuffix(t, []byte(`.""`)) || prompts(t)
}

// reports reports whether a text is the numbers of reports of faults: Bug#1071,#872.
func reports(t []byte) bool {
	rest, ok := bytes.CutPrefix(t, []byte("Bug#"))
	return ok && len(bytes.Trim(rest, "0123456789#,")) == 0
}

// ofTest reports whether a value is what a program calls a test: pass("First test").
func (p *Place) ofTest() bool {
	call, ok := bytes.CutSuffix(p.Before[:max(0, len(p.Before)-1)], []byte("pass("))
	return ok && (len(call) == 0 || chars.IsBlank(call[len(call)-1]))
}

// putTogether are beginnings of what is no value: the end of a text that is joined with another, a pattern, a file that is written to, a
// list of numbers, the facility of a log, and the mark of a text that follows.
var putTogether = [][]byte{[]byte("' . "), []byte("' + "), []byte(`" + `), []byte(`" . `), []byte("(?:"), []byte("(?="), []byte("(?P<"),
	[]byte("(?!"), []byte(`\x00`), []byte("authpriv."), []byte("<<EO"), []byte("<<'EO"), []byte("<<-EO"), []byte("<<~EO")}

// inBrackets reports whether a text is cut off at a bracket, or is a place of a value in a format: event["type"], {0.nonce!r}.
func (p *Place) inBrackets() bool {
	t := p.Text
	open := bytes.IndexByte(t, '[')
	switch {
	case open < 0 && len(t) < 4 && len(p.After) > 0 && p.After[0] == '}': // {code:08X}
		return bytes.LastIndexByte(p.Before, '{') > bytes.LastIndexByte(p.Before, '}') &&
			bytes.IndexByte([]byte("xXdsf"), t[len(t)-1]) >= 0 && (len(t) == 1 || chars.IsAllDigits(t[:len(t)-1]))
	case open == len(t)-1:
		return identifier(t[:open]) && bytes.HasPrefix(p.After, []byte(`"`))
	case open > 1 && len(p.After) > 0 && p.After[0] == ']':
		return snake(t[:open])
	}
	return bytes.HasSuffix(p.Before, []byte("{")) && (bytes.HasSuffix(t, []byte("!r")) || bytes.HasSuffix(t, []byte("!s")))
}

// joinedVariables reports whether a text is variables, and the signs that end a text behind them: $cwd)\n, $ROOT$1.
func joinedVariables(t []byte) bool {
	if rest, ok := bytes.CutSuffix(t, []byte(`)\n`)); ok {
		return len(rest) > 1 && len(bytes.Trim(rest[1:], "abcdefghijklmnopqrstuvwxyz_")) == 0
	}
	name, number, ok := bytes.Cut(t[1:], []byte("$"))
	return ok && macro(name) && len(number) == 1 && chars.IsDigit(number[0])
}

// statement reports whether a text is a statement of a program: while (@tokens) {.
func statement(t []byte) bool {
	word, rest, ok := bytes.Cut(t, []byte(" ("))
	return ok && len(rest) > 2 && programWords.HasBytes(word) && bytes.IndexByte(rest, ')') > 0 && t[len(t)-1] == '{'
}

// literalOf reports whether a text begins a value with its type: gate.RunnerOptions{....
func literalOf(t []byte) bool {
	n := bytes.IndexByte(t, '{')
	dot := bytes.IndexByte(t, '.')
	return dot > 0 && n > dot+1 && chars.IsUpper(t[dot+1]) && identifier(t[:n]) && !hasDigit(t[:n]) &&
		len(bytes.TrimRight(t[n+1:], ".")) == 0
}

// kinds are the words for kinds of values, as references of settings have them.
var kinds = chars.WordSet("string boolean integer binary byte bytes int bool")

// either reports whether a value is two words of a sentence that stand for each other, behind a word: a password and/or the name.
func (p *Place) either() bool {
	a, b, ok := bytes.Cut(p.Text, []byte("/"))
	n := len(p.Before)
	return ok && len(a) > 1 && len(b) > 1 && n > 1 && p.Before[n-1] == ' ' &&
		(string(p.Text) == "and/or" || p.Before[n-2] == ',') &&
		len(bytes.Trim(a, "abcdefghijklmnopqrstuvwxyz")) == 0 && len(bytes.Trim(b, "abcdefghijklmnopqrstuvwxyz")) == 0
}

// prompts reports whether a text asks for a password: "New Password: ".
func prompts(t []byte) bool {
	return bytes.HasSuffix(t, []byte("assword: ")) || bytes.HasSuffix(t, []byte("assphrase: ")) || bytes.HasSuffix(t, []byte("assword:"))
}

// signsOnly reports whether a text is the end of lines or a character that is written out, and nothing more: %s\n, \x80, \\\n.
func signsOnly(t []byte) bool {
	rest := bytes.TrimPrefix(t, []byte("%s"))
	for len(rest) > 0 && rest[0] == '\\' {
		switch {
		case len(rest) > 3 && rest[1] == 'x' && chars.IsHexes(rest[2:4]):
			rest = rest[4:]
		case len(rest) > 1 && bytes.IndexByte([]byte(`nrt\0`), rest[1]) >= 0:
			rest = rest[2:]
		default:
			return false
		}
	}
	return len(rest) == 0
}

// ofFile reports whether the key is the name of a file or of a program, and what follows tells of it: /etc/passwd: gates:x:100,
// decrypt-session-key.scm: Likewise., htpasswd: Add -v.
func (p *Place) ofFile() bool {
	key := p.key()
	if len(key) < 3 || p.quoted() || !bytes.HasSuffix(bytes.TrimRight(p.Before, " "), []byte(":")) {
		return false
	}
	if n := bytes.LastIndex(p.Before, key); n > 4 && bytes.HasSuffix(p.Before[:n], []byte("/etc/")) {
		return true
	}
	dot := bytes.LastIndexByte(key, '.')
	if n := bytes.LastIndex(p.Before, key); dot > 2 && n > 0 && p.Before[n-1] == '/' && len(p.After) == 0 && p.Text[len(p.Text)-1] == '.' {
		return chars.IsUpper(p.Text[0]) && chars.IsAllLetters(p.Text[:len(p.Text)-1]) // key-format.home: Delete.
	}
	if dot > 2 && programEndings.HasBytes(key[dot+1:]) || passPrograms.HasBytes(key) {
		return len(bytes.TrimRight(p.Text, ".")) > 0 && chars.IsAllLetters(bytes.TrimRight(p.Text, ".")) && chars.IsUpper(p.Text[0])
	}
	return false
}

var (
	programEndings = chars.WordSet("scm texi c h py pl pm sh go js rb java in am ac el")
	passPrograms   = chars.WordSet("htpasswd chpasswd gpasswd smbpasswd ldappasswd")
)
