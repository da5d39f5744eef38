package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// readValue finds the value from a place on.
func (k keyed) readValue(b []byte, at int) (keyed, bool) {
	for at < len(b) && chars.IsSpace(b[at]) {
		at++
	}
	if at >= len(b) {
		return k, false
	}
	at = behindPrefix(b, at)
	if at >= len(b) {
		return k, false
	}
	switch b[at] {
	case '"', '\'':
		return k.inQuotes(b, at)
	case '`': // of Markdown
		k.quoted, k.start, k.end = true, at+1, inCode(b, at)
	case '\\': // a quote within a quoted text, which may itself stand within one
		if n := escapedQuote(b, at); n > 0 {
			k.quoted, k.start = true, at+n
			k.end = closingEscaped(b, k.start, QuoteDepth(b, k.start-1, at))
		}
	case '&':
		if bytes.HasPrefix(b[at:], entityQuote) {
			k.quoted, k.start = true, at+len(entityQuote)
			k.end = k.start + max(0, bytes.Index(chars.LineFrom(b, k.start), entityQuote))
		}
	case '[': // the first of a list
		if at+1 < len(b) && (b[at+1] == '"' || b[at+1] == '\'') {
			return k.readValue(b, at+1)
		}
	case 'a': // the first of a list of PHP
		if n := len("array("); bytes.HasPrefix(b[at:], []byte("array(")) && at+n < len(b) && isQuote(b[at+n]) {
			return k.readValue(b, at+n)
		}
	case '{': // of connection strings
		if at > 0 && b[at-1] == '=' {
			k.quoted, k.start, k.end = true, at+1, braced(b, at)
		}
	}
	if !k.quoted || k.end <= 0 {
		k.quoted, k.start, k.end = false, at, bareEnd(b, at)
	}
	return k, k.end > k.start
}

// behindPrefix gives the place behind what programs write before the quote of a text: N'…' of SQL, b"…" of Python, the address of a
// debugger, string(10) "…" as PHP prints it.
func behindPrefix(b []byte, at int) int {
	if at+1 < len(b) && (b[at+1] == '"' || b[at+1] == '\'') && textPrefixes[b[at]] && !closesText(b, at+1) {
		at++
	}
	if n := pointed(b, at); n > 0 {
		at += n
	}
	if n := dumped(b, at); n > 0 {
		at += n
	}
	return at
}

// inQuotes reads a value in quotes, or in three of them.
func (k keyed) inQuotes(b []byte, at int) (keyed, bool) {
	k.quoted = true
	if bytes.HasPrefix(b[at:], threeQuotes) || bytes.HasPrefix(b[at:], threeApostrophes) { // of TOML, over several lines
		return k.inThreeQuotes(b, at)
	}
	k.start = at + 1
	k.end = closing(b, k.start, b[at])
	if b[at] == '\'' && (k.end == len(b) || b[k.end] != '\'') { // it is never closed: a text around it is not left
		if n := bytes.IndexByte(b[k.start:k.end], '"'); n >= 0 {
			k.end = k.start + n
		}
	}
	return k, k.end > k.start
}

// inThreeQuotes reads a value between three quotes, without the ends of lines at both sides.
func (k keyed) inThreeQuotes(b []byte, at int) (keyed, bool) {
	k.start = at + 3
	n := bytes.Index(b[k.start:min(len(b), k.start+maxList)], b[at:at+3])
	if n < 0 {
		return k, false
	}
	k.end = k.start + n
	for k.start < k.end && (b[k.start] == '\n' || b[k.start] == '\r') {
		k.start++
	}
	for k.end > k.start && (b[k.end-1] == '\n' || b[k.end-1] == '\r') {
		k.end--
	}
	return k, k.end > k.start
}

// bareEnd gives the end of a value without quotes that begins at a place.
func bareEnd(b []byte, at int) int {
	end := at
	for end < len(b) && (!behindValue[b[end]] || isApostrophe(b, at, end) || b[end] == ')' && leavesOpen(b[at:end])) {
		end++
	}
	if b[at] == '{' && end < len(b) && b[end] == '}' { // {AES}…: how it is written
		further := end + 1
		for further < len(b) && !behindValue[b[further]] {
			further++
		}
		if isSchemed(b[at:further]) {
			end = further
		}
	}
	if bytes.HasPrefix(b[at:], []byte("ENC[")) { // in parts, between brackets
		if n := bytes.IndexByte(chars.LineFrom(b, at), ']'); n > 0 {
			end = at + n + 1
		}
	}
	if n := bytes.IndexByte(b[at:end], '^'); n > 0 && IsSetting(b[at+n+1:end]) { // as lists of security events have it
		end = at + n
	}
	if at < len(b) && b[at] == '[' { // a placeholder of ours, or a list
		if n := bytes.IndexByte(chars.LineFrom(b, at), ']'); n >= 0 && IsPlaceholder(b[at:at+n+1]) {
			end = at + n + 1
		}
	}
	return end
}

// closingEscaped gives the place of the quote, with the backslashes that belong to it, that closes a text within texts, or one of the
// texts around it; without any, there is no value.
func closingEscaped(b []byte, from, depth int) int {
	line := chars.LineFrom(b, from)
	for i := range line {
		if line[i] != '"' {
			continue
		}
		if d := QuoteDepth(line, i, 0); d <= depth {
			return from + i - (1<<d - 1)
		}
	}
	return from
}

// pointed gives the length of 0x7f… and the blank before a text in quotes, or 0.
func pointed(b []byte, at int) int {
	if !bytes.HasPrefix(b[at:], []byte("0x")) {
		return 0
	}
	end := at + 2
	for end < len(b) && chars.IsHex(b[end]) && end-at < 20 {
		end++
	}
	if !bytes.HasPrefix(b[end:], []byte(` "`)) {
		return 0
	}
	return end + 1 - at
}

// dumped gives the length of string(10) and the blank before a text in quotes, or 0.
func dumped(b []byte, at int) int {
	if bytes.HasPrefix(b[at:], []byte("(string) (len=")) { // as debuggers of Go do
		if n := bytes.Index(b[at:min(len(b), at+32)], []byte(") \"")); n > 0 {
			return n + 2
		}
	}
	if bytes.HasPrefix(b[at:], []byte("Some(\"")) { // and those of Rust
		return len("Some(")
	}
	if !bytes.HasPrefix(b[at:], []byte("string(")) {
		return 0
	}
	end := at + len("string(")
	for end < len(b) && chars.IsDigit(b[end]) && end-at < 20 {
		end++
	}
	if !bytes.HasPrefix(b[end:], []byte(") \"")) {
		return 0
	}
	return end + 2 - at
}

// inCode gives the end of a word, a name or a number between two signs that set it apart, or 0: other words are a command.
func inCode(b []byte, at int) int {
	text := b[at+1 : min(len(b), at+1+chars.MaxPair)]
	n := bytes.IndexByte(text, b[at])
	if n < 1 {
		return 0
	}
	if v := text[:n]; bytes.IndexByte(v, '\n') >= 0 || bytes.IndexByte(v, '"') >= 0 || bytes.IndexByte(v, ' ') >= 0 &&
		!LooksPersonal(v) && !IsPhoneLike(v) {
		return 0
	}
	return at + 1 + n
}

// IsPhoneLike reports whether a value has digits and the signs of telephone numbers alone.
func IsPhoneLike(v []byte) bool {
	for _, c := range v {
		if !chars.IsDigit(c) && bytes.IndexByte([]byte("+ ()-./"), c) < 0 {
			return false
		}
	}
	return true
}

// leavesOpen says whether a bracket was opened in a value and not closed: the next closing one belongs to it.
func leavesOpen(v []byte) bool { return bytes.Count(v, []byte("(")) > bytes.Count(v, []byte(")")) }

var threeQuotes, threeApostrophes = []byte(`"""`), []byte("'''")

// isApostrophe says whether a quote within a value without quotes belongs to it, as in O'Donnell: letters or digits stand on both
// sides, and none was opened before it.
func isApostrophe(b []byte, start, at int) bool {
	if b[at] != '\'' && b[at] != '"' || at == start || at+1 >= len(b) || !chars.IsWord(b[at-1]) || !chars.IsWord(b[at+1]) {
		return false
	}
	return !chars.InsideQuotes(b, chars.LineStart(b, start), start, b[at])
}

// braced gives the end of a secret in braces, or 0: names in braces stand for something else.
func braced(b []byte, at int) int {
	for i := at + 1; i < len(b) && i-at < chars.MaxPair/2; i++ {
		switch b[i] {
		case '}':
			if LooksChosen(b[at+1 : i]) {
				return i
			}
			return 0
		case ' ', '\t', '\r', '\n', '"', '\'', '{', ':':
			return 0
		}
	}
	return 0
}

// toLineEnd lets a value in a line of a configuration go on to its end: it may hold spaces. Remarks behind it are left out. A row of
// numbers is no value.
func (k keyed) toLineEnd(b []byte) (keyed, bool) {
	if k.end-k.start == 2 && b[k.start] == '%' { // it stands for what a program puts there
		return k, true
	}
	line := chars.LineFrom(b, k.start)
	for _, remark := range []string{" #", " ; "} {
		if n := bytes.Index(line, []byte(remark)); n >= 0 {
			line = line[:n]
		}
	}
	line = bytes.TrimRight(line, " \t\r,;")
	more := line[min(len(line), k.end-k.start):]
	if bytes.HasPrefix(more, []byte("  ")) && chars.IsAllDigits(b[k.start:k.end]) && chars.IsDigit(bytes.TrimLeft(more, " \t")[0]) {
		return k, false
	}
	if end := k.beforeCommand(b, line); end > 0 {
		k.end = max(k.end, end)
		return k, true
	}
	if len(more) > 0 && len(line) <= 128 && !bytes.ContainsAny(more, "=:") && !IsPlaceholder(b[k.start:k.end]) {
		k.end = k.start + len(line)
	}
	return k, true
}

// beforeCommand gives the end of a value that is set for the command behind it: PGPASSWORD=… psql -h …; 0 where there is none.
func (k keyed) beforeCommand(b, line []byte) int {
	sign := k.start - 1
	value, more, ok := bytes.Cut(line, []byte(" "))
	program, rest, _ := bytes.Cut(more, []byte(" "))
	if !ok || len(program) < 2 || sign < 2 || b[sign] != '=' || !chars.IsUpper(b[sign-1]) || IsEveryday(program) {
		return 0
	}
	path := program[0] == '/' || bytes.HasPrefix(program, []byte("./"))
	option := len(rest) > 1 && rest[0] == '-' && (chars.IsWord(rest[1]) || rest[1] == '-') || bytes.Contains(rest, []byte(" -"))
	piped := bytes.Contains(rest, []byte(" > ")) || bytes.Contains(rest, []byte(" | ")) || bytes.Contains(rest, []byte(" && "))
	if !path && !(chars.IsLower(program[0]) && (option || piped)) {
		return 0
	}
	return k.start + len(value)
}

// holdsSecret says whether a value behind a telling key is a secret, and not a sentence, a sign, or what stands for one.
func (k keyed) holdsSecret(b []byte, at int) bool {
	v := b[k.start:k.end]
	if len(v) == 1 && !chars.IsWord(v[0]) && v[0] < 0x80 {
		return false
	}
	if !k.quoted && KindOf(v)&KeyUser != 0 && k.end+1 < len(b) && b[k.end] == ' ' && (b[k.end+1] == '"' ||
		b[k.end+1] == '\'') { // user 'svc'
		return false
	}
	if n, ok := bytes.CutSuffix(v, []byte(" bytes")); ok && chars.IsAllDigits(n) { // how long it is
		return false
	}
	start, end, _ := KeySpan(b, at)
	key := b[start:end]
	if n := bytes.IndexByte(v, ' '); n > 0 && !k.quoted && chars.IsOneOf([]byte(chars.LastWord(key)), "credential", "credentials",
		"cache", "token", "tokens") && beginsProse(b, k.start, k.start+n) {
		return false
	}
	return !isOfSystem(key, v) && !standsForSecret(key, v)
}

// wideAt reads the value behind such a sign.
func wideAt(b []byte, at int) (k keyed, ok bool) {
	if at+3 >= len(b) || b[at+1] != 0xbc || b[at+2] != 0x9a && b[at+2] != 0x9d {
		return k, false
	}
	if start, end, _ := KeySpan(b, at); start == end {
		return k, false
	}
	k, ok = k.readValue(b, at+3)
	if ok && !k.quoted && b[k.start] < 0x80 { // signs of full width end it, too
		for i := k.start; i < k.end; i++ {
			if b[i] >= 0x80 {
				k.end = i
			}
		}
	}
	return k, ok
}

var (
	behindValue       = *chars.BytesOf(" \t\r\n,;&|\"'<>)]}")
	textPrefixes      = *chars.BytesOf("NbuBUrf")
	beforeNoSeparator = *chars.BytesOf("=!<>:") // a comparison, or the second half of := and ::
)
