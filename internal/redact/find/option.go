package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Option finds the value of a telling command-line option: --password VALUE, -storepass VALUE, also as two entries of a
// list; and of the one-letter options with which well-known programs take a secret: mysql -pVALUE, curl -u USER:VALUE.
func Option(b []byte, at, free int) (int, int, bool) {
	if at < 1 || at+1 >= len(b) {
		return 0, 0, false
	}
	dash := at
	if b[at-1] == '-' {
		dash--
	}
	if dash >= 1 && !BeforeDash[b[dash-1]] {
		return 0, 0, false
	}
	end := at + 1
	for end < len(b) && end-at <= chars.MaxKey && chars.IsKeyByte(b[end]) {
		end++
	}
	name := b[at+1 : end]
	if bytes.HasSuffix(name, []byte(".")) || IsCredential(name) { // the end of a sentence, or an account whose password is asked for
		return 0, 0, false
	}
	if chars.IsOneOf(name, "AsPlainText") && dash > 0 && chars.IsSpace(b[dash-1]) {
		return plainSecret(b, at, end, free)
	}
	if chars.IsOneOf(name, "from-literal") {
		return literal(b, end, free)
	}
	if dash < at && chars.IsOneOf(name, "proxy-user", "user") {
		proxy := len(name) > len("user")
		if start, stop, ok := userAndSecret(b, end, free); proxy || ok && LooksChosen(b[start:stop]) {
			return start, stop, ok
		}
	}
	if len(name) > 2 && KindOf(name)&KeySecret != 0 {
		start, stop, ok := OptionValue(b, end, free)
		return start, stop, ok && !optionOfProse(b, start, stop)
	}
	if dash == at && isShortOption(name) {
		return unlistedOption(b, at, end, free)
	}
	return 0, 0, false
}

// plainSecret finds the quoted text before or behind an option that says that it is a secret: ConvertTo-SecureString "…" -AsPlainText.
func plainSecret(b []byte, at, end, free int) (int, int, bool) {
	if start, stop, ok := quotedBefore(b, at, free); ok {
		return start, stop, true
	}
	k, ok := keyed{}.readValue(b, end)
	return k.start, k.end, ok && k.quoted && k.start >= free && IsValue(b[k.start:k.end])
}

// IsCredential says whether an option takes an account, whose password is asked for: -Credential DOMAIN\NAME.
func IsCredential(name []byte) bool { return chars.IsOneOf(name, "Credential", "credential") }

// literal finds the value of KEY=VALUE, of which a secret is made.
func literal(b []byte, end, free int) (int, int, bool) {
	k, ok := keyed{}.readValue(b, end+1)
	n := bytes.IndexByte(b[k.start:k.end], '=')
	return k.start + n + 1, k.end, ok && n > 0 && k.start >= free && IsValue(b[k.start+n+1:k.end])
}

// sentenceWords are words of sentences behind an option that is told of.
var sentenceWords = chars.WordSet("to or and which that is are was can must should may will implies means does with for from in on")

// optionOfProse says whether what stands behind an option is a word of a sentence about it.
func optionOfProse(b []byte, start, stop int) bool {
	v := b[start:stop]
	if sentenceWords.HasBytes(v) && (stop == len(b) || b[stop] == ' ' || b[stop] == '\n') || chars.IsAllLetters(v) &&
		chars.IsUpper(v[0]) && bytes.HasSuffix(b[:start], []byte("    ")) && stop < len(b) && b[stop] == ' ' &&
		(sentenceWords.Has(chars.FirstWord(b[stop+1:])) || IsEveryday([]byte(chars.FirstWord(b[stop+1:])))) {
		return true
	}
	return stop < len(b) && b[stop] == ' ' && chars.IsSpace(b[start-1]) && chars.IsAllLetters(v) && IsEveryday(bytes.ToLower(v))
}

// isShortOption reports whether an option with one dash takes the secret of many programs.
func isShortOption(name []byte) bool {
	return string(name) == "pw" || len(name) == 1 && bytes.IndexByte([]byte("pPw"), name[0]) >= 0
}

// unlistedOption finds the value of -p, -P or -w of a program that nobody listed, where the option for the account stands beside it, and
// that of -pw, which needs none.
func unlistedOption(b []byte, at, end, free int) (int, int, bool) {
	if end-at == len("-pw") {
		start, stop, ok := OptionValue(b, end, free)
		return start, stop, ok && LooksChosen(b[start:stop])
	}
	if !namesAccount(b[chars.LineStart(b, at):at]) && !namesAccount(b[end:min(len(b), end+chars.MaxPair)]) {
		return 0, 0, false
	}
	start, stop, ok := OptionValue(b, end, free)
	return start, stop, ok && LooksChosen(b[start:stop]) && bytes.IndexByte(b[start:stop], '/') < 0 && Shaped(string(b[start:stop]))
}

// userAndSecret finds the secret of NAME:SECRET behind an option, with a space or an equals sign between.
func userAndSecret(b []byte, end, free int) (int, int, bool) {
	start, stop, ok := OptionValue(b, end, free)
	if end < len(b) && b[end] == '=' {
		var k keyed
		k, ok = keyed{}.readValue(b, end+1)
		start, stop, ok = k.start, k.end, ok && k.start >= free
	}
	if !ok {
		return 0, 0, false
	}
	return behindUser(b, start, stop)
}

// BeforeDash are the signs behind which an option may begin.
var BeforeDash = *chars.BytesOf(" \t\"'\n[,")

// OptionValue reads the value behind an option.
func OptionValue(b []byte, end, free int) (int, int, bool) {
	if end >= len(b) {
		return 0, 0, false
	}
	if start, stop, ok := nextItem(b, end); ok {
		return start, stop, start >= free && b[start] != '-' && IsValue(b[start:stop])
	}
	quoted := b[end] == '"' || b[end] == '\'' // "--password","VALUE"
	if quoted {
		end++
	}
	comma := end < len(b) && b[end] == ','
	if comma {
		end++
	}
	if end >= len(b) || !comma && !chars.IsSpace(b[end]) { // behind a quote alone stands what ends a key
		return 0, 0, false
	}
	k, ok := keyed{}.readValue(b, end)
	if !ok || k.start < free || !quoted && closesText(b, end) || b[k.start] == '-' || !IsValue(b[k.start:k.end]) {
		return 0, 0, false
	}
	return k.start, k.end, true
}

// nextItem gives the item of a list of YAML that follows an option which is one.
func nextItem(b []byte, end int) (int, int, bool) {
	at := end
	if at < len(b) && b[at] == '\r' {
		at++
	}
	if at >= len(b) || b[at] != '\n' || !bytes.HasPrefix(bytes.TrimLeft(b[chars.LineStart(b, end):end], " "), []byte("- -")) {
		return 0, 0, false
	}
	line := chars.LineFrom(b, at+1)
	item, ok := bytes.CutPrefix(bytes.TrimLeft(line, " "), []byte("- "))
	if !ok {
		return 0, 0, false
	}
	start := at + 1 + len(line) - len(item)
	stop := start + len(bytes.TrimRight(item, " \t\r"))
	if stop-start > 2 && (b[start] == '"' || b[start] == '\'') && b[stop-1] == b[start] {
		start, stop = start+1, stop-1
	}
	return start, stop, start < stop
}

// namesAccount reports whether the options of a command name an account, as programs do that log in somewhere.
func namesAccount(line []byte) bool {
	if n := bytes.IndexByte(line, '\n'); n >= 0 {
		line = line[:n]
	}
	for _, o := range []string{" -u ", " -U ", " -l ", " -D ", " --user ", " --username ", " -p admin ", " -user "} {
		if bytes.Contains(line, []byte(o)) {
			return true
		}
	}
	return false
}

// behindUser gives the secret of USER:SECRET, USER%SECRET or USER,SECRET.
func behindUser(b []byte, start, end int) (int, int, bool) {
	n := bytes.IndexAny(b[start:end], ":%,")
	if n < 0 || start+n+1 >= end {
		return 0, 0, false
	}
	start += n + 1
	return start, end, IsValue(b[start:end])
}
