package redact

import (
	"bytes"
	"strings"
)

// Some well-known programs take a secret as one of their plain arguments, behind an option with a slash, or from the program
// before them in a pipe.

// commandSecrets find the secret among the words behind the name of such a program.
var commandSecrets = map[string]func(b []byte, words [][2]int) int{
	"net":              netSecret,
	"htpasswd":         htpasswdSecret,
	"mosquitto_passwd": htpasswdSecret,
	"kinit":            hereSecret,
	"vncpasswd":        hereSecret,
	"chpasswd":         hereSecret,
	"xfreerdp":         slashSecret,
	"rabbitmqctl": func(b []byte, words [][2]int) int {
		return behindWord(b, words, 2, "add_user", "change_password", "authenticate_user")
	},
	"user":             cacheSecret,
	"radtest":          func(_ []byte, _ [][2]int) int { return 1 },
	"setuser":          cacheSecret,
	"send":             sentSecret,
	"sentinel":         func(b []byte, words [][2]int) int { return behindWord(b, words, 2, "auth-pass") },
	"schtasks":         func(b []byte, words [][2]int) int { return behindWord(b, words, 1, "/rp", "/p") },
	"env":              keyArgument,
	"setenv":           keyArgument,
	"setx":             keyArgument,
	"proxy_set_header": keyArgument,
	"add_header":       keyArgument,
	"fastcgi_param":    keyArgument,
	"uwsgi_param":      keyArgument,
	"requestheader":    keyArgument,
	"set":              keyArgument,
	"echo":             pipedSecret,
	"printf":           pipedSecret,
}

// commandArgument finds the secret of a program whose name ends before a space, among the words of the rest of its line.
func commandArgument(b []byte, at, free int, word string) (int, int, bool) {
	find := commandSecrets[word]
	if find == nil {
		return 0, 0, false
	}
	words := wordsFrom(b, at)
	n := find(b, words)
	if n < 0 || n >= len(words) {
		return 0, 0, false
	}
	start, end := words[n][0], words[n][1]
	if b[end-1] == ';' { // of a server's configuration
		end--
	}
	if b[start] == '>' || b[start] == '#' { // of a list of rights, see cacheSecret
		start++
	}
	if bytes.HasPrefix(b[start:end], []byte("/p:")) {
		start += len("/p:")
	}
	if end-start > 2 && (b[start] == '"' || b[start] == '\'') && b[end-1] == b[start] {
		start, end = start+1, end-1
	}
	if n := end - 2; word == "send" && n > start && b[n] == '\\' { // the escape of the line's end
		end = n
	}
	if fed := fedByPipe(b, words); fed > 0 && strings.HasSuffix(wordAt(b, words[fed]), "chpasswd") || word == "chpasswd" { // svc:SECRET
		start += bytes.IndexByte(b[start:end], ':') + 1
	}
	return start, end, start >= free && start < end && isValue(b[start:end])
}

func wordAt(b []byte, word [2]int) string { return string(b[word[0]:word[1]]) }

// behindWord gives the place of the word so many places behind one of some.
func behindWord(b []byte, words [][2]int, places int, names ...string) int {
	for i, w := range words {
		if isOneOf(b[w[0]:w[1]], names...) {
			return i + places
		}
	}
	return -1
}

// wordEndingAt gives the word before a place, with blanks between.
func wordEndingAt(b []byte, at int) []byte {
	for at > 0 && isSpace(b[at-1]) {
		at--
	}
	start := at
	for start > 0 && isWord(b[start-1]) {
		start--
	}
	return b[start:at]
}

// keyArgument: ENV DB_PASSWORD SECRET, setx API_KEY SECRET, proxy_set_header X-Api-Key SECRET; and RequestHeader set, CONFIG SET.
func keyArgument(b []byte, words [][2]int) int {
	for i, w := range words[:min(len(words), 2)] {
		key := b[w[0]:w[1]]
		if len(words) <= i+1 || kindOf(key)&keySecret == 0 {
			continue
		}
		command := wordEndingAt(b, words[0][0])
		value := b[words[i+1][0]:words[i+1][1]]
		switch {
		case bytes.IndexByte([]byte("=:<>-|"), value[0]) >= 0:
			return -1
		case !isOneOf(command, "env", "set") || string(command) == "ENV":
			return i + 1
		case (bytes.IndexAny(key, "_-.") > 0 || isUpper(key[0]) && isUpper(key[len(key)/2]) || hasWord(directives, key)) && looksChosen(value) && bytes.ContainsAny(value, "0123456789"):
			// The words themselves stand in sentences, too.
			return i + 1
		}
		return -1
	}
	return -1
}

// cacheSecret: user NAME on >SECRET ~* +@all, of the lists of rights of caches; also ACL SETUSER NAME on >SECRET.
func cacheSecret(b []byte, words [][2]int) int {
	if len(words) < 3 || !isOneOf(b[words[1][0]:words[1][1]], "on", "off", "reset", "resetpass") {
		return -1
	}
	for i, w := range words[2:] {
		if n := w[1] - w[0]; b[w[0]] == '>' && n > 1 || b[w[0]] == '#' && n == 65 {
			return i + 2
		}
	}
	return -1
}

// sentSecret: send "SECRET\r" behind expect "assword:", of scripts that answer prompts.
func sentSecret(b []byte, words [][2]int) int {
	i := 0
	if len(words) > 1 && wordAt(b, words[0]) == "--" {
		i = 1
	}
	if len(words) == 0 {
		return -1
	}
	start := words[i][0]
	text := wordAt(b, words[i])
	if len(text) < 5 || text[0] != '"' || !strings.HasSuffix(text, `\r"`) && !strings.HasSuffix(text, `\n"`) {
		return -1
	}
	before := b[max(0, start-maxPair):start]
	if n := bytes.LastIndex(before, []byte("expect")); n < 0 || !bytes.Contains(before[n:], []byte("assword")) {
		return -1
	}
	return i
}

// netSecret: net user NAME SECRET, net use Z: \\server\share /user:NAME SECRET, or SECRET before /user.
func netSecret(b []byte, words [][2]int) int {
	if len(words) < 3 {
		return -1
	}
	n := -1
	switch strings.ToLower(wordAt(b, words[0])) {
	case "user":
		if n = 2; wordAt(b, words[1]) == "is" {
			return -1
		}
	case "use":
		for i, w := range words {
			if len(wordAt(b, w)) < 6 || !strings.EqualFold(wordAt(b, w)[:6], "/user:") {
				continue
			}
			if n = i + 1; n == len(words) || b[words[n][0]] == '/' {
				n = i - 1
			}
		}
	}
	if n < 2 || n >= len(words) || bytes.IndexByte([]byte(`/*\`), b[words[n][0]]) >= 0 || b[words[n][1]-1] == ':' {
		return -1
	}
	return n
}

// htpasswdSecret: htpasswd -b FILE NAME SECRET, htpasswd -nb NAME SECRET.
func htpasswdSecret(b []byte, words [][2]int) int {
	batch, plain := false, 0
	for i, w := range words {
		switch option := wordAt(b, w); {
		case option[0] == '-':
			batch = batch || strings.Contains(option, "b")
			if strings.HasSuffix(option, "C") || strings.HasSuffix(option, "r") {
				plain-- // the number of rounds is a word of its own
			}
			if strings.Contains(option, "n") {
				plain++ // there is no file
			}
		case strings.ContainsAny(option, "|;&"):
			return -1
		default:
			if plain++; plain == 3 {
				if batch {
					return i
				}
				return -1
			}
		}
	}
	return -1
}

// fedByPipe gives the place of the program that reads what is piped into it, or 0: passwd and chpasswd, also behind sudo.
func fedByPipe(b []byte, words [][2]int) int {
	for i, w := range words {
		if wordAt(b, w) != "|" {
			continue
		}
		for j := i + 1; j < min(len(words), i+12); j++ {
			name := wordAt(b, words[j])
			name = name[strings.LastIndexByte(name, '/')+1:]
			if j < i+4 && (strings.HasSuffix(name, "passwd") || name == "kinit" || name == "cryptsetup") || name == "--password-stdin" || name == "--passphrase-fd" || name == "-S" && wordAt(b, words[j-1]) == "sudo" {
				return j
			}
		}
	}
	return 0
}

// pipedSecret: echo SECRET | passwd --stdin svc, echo svc:SECRET | chpasswd.
func pipedSecret(b []byte, words [][2]int) int {
	if fedByPipe(b, words) == 0 {
		return -1
	}
	for i, w := range words {
		if b[w[0]] != '-' && bytes.IndexByte(b[w[0]:w[1]], '%') < 0 { // not what printf makes of it
			return i
		}
	}
	return -1
}

// hereSecret: kinit svc <<< SECRET.
func hereSecret(b []byte, words [][2]int) int { return behindWord(b, words, 1, "<<<") }

// slashSecret: xfreerdp /u:svc /p:SECRET.
func slashSecret(b []byte, words [][2]int) int {
	for i, w := range words {
		if bytes.HasPrefix(b[w[0]:w[1]], []byte("/p:")) {
			return i
		}
	}
	return -1
}

// quotedBefore gives the quoted text before an option that says that it is a secret: ConvertTo-SecureString "…" -AsPlainText.
func quotedBefore(b []byte, at, free int) (int, int, bool) {
	end := at
	for end > free && isSpace(b[end-1]) {
		end--
	}
	if end == free || b[end-1] != '"' && b[end-1] != '\'' {
		return 0, 0, false
	}
	quote := b[end-1]
	end--
	start := end
	for start > free && end-start < maxPair && b[start-1] != quote && b[start-1] != '\n' {
		start--
	}
	if start == free || b[start-1] != quote {
		return 0, 0, false
	}
	return start, end, isValue(b[start:end])
}

// formField finds the secret in a part of a form (RFC 7578): its head names the field, and the content follows behind an
// empty line. Line ends may be written as escapes.
func formField(b []byte, at, free int) (int, int, bool) {
	if !bytes.HasSuffix(b[:at], []byte("form-data")) {
		return 0, 0, false
	}
	rest := b[at:min(len(b), at+2*maxPair)]
	head := bytes.TrimLeft(rest[1:], " ")
	if !bytes.HasPrefix(head, []byte("name=")) {
		return 0, 0, false
	}
	head = bytes.TrimLeft(head[len("name="):], `\`)
	if len(head) == 0 || head[0] != '"' {
		return 0, 0, false
	}
	end := bytes.IndexAny(head[1:], `"\`)
	if end < 1 || kindOf(head[1:1+end])&keySecret == 0 {
		return 0, 0, false
	}
	for _, line := range []string{"\r\n", "\n", `\r\n`, `\n`, `\\r\\n`} {
		n := bytes.Index(rest, []byte(line+line))
		if n < 0 || bytes.Contains(rest[:n], []byte("filename")) {
			continue
		}
		start := at + n + 2*len(line)
		length := bytes.Index(b[start:min(len(b), start+maxElement)], []byte(line))
		if length < 0 { // the end of the text
			length = bytes.IndexAny(b[start:min(len(b), start+maxElement)], "\r\n\"")
		}
		if length < 0 {
			length = min(len(b), start+maxElement) - start
		}
		return start, start + length, length > 0 && start >= free && isValue(b[start:start+length])
	}
	return 0, 0, false
}
