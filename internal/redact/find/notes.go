package find

import (
	"bytes"
	"unicode"
	"unicode/utf8"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// Noted is a kind of what people write in notes.
type Noted uint8

// The kinds.
const (
	NotedSecret Noted = iota
	NotedAccount
	NotedPhone
)

// farNoted bounds how many words stand between the word for a password and the password: "password of the kiosk at lane 2 is now …".
const farNoted = 6

// Notes finds what people tell each other in lines of notes, tickets and letters, in the languages of the lexicon: passwords behind a
// word for them and a colon or "is", accounts behind a word for them, telephone numbers behind theirs. Only what looks like one
// counts, as sentences are about much else, and it is for short texts only.
func Notes(b []byte, from, to int, found func(start, end int, kind Noted)) {
	for at := from; at < to; {
		end := chars.NextLine(b[:to], at)
		noteLine(b, at, end, found)
		at = end
	}
}

// noteLine looks at one line.
func noteLine(b []byte, from, to int, found func(start, end int, kind Noted)) {
	since, told := 0, false // words since the one for a password, and whether it was said what follows
	phone, account, codes, last := false, false, false, false
	for at := from; at < to; {
		for at < to && chars.IsBlank(b[at]) {
			at++
		}
		end := at
		for end < to && !chars.IsBlank(b[end]) {
			end++
		}
		if at == end {
			return
		}
		if bytes.Contains(b[at:end], PlaceholderHead) { // it is gone
			since, told, account, phone = 0, false, false, false
			at = end
			continue
		}
		start, stop := bareWord(b, at, end)
		if since > 0 && told && notedSecret(b[start:stop]) {
			found(start, stop, NotedSecret)
			since, told = 0, false
		} else if account && notedAccount(b[start:stop]) {
			found(start, stop, NotedAccount)
		} else if phone {
			if n := notedPhone(b, start, to); n > start {
				found(start, n, NotedPhone)
				end = max(end, n)
			}
		}
		if pair(b, start, stop, to, found) {
			since, told = 0, false
		}
		kind, ok := notedKind(b[start:stop])
		colon := b[end-1] == ':' || b[end-1] == '='
		switch {
		case ok && kind == NotedSecret:
			since, told = 1, colon
		case codes && isBackupCode(b[start:stop]):
			found(start, stop, NotedSecret)
		case since > 0:
			if since++; since > farNoted {
				since = 0
			}
			told = colon || isWord(b[at:end])
		}
		codes = codes && isBackupCode(b[start:stop]) || colon && last && isCodes(b[start:stop])
		last = lexicon.NotedSpare.HasBytes(bytes.ToLower(b[start:stop]))
		plain := len(b[at:end]) == 1 && bytes.IndexByte([]byte(":=-"), b[at]) >= 0
		account, phone = ok && kind == NotedAccount || account && plain, ok && kind == NotedPhone || phone && plain
		at = end
	}
}

func isWord(w []byte) bool { return len(w) <= 16 && lexicon.NotedIs.HasBytes(bytes.ToLower(w)) }

func isCodes(w []byte) bool { return chars.IsOneOf(bytes.ToLower(w), "codes", "code", "keys") }

// isBackupCode says whether a word is one of the codes that are kept for the day on which the telephone is lost: 4471-9021.
func isBackupCode(w []byte) bool {
	digits := len(chars.OnlyDigits(string(w)))
	return digits >= 6 && digits <= 12 && len(bytes.Trim(w, "0123456789-")) == 0
}

// pair finds a name and a password with a slash between, as people write them: scan7 / Clove-Hitch2.
func pair(b []byte, start, stop, to int, found func(start, end int, kind Noted)) bool {
	if stop+3 >= to || string(b[stop:stop+3]) != " / " || stop-start < 3 || chars.NameAt(b, start) != stop || !IsPerson(b[start:stop]) {
		return false
	}
	end := stop + 3
	for end < to && !chars.IsBlank(b[end]) {
		end++
	}
	from, end := bareWord(b, stop+3, end)
	if !notedSecret(b[from:end]) || !notedAccount(b[start:stop]) && !IsLoginWord(b[start:stop]) && !IsServiceAccount(b[start:stop]) {
		return false
	}
	found(start, stop, NotedAccount)
	found(from, end, NotedSecret)
	return true
}

// notedKind says of what kind a word tells.
func notedKind(w []byte) (Noted, bool) {
	if len(w) < 2 || len(w) > 32 {
		return 0, false
	}
	if i := bytes.LastIndexByte(w, '-'); i > 0 { // palavra-passe
		w = w[i+1:]
	}
	low := bytes.ToLower(w)
	switch {
	case lexicon.NotedSecrets.HasBytes(low):
		return NotedSecret, true
	case lexicon.NotedAccounts.HasBytes(low):
		return NotedAccount, true
	case lexicon.NotedPhones.HasBytes(low):
		return NotedPhone, true
	}
	return 0, false
}

// bareWord gives a word without the signs of a sentence and quotes around it.
func bareWord(b []byte, start, end int) (from, to int) {
	for start < end && bytes.IndexByte([]byte("\"'`([<{"), b[start]) >= 0 {
		start++
	}
	for end > start && bytes.IndexByte([]byte("\"'`)]>},.;:"), b[end-1]) >= 0 {
		end--
	}
	for _, quote := range []string{"«", "»", "“", "”", "„"} { // those of print
		if bytes.HasPrefix(b[start:end], []byte(quote)) {
			start += len(quote)
		}
		if end-len(quote) > start && bytes.HasSuffix(b[start:end], []byte(quote)) {
			end -= len(quote)
		}
	}
	return start, end
}

// notedSecret says whether a word is what nobody writes but as a password: letters with digits or signs within.
func notedSecret(w []byte) bool {
	if len(w) < 5 || !IsValue(w) || BeginsWithAlias(w) || isMailWord(w) || bytes.ContainsAny(w, "/\\<>(){}[]|=\"`,") || bytes.Count(w, []byte(".")) > 1 {
		return false
	}
	letters, digits, signs := 0, 0, 0
	for i, c := range w {
		switch {
		case chars.IsDigit(c):
			digits++
		case chars.IsWord(c) && c != '_':
			letters++
		case i > 0 && bytes.IndexByte([]byte("!#$%&*^+@?~_"), c) >= 0:
			signs++
		}
	}
	return letters >= 3 && (digits > 0 || signs > 0) && bytes.IndexByte(w, ':') < 0 && !StandsForAny(w) && !IsSetting(w) &&
		!Algorithms.Has(w) && !isShortVersion(w) && Shaped(string(w))
}

func isMailWord(w []byte) bool {
	at := bytes.IndexByte(w, '@')
	return at > 0 && bytes.IndexByte(w[at:], '.') > 0
}

// notedAccount says whether a word behind one for an account is its name: everyday words are not.
func notedAccount(w []byte) bool {
	digits, letters := 0, 0
	for i, c := range w {
		switch {
		case chars.IsDigit(c):
			digits++
		case chars.IsWord(c) && c != '_':
			letters++
		case i == 0 || c != '.' && c != '-' && c != '_':
			return false
		}
	}
	return letters >= 3 && digits > 0 && digits <= 4 && !BeginsWithAlias(w) && len(w) <= 24 && IsPerson(w) && !chars.IsHexes(w) && !isShortVersion(w) &&
		!isDeviceName(w) && !Algorithms.Has(w)
}

// notedPhone gives the end of a telephone number at a place: digits with blanks and signs between, 7 to 15 of them.
func notedPhone(b []byte, at, to int) int {
	digits, end := 0, at
	for i := at; i < to; i++ {
		switch c := b[i]; {
		case chars.IsDigit(c):
			digits, end = digits+1, i+1
			continue
		case c == '+' && i == at || bytes.IndexByte([]byte(" -/()."), c) >= 0 && i+1 < to && (chars.IsDigit(b[i+1]) || b[i+1] == ' ' || b[i+1] == '('):
			continue
		}
		break
	}
	if digits < 7 || digits > 15 {
		return at
	}
	if r, _ := utf8.DecodeRune(b[end:to]); end < to && unicode.IsLetter(r) {
		return at
	}
	return end
}
