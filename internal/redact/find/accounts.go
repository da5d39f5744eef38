package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Names of accounts where a secret beside them, the option of a program or the column of a row of SQL tells them.

// PlaceholderBefore reports whether a name is the inner part of a placeholder of templates: ${name}, %(name)s, {{name}}.
func PlaceholderBefore(b []byte, at int) bool {
	return at > 0 && bytes.IndexByte([]byte("{<%$([`"), b[at-1]) >= 0
}

// NameOfTunnel gives the name before an address that a server of tunnels writes: NAME/192.0.2.7:51514 MULTI: ….
func NameOfTunnel(b []byte, address, behind int) (start, end int) {
	if b[address-1] != '/' || behind >= len(b) || b[behind] != ':' {
		return 0, 0
	}
	line := b[chars.LineStart(b, address):min(len(b), behind+24)]
	if !bytes.Contains(line, []byte(" MULTI: ")) && !bytes.Contains(line, []byte("PUSH: ")) &&
		!bytes.Contains(line, []byte(" TLS: ")) && !bytes.Contains(line, []byte(" SENT CONTROL ")) &&
		!bytes.Contains(line, []byte(" VERIFY ")) && !bytes.Contains(line, []byte(" AUTH: ")) {
		return 0, 0
	}
	return chars.NameBefore(b, address-1), address - 1
}

// NameJoined gives the name to which a secret is joined: name:SECRET, name%SECRET, name,SECRET, name/SECRET.
func NameJoined(b []byte, secret, _ int) (start, end int) {
	end = secret - 1
	if b[end] == '\'' {
		return nameInRow(b, end)
	}
	if bytes.IndexByte([]byte(":%,/"), b[end]) < 0 {
		return 0, 0
	}
	start = chars.NameBefore(b, end)
	if start > 1 && b[end] == ':' && b[start-1] == ':' && chars.IsAllDigits(b[start:end]) { // NAME:1004:HASH:HASH
		end = start - 1
		start = chars.NameBefore(b, end)
	}
	if start > 0 && bytes.IndexByte([]byte("/ \t\"'=:(\n"), b[start-1]) < 0 || start == end {
		return 0, 0
	}
	return start, end
}

// nameInRow gives the login in a row of SQL whose columns are not named, before the hash of its password: the first cell of letters.
func nameInRow(b []byte, quote int) (start, end int) {
	open := bytes.LastIndexByte(b[max(0, quote-chars.MaxPair):quote], '(')
	if open < 0 {
		return 0, 0
	}
	at := quote - min(quote, chars.MaxPair) + open + 1
	for at < quote && (chars.IsDigit(b[at]) || b[at] == ',' || b[at] == ' ') {
		at++
	}
	if at+1 >= quote || b[at] != '\'' || !bytes.HasSuffix(bytes.TrimRight(b[max(0, quote-2):quote], " "), []byte(",")) {
		return 0, 0
	}
	end = at + 1
	for end < quote && chars.IsNameByte(b[end]) {
		end++
	}
	if end == quote || b[end] != '\'' {
		return 0, 0
	}
	return at + 1, end
}

// ForPeople says whether the scheme that ends with a text is one by which people reach something.
func ForPeople(text []byte) bool {
	text, ok := bytes.CutSuffix(text, []byte("://"))
	if !ok {
		return false
	}
	start := len(text)
	for start > 0 && chars.IsWord(text[start-1]) {
		start--
	}
	return chars.IsOneOf(text[start:], "http", "https", "ftp", "ftps", "sftp", "ssh", "scp", "smb", "cifs", "rtsp", "rtsps",
		"ws", "wss", "imap", "imaps", "smtp", "smtps", "sip", "sips", "dav", "davs", "webdav", "svn", "git")
}

// NamePassed gives the argument before a secret, in a call or a command.
func NamePassed(b []byte, secret, _ int) (start, end int) {
	if start, end = nameInCall(b, secret); start < end {
		return start, end
	}
	if start, end = nameInForm(b, secret); start < end {
		return start, end
	}
	if start, end = nameInLine(b, secret); start < end {
		return start, end
	}
	return nameInCommand(b, secret)
}

// nameInForm gives the name in the field before that of a secret (RFC 7578).
func nameInForm(b []byte, secret int) (start, end int) {
	from := max(0, secret-2*chars.MaxPair)
	before := b[from:secret]
	if before[len(before)-1] != '\n' || !bytes.Contains(before, []byte("form-data; name=")) {
		return 0, 0
	}
	at := bytes.LastIndex(before, []byte(`form-data; name="user`))
	if at < 0 {
		at = bytes.LastIndex(before, []byte(`form-data; name="login`))
	}
	if at < 0 {
		return 0, 0
	}
	line := bytes.ReplaceAll(before[at:], []byte("\r"), []byte(" "))
	n := bytes.Index(line, []byte("\n\n"))
	size := 2
	if n < 0 {
		n, size = bytes.Index(line, []byte(" \n \n")), len(" \n \n")
	}
	if n < 0 {
		return 0, 0
	}
	start = from + at + n + size
	return start, chars.NameAt(b, start)
}

// nameInLine gives the name in a line of words with the secret: login NAME password SECRET, a1 LOGIN NAME SECRET, NAME : EAP "SECRET".
func nameInLine(b []byte, secret int) (start, end int) {
	first := chars.LineStart(b, secret)
	words := chars.FieldsAt(b[first:secret], first)
	for i, w := range words {
		switch {
		case i+1 < len(words) && (chars.IsOneOf(b[w[0]:w[1]], "login", "user", "username", "sent-username", "local-user", "account") ||
			string(b[w[0]:w[1]]) == "AUTH" && i+2 == len(words)):
			return words[i+1][0], chars.NameAt(b, words[i+1][0])
		case i > 0 && i < 3 && i+1 < len(words) && w[1]-w[0] == 1 && b[w[0]] == ':' &&
			chars.IsOneOf(b[words[i+1][0]:words[i+1][1]], "EAP", "XAUTH", "NTLM"):
			return words[0][0], words[0][1]
		}
	}
	return 0, 0
}

// NameOfEntry gives the name at the beginning of a line before the attribute of a secret, as servers for dial-in list them:
// NAME Cleartext-Password := "SECRET".
func NameOfEntry(b []byte, secret, _ int) (start, end int) {
	sign := secret - 1
	for sign > 1 && (b[sign] == ' ' || b[sign] == '"') {
		sign--
	}
	if sign < 2 || b[sign] != '=' || b[sign-1] != ':' {
		return 0, 0
	}
	first := chars.LineStart(b, secret)
	words := chars.FieldsAt(b[first:sign-1], first)
	if len(words) != 2 || !bytes.HasSuffix(bytes.ToLower(b[words[1][0]:words[1][1]]), []byte("-password")) {
		return 0, 0
	}
	return words[0][0], words[0][1]
}

// nameInCall gives the argument before a secret in a call: login("name", "SECRET").
func nameInCall(b []byte, secret int) (start, end int) {
	quote := b[secret-1]
	if quote != '"' && quote != '\'' {
		return 0, 0
	}
	before := bytes.TrimRight(b[max(0, secret-1-chars.MaxKey):secret-1], " ")
	before, ok := bytes.CutSuffix(before, []byte(","))
	if before = bytes.TrimRight(before, " "); !ok || len(before) < 3 || before[len(before)-1] != quote {
		return 0, 0
	}
	base := max(0, secret-1-chars.MaxKey)
	end = base + len(before) - 1
	// DOMAIN\name; a key is none.
	if start = chars.NameBefore(b, end); start == 0 || b[start-1] != quote && b[start-1] != '\\' || KindOf(b[start:end]) != 0 {
		return 0, 0
	}
	return start, end
}

// namingCommands take a name as the plain argument before the secret.
var namingCommands = [][]byte{[]byte("rabbitmqctl "), []byte("htpasswd "),
	[]byte("mosquitto_passwd "), []byte("net user "), []byte("chpasswd"), []byte("radtest "), []byte("stats auth ")}

// nameInCommand gives the argument before a secret of one of these, or what is joined to it.
func nameInCommand(b []byte, secret int) (start, end int) {
	line := chars.LineFrom(b[:min(len(b), secret+chars.MaxPair)], chars.LineStart(b, secret))
	if n := bytes.Index(line, []byte("/u:")); n >= 0 && bytes.HasSuffix(b[:secret], []byte("/p:")) {
		start = chars.LineStart(b, secret) + n + len("/u:")
		return start, chars.NameAt(b, start)
	}
	for _, c := range namingCommands {
		if !bytes.Contains(line, c) {
			continue
		}
		if b[secret-1] == ':' {
			return NameJoined(b, secret, 0)
		}
		end = secret - 1
		for end > 0 && (b[end-1] == ' ' || b[end-1] == '\'' || b[end-1] == '"') {
			end--
		}
		return chars.NameBefore(b, end), end
	}
	return 0, 0
}

// firstOfTuple says whether a word for an account is the first of a pair, in quotes, or of the arguments of what sets something.
func firstOfTuple(b []byte, at int) bool {
	start := at - 1
	for start > 0 && at-start < chars.MaxKey && chars.IsKeyByte(b[start-1]) {
		start--
	}
	open := start - 2
	for open > 0 && b[open] == ' ' {
		open--
	}
	return open >= 0 && b[start-1] == b[at-1] && (b[open] == '(' || b[open] == '[') &&
		(open == 0 || !chars.IsWord(b[open-1]) || isSetter(b, start)) && KindOf(b[start:at-1])&KeyUser != 0
}

// userOfTuple finds the second of two texts in brackets of which the first tells: ('user', 'NAME').
func userOfTuple(b []byte, at int) (int, int, bool) {
	if at < 4 || at+4 > len(b) || b[at-1] != '"' && b[at-1] != '\'' || b[at+1] != ' ' && b[at+1] != b[at-1] {
		return 0, 0, false
	}
	if !firstOfTuple(b, at) {
		return 0, 0, false
	}
	k, ok := keyed{}.readValue(b, at+1)
	if !ok || !k.quoted || k.end+1 >= len(b) {
		return 0, 0, false
	}
	after := bytes.TrimLeft(b[k.end+1:min(len(b), k.end+8)], " ")
	if len(after) == 0 || after[0] != ')' && after[0] != ']' {
		return 0, 0, false
	}
	v := b[k.start:k.end]
	return k.start, k.end, IsAccountWord(v) && KindOf(v) == 0 || LooksPersonal(v)
}

// userOfArrow finds the value behind an arrow: currentUser -> NAME.
func userOfArrow(b []byte, at int) (int, int, bool) {
	if !bytes.HasPrefix(b[at:], []byte("-> ")) || at == 0 || b[at-1] != ' ' {
		return 0, 0, false
	}
	start := at - 1
	for start > 0 && at-start < chars.MaxKey && chars.IsKeyByte(b[start-1]) {
		start--
	}
	if KindOf(b[start:at-1])&KeyUser == 0 {
		return 0, 0, false
	}
	end := chars.NameAt(b, at+3)
	return at + 3, end, IsLoginWord(b[at+3:end]) && goesOn(b, end)
}
