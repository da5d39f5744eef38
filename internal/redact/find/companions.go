package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// What stands beside a secret that was found tells its account: in its line behind a word for one, in a line of the same block, or as
// the head of that block.

// accountWords are words before the name of an account, where a secret stands in the same line or block.
var accountWords = chars.WordSet(`user username user-name userid user-id login loginname account accountname uid usr user-or-group-name
	benutzer utilisateur usuario utilizador gebruiker identity eap_id authid`)

// firstOfAccount are the letters that these words begin with.
var firstOfAccount = *chars.BytesOf("uUlLaAbBgGneEiI")

// fillers may stand between such a word and the name.
var fillers = chars.WordSet("name is was admin root operator user")

// ownerWords are keys behind which stands who has an account, or what it is for.
var ownerWords = chars.WordSet("description comment comments note full-name full_name display-name display_name gecos remark remarks")

// farKey is how far from the beginning of its line a secret of a block stands at most, in bytes.
const farKey = 80

// Bounds of a block: lines before and behind a secret, and how far up its heads are looked for, in bytes.
const (
	siblingsBefore = 5
	siblingsBehind = 4
	farHead        = 4 << 10
)

// Companion says what stands beside a secret.
type Companion int

// What can stand there.
const (
	Account     Companion = iota // the name of the account that it belongs to, or of the person whose account that is
	SecretOfOne                  // the secret of another account, in a list of pairs
)

// Companions gives what stands beside a secret, and tells what is its account. named says that the secret can be nothing else, so that a
// word before it is an account, whatever it is.
func Companions(b []byte, start, end int, named bool, found func(from, to int, what Companion)) {
	account := func(from, to int) { found(from, to, Account) }
	if from, to := newSecret(b, end); from < to {
		found(from, to, SecretOfOne)
	}
	for _, of := range []func(b []byte, start, end int) (from, to int){accountBy, accountOfOTP, accountOfForm} {
		if from, to := of(b, start, end); from < to {
			account(from, to)
		}
	}
	line := chars.LineStart(b, start)
	accountsInLine(b, line, start, account)
	first := line + indentation(b, line)
	if to := chars.NameAt(b, first); named && to > first && to < start && len(bytes.Trim(b[to:start], " \t:\"'")) == 0 &&
		restIsBlank(b, end) && IsPerson(b[first:to]) && KindOf(b[first:to]) == 0 && !IsEveryday(bytes.ToLower(b[first:to])) {
		account(first, to)
	}
	if first >= len(b) || chars.IsDigit(b[first]) || start-first > farKey { // the line of a log, or a long one: it is no part of a block
		return
	}
	look := func(at int) bool { return isSibling(b, at, first-line, found) }
	if to := chars.NameAt(b, first); to == start-1 && b[to] == ':' && restIsBlank(b, end) {
		look = func(at int) bool { return isPairLine(b, at, first-line, found) }
	}
	at := line
	for range siblingsBefore {
		if at = lineBefore(b, at); at < 0 || !look(at) {
			break
		}
	}
	at = line
	for range siblingsBehind {
		if at = chars.NextLine(b, at); at >= len(b) || !look(at) {
			break
		}
	}
	if from, to := headOfBlock(b, line, first-line); from < to {
		account(from, to)
	}
}

// accountBy gives who did something with a secret: password reset to SECRET by NAME.
func accountBy(b []byte, _, end int) (from, to int) {
	if !bytes.HasPrefix(b[end:], []byte(" by ")) {
		return 0, 0
	}
	if from, to = nameBehind(b, end+len(" by "), len(b)); from != end+len(" by ") {
		return 0, 0
	}
	return from, to
}

// newSecret gives the value behind an arrow, which takes the place of a secret in quotes: "old" -> "new".
func newSecret(b []byte, end int) (from, to int) {
	if end >= len(b) || !isQuote(b[end]) {
		return 0, 0
	}
	rest := chars.LineFrom(b, end+1)
	for _, arrow := range []string{" -> ", " => ", " → "} {
		if v, ok := bytes.CutPrefix(rest, []byte(arrow)); ok && len(v) > 2 && v[0] == b[end] {
			from = end + 1 + len(arrow) + 1
			to = from + max(0, bytes.IndexByte(v[1:], v[0]))
			if from < to && IsValue(b[from:to]) {
				return from, to
			}
		}
	}
	return 0, 0
}

// accountOfOTP gives the account in the label before the parameters of a code for one-time passwords: otpauth://totp/PIER:NAME?secret=….
func accountOfOTP(b []byte, start, _ int) (from, to int) {
	if !bytes.HasSuffix(b[:start], []byte("secret=")) {
		return 0, 0
	}
	before := b[max(0, start-200):start]
	head := bytes.LastIndex(before, []byte("otpauth://"))
	if head < 0 {
		return 0, 0
	}
	to = bytes.IndexByte(before[head:], '?')
	if to < 0 {
		return 0, 0
	}
	label := before[head+len("otpauth://") : head+to]
	at := max(bytes.LastIndexByte(label, '/')+1, bytes.LastIndexByte(label, ':')+1, bytes.LastIndex(bytes.ToLower(label), []byte("%3a"))+3)
	if v := label[min(at, len(label)):]; len(v) < 2 || !IsPerson(v) {
		return 0, 0
	}
	end := start - len(before) + head + to
	return end - (len(label) - at), end
}

// restIsBlank says whether nothing follows in a line.
func restIsBlank(b []byte, at int) bool {
	return len(bytes.TrimSpace(b[at:chars.NextLine(b, at)])) == 0
}

// isPairLine looks at a line beside one that is a name and its secret, joined by a colon: another pair.
func isPairLine(b []byte, line, indent int, found func(from, to int, what Companion)) bool {
	at := line + indentation(b, line)
	colon := chars.NameAt(b, at)
	text := bytes.TrimRight(b[at:chars.NextLine(b, line)], " \t\r\n")
	if at-line != indent || colon == at || colon-at+1 >= len(text) || b[colon] != ':' {
		return false
	}
	if IsEveryday(bytes.ToLower(b[at:colon])) || KindOf(b[at:colon]) != 0 { // host:name, as other lists have it
		return false
	}
	if secret := text[colon-at+1:]; bytes.IndexByte(secret, ' ') < 0 && IsValue(secret) && len(secret) >= 4 && !NotValues.Has(secret) {
		found(colon+1, colon+1+len(secret), SecretOfOne)
		if IsPerson(b[at:colon]) {
			found(at, colon, Account)
		}
	}
	return true
}

// accountsInLine looks for words for an account before a place in its line.
func accountsInLine(b []byte, line, until int, account func(from, to int)) {
	for at := max(line, until-farWord); at < until; {
		if b[at] == '-' && at+2 < until && b[at+1]|0x20 == 'u' && b[at+2] == ' ' && at > line && b[at-1] == ' ' { // -u NAME … -p SECRET
			if from, to := nameBehind(b, at+2, until); from < to {
				account(from, to)
			}
		}
		if !firstOfAccount[b[at]] {
			at++
			continue
		}
		word := wordOfAccount(b, at, until)
		if word == at {
			at++
			continue
		}
		quotedName := string(b[at:word]) == "name" && word < until && (b[word] == '\'' || b[word] == '"') &&
			!bytes.ContainsAny(b[word:until], "{}") // of the object that the secret belongs to
		if quotedName {
			word++
		}
		if quotedName || accountWords.HasBytes(bytes.ToLower(b[at:word])) {
			from, to := nameBehind(b, pastIs(b, word, until), until)
			host := bytes.HasPrefix(b[to:until], []byte(" -")) && bytes.IndexByte(b[from:to], '.') > 0 // login registry.example -u NAME
			if from < to && !host && !(quotedName && IsEveryday(bytes.ToLower(b[from:to]))) {
				account(from, to)
			}
		}
		at = word
	}
}

// farWord is how far before a secret its account is looked for, in bytes.
const farWord = 160

// farIs is how far behind a word for an account a sentence may say which one it is, in bytes.
const farIs = 40

// pastIs goes to what a sentence says an account is: the login for the console is NAME.
func pastIs(b []byte, at, until int) int {
	rest := b[at:min(until, at+farIs)]
	if n := bytes.Index(rest, []byte(" is ")); n >= 0 && !bytes.ContainsAny(rest[:n], ".,;:=\"'") {
		return at + n + len(" is ")
	}
	return at
}

// wordOfAccount gives the end of the word that begins at a place, with the dashes in it; the place itself where none begins.
func wordOfAccount(b []byte, at, until int) int {
	if at > 0 && (chars.IsWord(b[at-1]) || b[at-1] == '.' || b[at-1] == '/') || !chars.IsWord(b[at]) {
		return at
	}
	end := at
	for end < until && (chars.IsWord(b[end]) || b[end] == '-' && end > at) {
		end++
	}
	return end
}

// nameBehind gives the name behind a word for an account: behind a blank, a sign or a word between them.
func nameBehind(b []byte, at, until int) (from, to int) {
	for {
		for at < until && (b[at] == ' ' || b[at] == '\t') {
			at++
		}
		if at < until && (b[at] == '=' || b[at] == ':') && at+1 < until {
			at++
			continue
		}
		quoted := at < until && (b[at] == '"' || b[at] == '\'' || b[at] == '{')
		if quoted {
			at++
		}
		to = chars.NameAt(b, at)
		if to < until && b[to] == '\\' { // DOMAIN\name
			at, to = to+1, chars.NameAt(b, to+1)
		}
		if to <= at || to > until-1 {
			return 0, 0
		}
		word := b[at:to]
		if !quoted && fillers.HasBytes(bytes.ToLower(word)) {
			at = to
			continue
		}
		if !IsPerson(word) || KindOf(word) != 0 || !quoted && IsEveryday(bytes.ToLower(word)) ||
			bytes.IndexByte([]byte("=/("), b[to]) >= 0 {
			return 0, 0
		}
		return at, to
	}
}

// isSibling looks at a line beside the one of a secret, and says whether the block goes on there.
func isSibling(b []byte, line, indent int, found func(from, to int, what Companion)) bool {
	end := chars.NextLine(b, line)
	at := line + indentation(b, line)
	text := bytes.TrimRight(b[min(at, end):end], " \t\r\n")
	if len(text) == 0 || at-line < indent || text[0] == '[' || text[0] == '}' {
		return false
	}
	if at-line > indent {
		return true // within something of the block
	}
	if from, to := accountOfConstant(text); from < to {
		found(at+from, at+to, Account)
		return true
	}
	key := 0
	for key < len(text) && (chars.IsWord(text[key]) || text[key] == '-' || text[key] == '.') {
		key++
	}
	if key == 0 || key == len(text) {
		return true
	}
	word := string(bytes.ToLower(text[:key]))
	owner := ownerWords.Has(word)
	if !owner && (word == "account" || KindOf(text[:key])&KeyUser == 0 && !accountWords.Has(word)) {
		return true
	}
	from, to := valueBehind(text, key)
	if from > key && from < to && IsPerson(text[from:to]) && !saysHow(text, key, from, to) &&
		(owner && LooksPersonal(text[from:to]) || !owner && chars.NameAt(b, at+from) == at+to) {
		found(at+from, at+to, Account)
	}
	return true
}

// saysHow says whether a word without a sign before it says how it went, and names nobody: Login Succeeded.
func saysHow(text []byte, key, from, to int) bool {
	sign := bytes.TrimLeft(text[key:], " \t")
	return sign[0] != '=' && sign[0] != ':' && IsEveryday(bytes.ToLower(text[from:to]))
}

// accountOfConstant gives the account in a line of PHP that names a constant: define('DB_USER', 'itostrund');.
func accountOfConstant(text []byte) (from, to int) {
	rest, ok := bytes.CutPrefix(text, []byte("define("))
	quote := bytes.IndexAny(rest, `'"`)
	if !ok || quote < 0 {
		return 0, 0
	}
	parts := bytes.SplitN(rest[quote+1:], rest[quote:quote+1], 4)
	if len(parts) < 4 || KindOf(parts[0])&KeyUser == 0 || !IsPerson(parts[2]) || chars.NameAt(parts[2], 0) != len(parts[2]) {
		return 0, 0
	}
	from = len(text) - len(rest) + quote + 1 + len(parts[0]) + 1 + len(parts[1]) + 1
	return from, from + len(parts[2])
}

// valueBehind gives the value behind the key of a line, without its quotes and the sign that ends it.
func valueBehind(text []byte, key int) (from, to int) {
	from = key
	for from < len(text) && bytes.IndexByte([]byte(" \t=:"), text[from]) >= 0 {
		from++
	}
	to = len(bytes.TrimRight(text, ";,"))
	if to-from > 2 && (text[from] == '"' || text[from] == '\'') && text[to-1] == text[from] {
		from, to = from+1, to-1
	}
	return from, to
}

// indentation is how many blanks a line begins with; the dash of a list counts as one of them.
func indentation(b []byte, line int) int {
	at := line
	for at < len(b) && (b[at] == ' ' || b[at] == '\t' || b[at] == '-' && at+1 < len(b) && b[at+1] == ' ') {
		at++
	}
	return at - line
}

// lineBefore gives the start of the line before one; -1 where there is none.
func lineBefore(b []byte, line int) int {
	if line == 0 {
		return -1
	}
	return chars.LineStart(b, line-1)
}

// namedAccounts are keys whose members are called like accounts.
var namedAccounts = chars.WordSet("users accounts logins credentials passwords userlist basicauth basic_auth " +
	"basic-auth userpass admins roles")

// headOfBlock gives the name over the block that holds a secret, where the block over that is one of accounts.
func headOfBlock(b []byte, line, indent int) (from, to int) {
	if indent == 0 {
		return 0, 0
	}
	head := lineOver(b, line, indent)
	if head < 0 {
		return 0, 0
	}
	from, to = keyAlone(b, head)
	over := lineOver(b, head, indentation(b, head))
	if from == to || over < 0 {
		return 0, 0
	}
	if of, end := keyAlone(b, over); !namedAccounts.HasBytes(bytes.ToLower(b[of:end])) {
		return 0, 0
	}
	if !IsPerson(b[from:to]) || chars.NameAt(b, from) != to {
		return 0, 0
	}
	return from, to
}

// lineOver gives the next line above one that is indented less; -1 where there is none near.
func lineOver(b []byte, line, indent int) int {
	for at := line; at > 0 && line-at < farHead; {
		at = chars.LineStart(b, at-1)
		if n := indentation(b, at); n < indent && at+n < len(b) && b[at+n] != '\n' && b[at+n] != '#' {
			return at
		}
	}
	return -1
}

// keyAlone gives the key of a line that has nothing behind it.
func keyAlone(b []byte, line int) (from, to int) {
	from = line + indentation(b, line)
	text := bytes.TrimRight(b[from:chars.NextLine(b, from)], " \t\r\n{=")
	if n := len(text); n > 1 && text[n-1] == ':' {
		text = text[:n-1]
	}
	quotes := len(text) - len(bytes.TrimLeft(text, `"'`))
	text = bytes.Trim(text, `"'`)
	return from + quotes, from + quotes + len(text)
}
