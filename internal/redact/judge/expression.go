package judge

import (
	"bytes"

	"envask/internal/redact/chars"
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
		if rest, ok := bytes.CutPrefix(t, []byte(word)); ok && len(rest) > 0 && bytes.IndexByte([]byte(",;`"), rest[0]) >= 0 {
			return true
		}
	}
	return member(t) || call(t) || parameter(t)
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
	"xml html md log")

// ofPassword reports whether the key of a value is one for a password: what people choose may end as the name of a file does.
func (p *Place) ofPassword() bool {
	key := bytes.ToLower(p.key())
	return bytes.Contains(key, []byte("pass")) || bytes.Contains(key, []byte("pwd")) || bytes.HasSuffix(key, []byte("pin"))
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
