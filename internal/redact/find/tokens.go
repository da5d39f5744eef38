package find

import (
	"bytes"
	"encoding/base64"
	"strconv"
	"strings"

	"envask/internal/redact/chars"
)

// passFile finds the secret at the end of a line of five parts that a database's client reads: host:5432:database:user:SECRET.
func passFile(b []byte, at, free int) (int, int, bool) {
	if !BeforePort(b, at) {
		return 0, 0, false
	}
	first := chars.LineStart(b, at)
	line := bytes.TrimRight(b[first:at+len(chars.LineFrom(b, at))], "\r\n")
	if bytes.Count(line, []byte(":")) != 4 || bytes.ContainsAny(line, " \t\"'/=,") || bytes.IndexByte(line, ':') != at-first {
		return 0, 0, false
	}
	start := first + bytes.LastIndexByte(line, ':') + 1
	end := first + len(line)
	usual := bytes.HasPrefix(b[at:], []byte(":543")) // else other things are told like this, too
	return start, end, start >= free && end-start > 3 && IsValue(b[start:end]) && (usual || LooksChosen(b[start:end]))
}

// BeforePort says whether a colon stands before four digits, or a star, and another colon.
func BeforePort(b []byte, at int) bool {
	if at+5 >= len(b) {
		return false
	}
	return b[at+5] == ':' && chars.IsDigit(b[at+1]) && chars.IsDigit(b[at+2]) && chars.IsDigit(b[at+3]) && chars.IsDigit(b[at+4])
}

// signBehindSlash gives the place of the @ behind a secret with a slash in it, from the start of what stands before it; -1 where there is
// none. Such a secret is against the standard, and found all the same.
func signBehindSlash(b []byte, start, colon, end int) int {
	for end < len(b) && end-colon < 128 && bytes.IndexByte([]byte(" \t\r\n\"'<>`?"), b[end]) < 0 {
		end++
	}
	return bytes.LastIndexByte(b[start:end], '@')
}

// URLCredentials finds the part between :// and @ that holds a password or token.
func URLCredentials(b []byte, at, free int) (int, int, bool) {
	if b[at] == '@' {
		if start, end, ok := relaySecret(b, at, free); ok {
			return start, end, true
		}
		return findDSN(b, at, free)
	}
	if !bytes.HasPrefix(b[at:], []byte("://")) || at == 0 || !chars.IsWord(b[at-1]) {
		return passFile(b, at, free)
	}
	start := at + 3
	end, colon := start, -1
	for end < len(b) && !behindAuthority[b[end]] {
		if b[end] == ':' && colon < 0 {
			colon = end
		}
		end++
	}
	last := bytes.LastIndexByte(b[start:end], '@')
	if last < 0 && colon >= 0 && end < len(b) && b[end] == '/' && !isPort(b[colon+1:end]) {
		last = signBehindSlash(b, start, colon, end)
	}
	if last < 0 {
		if start, end, ok := hookToken(b, start, free); ok {
			return start, end, true
		}
		return linkToken(b, end, free)
	}
	end = start + last
	if IsPlaceholder(b[start:end]) {
		return 0, 0, false
	}
	if colon >= 0 && colon < end {
		start = colon + 1 // the user name alone is no secret
	} else if end-start < 16 || endsInAlias(b[start:end]) {
		return 0, 0, false // a plain user name; a token without a user is longer
	}
	if start < free || start >= end || !IsValue(b[start:end]) {
		return 0, 0, false
	}
	return start, end, true
}

var behindAuthority = *chars.BytesOf(" \t\r\n/?#\"'<>`")

// endsInAlias says whether text ends with the first part of an alias.
func endsInAlias(text []byte) bool {
	start := len(text)
	for start > 0 && (chars.IsWord(text[start-1]) || text[start-1] == '-') {
		start--
	}
	return IsAliasWord(text[start:])
}

var behindAddress = *chars.BytesOf(" \t\r\n\"'<>`?#\\),;")

// minHookToken is how long such a part is at least.
const minHookToken = 16

// hookToken finds the last part of the address of a web hook: whoever knows it may call it.
func hookToken(b []byte, host, free int) (int, int, bool) {
	end := host
	for end < len(b) && end-host < chars.MaxPair && !behindAddress[b[end]] {
		end++
	}
	address := b[host:end]
	if !bytes.Contains(address, []byte("hook")) {
		return 0, 0, false
	}
	slash := bytes.LastIndexByte(address, '/')
	if slash > 0 && len(address)-slash < minHookToken { // something short behind it
		address = address[:slash]
		end, slash = host+slash, bytes.LastIndexByte(address, '/')
	}
	if slash < 0 || !bytes.HasPrefix(address, []byte("hooks.")) && !bytes.Contains(address[:slash+1], []byte("/webhook")) &&
		!bytes.Contains(address[:slash+1], []byte("/hooks/")) {
		return 0, 0, false
	}
	start := host + slash + 1
	return start, end, start >= free && LooksRandom(b[start:end])
}

// linkWords are parts of the addresses that are sent to one person, who may do something with them: /reset?t=….
var linkWords = chars.WordSet(`reset verify confirm activate activation invite invitation magic recover recovery unlock
	resetpassword setpassword
	passwordreset verification confirmation register signin login onetime accept join unsubscribe share shared`)

var noDashes = strings.NewReplacer("-", "", "_", "")

// minLinkToken is the length of what makes such an address one, in bytes.
const minLinkToken = 16

// linkToken finds what makes the address of a link one that only one person has: the last part of its path, or a parameter.
func linkToken(b []byte, path, free int) (int, int, bool) {
	end, told := path, false
	for end < len(b) && end-path < chars.MaxPair && (!behindAddress[b[end]] || b[end] == '?') {
		end++
	}
	if end-path < minLinkToken || b[path] != '/' {
		return 0, 0, false
	}
	for at := path + 1; at < end; {
		to := at
		for to < end && bytes.IndexByte([]byte("/?&="), b[to]) < 0 {
			to++
		}
		part := b[at:to]
		switch before := b[at-1]; {
		case !told && before == '/':
			told = linkWords.Has(strings.ToLower(noDashes.Replace(string(part))))
		case len(part) < minLinkToken || !told:
		case before == '=' && KindOf(b[KeyBegin(b, at-1):at-1]) != 0: // it is found behind its key
			return 0, 0, false
		case (before == '=' || before == '/') && LooksRandom(part) && at >= free:
			return at, to, true
		}
		at = to + 1
	}
	return 0, 0, false
}

// isPort says whether text begins like a port rather than a password.
func isPort(text []byte) bool { return len(text) > 0 && chars.IsAllDigits(text) }

var beforeDSN = *chars.BytesOf(" \t\r\n\"'=,;")

// findDSN finds the secret of USER:SECRET@tcp(HOST), and of USER/SECRET@HOST behind the names of programs and drivers that
// write it so.
func findDSN(b []byte, at, free int) (int, int, bool) {
	start := at
	for start > 0 && at-start < 128 && !beforeDSN[b[start-1]] {
		start--
	}
	rest := b[at+1:]
	if bytes.HasPrefix(rest, []byte("tcp(")) || bytes.HasPrefix(rest, []byte("unix(")) {
		n := bytes.IndexByte(b[start:at], ':')
		return start + n + 1, at, n >= 0 && start+n+1 >= free && IsValue(b[start+n+1:at])
	}
	slash := bytes.IndexByte(b[start:at], '/')
	if slash <= 0 {
		return 0, 0, false
	}
	before := b[chars.LineStart(b, start):start]
	user := b[start : start+slash]
	if n := bytes.LastIndexByte(user, ':'); n >= 0 {
		if !bytes.HasSuffix(user[:n], []byte("thin")) && !bytes.HasSuffix(user[:n], []byte("oci")) {
			return 0, 0, false
		}
	} else if w := chars.LastWordOf(before); w != "sqlplus" && w != "connect" && w != "expdp" && w != "impdp" && w != "rman" &&
		w != "conn" {
		return 0, 0, false
	}
	return start + slash + 1, at, start+slash+1 >= free && IsValue(b[start+slash+1:at])
}

// Bearer finds the token after "Bearer " (RFC 6750).
func Bearer(b []byte, at, free int) (int, int, bool) {
	for _, word := range []string{"Basic ", "Basic%20"} {
		if bytes.HasPrefix(b[at:], []byte(word)) && !chars.WordBefore(b, at) {
			return findBasic(b, at+len(word), free)
		}
	}
	if !bytes.HasPrefix(b[at:], []byte("Bearer ")) || chars.WordBefore(b, at) {
		return 0, 0, false
	}
	start := at + len("Bearer ")
	end := start
	digits := false
	for end < len(b) && chars.IsTokenByte(b[end]) {
		digits = digits || chars.IsDigit(b[end])
		if b[end] == '=' && end+1 < len(b) && chars.IsWord(b[end+1]) {
			return 0, 0, false // key=value: the word Bearer stands for itself
		}
		end++
	}
	if start < free || end-start < 8 || !digits && end-start < 20 {
		return 0, 0, false // a word of prose
	}
	return start, end, true
}

// findBasic finds credentials behind "Basic " (RFC 7617): base64 of a text with a colon.
func findBasic(b []byte, start, free int) (int, int, bool) {
	end := start
	for end < len(b) && end-start < 512 && chars.IsTokenByte(b[end]) {
		end++
	}
	if start < free || end-start < 8 {
		return 0, 0, false
	}
	text, err := base64.RawStdEncoding.DecodeString(string(bytes.TrimRight(b[start:end], "=")))
	return start, end, err == nil && bytes.IndexByte(text, ':') >= 0
}

// JWT finds three base64url parts with dots, of which the first is a JSON object ("eyJ" is `{"`).
func JWT(b []byte, at, free int) (int, int, bool) {
	at -= 2 // the J is the rarest of the three
	if at < 0 || at < free || !bytes.HasPrefix(b[at:], []byte("eyJ")) || chars.WordBefore(b, at) || at > 0 && b[at-1] == '-' {
		return 0, 0, false
	}
	end, dots, last := at, 0, at
	for end < len(b) && (chars.IsWord(b[end]) || b[end] == '-' || b[end] == '.') {
		if b[end] == '.' {
			if end-last < 2 && dots < 2 || dots == 4 {
				break
			}
			dots++
			last = end
		}
		end++
	}
	if b[end-1] == '.' && dots > 2 {
		end--
	}
	return at, end, dots >= 2 && end-at >= 24
}

var (
	beginKey = []byte("-----BEGIN ")
	endKey   = []byte("-----END ")
)

// PrivateKey finds the head of a key block and all of the block that is in sight. A block that goes on behind b is
// the engine's to follow, with keyBlockEnd.
func PrivateKey(b []byte, at, free int) (int, int, bool) {
	if at < free {
		return 0, 0, false
	}
	after, ok := KeyHead(b, at)
	if !ok {
		return numberedLines(b, at)
	}
	end, _ := KeyBlockEnd(b, after, true)
	return at, end, true
}

// numberedLines finds the lines of a private key whose number is told before them, as some clients of SSH write: Private-Lines: 8.
func numberedLines(b []byte, at int) (int, int, bool) {
	const head, tail = "Private", "-Lines: "
	if !bytes.HasSuffix(b[:at], []byte(head)) || !bytes.HasPrefix(b[at:], []byte(tail)) {
		return 0, 0, false
	}
	line := chars.LineFrom(b, at)
	lines, err := strconv.Atoi(string(bytes.TrimSpace(line[len(tail):])))
	start := at + len(line) + 1
	if err != nil || lines < 1 || lines > 512 || start >= len(b) {
		return 0, 0, false
	}
	end := start
	for n := 0; n < lines && end < len(b); n++ {
		if n > 0 {
			end++ // the end of the line before
		}
		end += len(chars.LineFrom(b, end))
	}
	end = min(end, len(b))
	for end > start && (b[end-1] == '\r' || b[end-1] == '\n') {
		end--
	}
	return start, end, end > start && isBase64(bytes.Map(chars.WithoutLineEnds, b[start:end]))
}

// KeyHead gives the place behind the marker that begins a private key block.
func KeyHead(b []byte, at int) (after int, ok bool) {
	if !bytes.HasPrefix(b[at:], beginKey) {
		return 0, false
	}
	head := chars.LineFrom(b, at)[len(beginKey):]
	n := bytes.Index(head, []byte("-----"))
	if n < 0 || n > 48 || !bytes.Contains(head[:n], []byte("PRIVATE KEY")) && !bytes.Contains(head[:n], []byte("Static key")) &&
		!bytes.Contains(head[:n], []byte("tls-crypt-v2")) {
		return 0, false
	}
	return at + len(beginKey) + n + 5, true
}

// KeyBlockEnd gives the end of a key block from a place within it, and whether it is still open at the end of b. Behind
// the marker that begins the block, the rest of that line belongs to it whatever it is.
func KeyBlockEnd(b []byte, at int, behindHead bool) (end int, open bool) {
	for ; at < len(b); behindHead = false {
		line := chars.LineFrom(b, at)
		if n := bytes.Index(line, endKey); n >= 0 {
			rest := line[n+len(endKey):]
			if m := bytes.Index(rest, []byte("-----")); m >= 0 {
				return at + n + len(endKey) + m + 5, false
			}
			return at + len(line), false
		}
		if !isKeyLine(line) {
			if behindHead {
				return at + len(bytes.TrimRight(line, "\"',; ")), false
			}
			return at, false
		}
		at += len(line)
		if at < len(b) && b[at] == '\r' {
			at++
		}
		if at < len(b) {
			at++ // the line end
		}
	}
	return len(b), true
}

// isKeyLine says whether a line can stand within a key block: base64, one of the headers, or nothing. A line may have a
// prefix, as when a block was written to a log.
func isKeyLine(line []byte) bool {
	line = bytes.Trim(line, " \t\"'+,;>|#*")
	line = bytes.TrimSuffix(line, []byte(`\n`))
	if len(line) == 0 {
		return true
	}
	for _, h := range []string{"Proc-Type:", "DEK-Info:", "Version:", "Comment:", "Hash:", "Charset:"} {
		if bytes.HasPrefix(line, []byte(h)) {
			return true
		}
	}
	token := line
	if n := bytes.LastIndexAny(line, " \t"); n >= 0 {
		if token = line[n+1:]; len(token) < 16 {
			return false
		}
	}
	for _, c := range token {
		if !(chars.IsWord(c) && c != '_' || c == '+' || c == '/' || c == '=') {
			return false
		}
	}
	return true
}

// relaySecret finds name and secret in the files of mail servers, at the sign within the name: [HOST]:PORT NAME@DOMAIN:SECRET.
func relaySecret(b []byte, at, free int) (int, int, bool) {
	first := chars.LineStart(b, at)
	if first > 0 && b[first-1] != '\n' || first >= len(b) || b[first] != '[' {
		return 0, 0, false
	}
	line := chars.LineFrom(b, first)
	words := chars.FieldsAt(line, first)
	if len(words) != 2 || at < words[1][0] || bytes.IndexByte(b[words[0][0]:words[0][1]], ']') < 0 || bytes.IndexByte(line, '"') >= 0 {
		return 0, 0, false
	}
	v := b[words[1][0]:words[1][1]]
	n := bytes.IndexByte(v[at-words[1][0]:], ':')
	return words[1][0], words[1][1], words[1][0] >= free && n > 0 && at+n+1 < words[1][1]
}
