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
	var h heard
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
			h, at = heard{}, end
			continue
		}
		start, stop := bareWord(b, at, end)
		next := max(end, h.take(b, start, stop, to, found))
		h.listen(b[at:end], b[start:stop])
		at = next
	}
}

// heard is what the words before one say of it.
type heard struct {
	since    int    // words since the one for a password; 0 without one
	told     bool   // it was said what follows
	foreign  bool   // that word is of no language in which texts about programs are written
	account  bool   // a word for an account stands before it
	named    [2]int // what stands behind such a word and is one if a password follows in the line
	phone    bool   // one for a telephone
	short    bool   // one for the number of a telephone in a house
	code     int    // words since one for the code of a door
	codes    bool   // one for codes that are kept for emergencies
	ofSpares bool   // the first of the two words for these
}

// take finds in a word what was said to follow, and gives where that ends.
func (h *heard) take(b []byte, start, stop, to int, found func(start, end int, kind Noted)) (end int) {
	w := b[start:stop]
	switch {
	case h.expects(w):
		found(start, stop, NotedSecret)
		h.since, h.told = 0, false
		if h.named[1] > 0 {
			found(h.named[0], h.named[1], NotedAccount)
		}
	case h.account && notedAccount(w):
		found(start, stop, NotedAccount)
	case h.account && IsPerson(w) && IsAccountWord(w) && !IsEveryday(bytes.ToLower(w)):
		h.named = [2]int{start, stop}
	case h.phone:
		if end = notedPhone(b, start, to); end > start {
			found(start, end, NotedPhone)
			return end
		}
	case h.short && len(w) >= 3 && len(w) <= 5 && chars.IsAllDigits(w):
		found(start, stop, NotedPhone)
	case h.expectsCode(w):
		found(start, stop, NotedSecret)
	}
	if end = pair(b, start, stop, to, found); end > 0 {
		h.since, h.told = 0, false
	}
	joinedPair(b, start, stop, found)
	return end
}

// expects says whether a word is the password of which was spoken.
func (h *heard) expects(w []byte) bool {
	return h.since > 0 && (h.told || h.foreign && fiercelySecret(w)) && (notedSecret(w) || h.told && joinedSecret(w))
}

// expectsCode says the same of the code of a door, and of those that are kept for emergencies.
func (h *heard) expectsCode(w []byte) bool {
	return (h.since > 0 && h.told || h.code > 0) && isKeypadCode(w) || h.codes && isBackupCode(w)
}

// joinedPair finds a name and a password in parentheses: (kiosk4/Toggle-22).
func joinedPair(b []byte, start, stop int, found func(start, end int, kind Noted)) {
	slash := start + bytes.IndexByte(b[start:stop], '/')
	if slash > start && b[max(start-1, 0)] == '(' && notedAccount(b[start:slash]) && notedSecret(b[slash+1:stop]) &&
		!chars.EqualFold(b[start:start+3], string(bytes.ToLower(b[slash+1:slash+4]))) { // AArch64/AArch32
		found(start, slash, NotedAccount)
		found(slash+1, stop, NotedSecret)
	}
}

// listen remembers what a word says of the next ones: as it is written, and without the signs around it.
func (h *heard) listen(written, w []byte) {
	kind, ok := notedKind(w)
	colon := bytes.IndexByte([]byte(":="), written[len(written)-1]) >= 0
	if h.since > 0 {
		if h.since++; h.since > farNoted {
			h.since = 0
		}
		h.told = colon || isWord(written) || h.told && lexicon.NotedFresh.HasBytes(bytes.ToLower(w))
	}
	if ok && kind == NotedSecret {
		word := bytes.ToLower(w[bytes.LastIndexByte(w, '-')+1:])
		h.foreign = !plainEnglish.HasBytes(word) || string(word) == "clave"
		h.since, h.told = 1, colon || !plainEnglish.HasBytes(word)
	}
	if h.code > 0 {
		if h.code++; h.code > farNoted {
			h.code = 0
		}
	}
	if chars.IsOneOf(bytes.ToLower(w), "code", "pin", "kode", "kod", "codice", "código", "codigo") {
		h.code = 1
	}
	h.codes = h.codes && isBackupCode(w) || colon && h.ofSpares && isCodes(w)
	h.ofSpares = lexicon.NotedSpare.HasBytes(bytes.ToLower(w))
	plain := len(bytes.Trim(written, ":=-._")) == 0
	h.short = lexicon.NotedExtensions.HasBytes(bytes.ToLower(bytes.TrimRight(w, ":")))
	h.account, h.phone = ok && kind == NotedAccount || h.account && plain, ok && kind == NotedPhone || h.phone && plain
}

// plainEnglish are words for passwords that stand in texts about programs as well: behind them a colon or "is" must tell that one follows.
var plainEnglish = chars.WordSet("password passwd passphrase passcode pw pwd parole passe clave senha")

func isWord(w []byte) bool { return len(w) <= 16 && lexicon.NotedIs.HasBytes(bytes.ToLower(w)) }

func isCodes(w []byte) bool { return chars.IsOneOf(bytes.ToLower(w), "codes", "code", "keys") }

// isBackupCode says whether a word is one of the codes that are kept for the day on which the telephone is lost: 4471-9021.
func isBackupCode(w []byte) bool {
	digits := len(chars.OnlyDigits(string(w)))
	return digits >= 6 && digits <= 12 && len(bytes.Trim(w, "0123456789-")) == 0
}

// joinedSecret says the same of a word with an = within: Quoin=stone8, but no lane=3.
func joinedSecret(w []byte) bool {
	n := bytes.IndexByte(w, '=')
	return n > 1 && len(w)-n > 4 && chars.IsUpper(w[0]) && KindOf(w[:n]) == 0 && notedSecret(bytes.Replace(w, []byte("="), []byte("+"), 1))
}

// fiercelySecret says whether a word is what nobody writes in a sentence: letters of both cases, digits and signs.
func fiercelySecret(w []byte) bool { return len(w) >= 8 && KindsIn(string(w)) >= 4 }

// isKeypadCode says whether a word is what is typed at a door: digits and a sign that ends them.
func isKeypadCode(w []byte) bool {
	n := len(w) - 1
	return n >= 4 && n <= 8 && (w[n] == '#' || w[n] == '*') && chars.IsAllDigits(w[:n])
}

// pair finds a name and a password with a slash between, as people write them, and gives where it ends: scan7 / Clove-Hitch2.
func pair(b []byte, start, stop, to int, found func(start, end int, kind Noted)) (end int) {
	if stop+3 >= to || string(b[stop:stop+3]) != " / " || stop-start < 3 || chars.NameAt(b, start) != stop || !IsPerson(b[start:stop]) {
		return 0
	}
	for end = stop + 3; end < to && !chars.IsBlank(b[end]); {
		end++
	}
	from, until := bareWord(b, stop+3, end)
	if !notedSecret(b[from:until]) && !joinedSecret(b[from:until]) || !notedAccount(b[start:stop]) && !IsLoginWord(b[start:stop]) &&
		!IsServiceAccount(b[start:stop]) {
		return 0
	}
	found(start, stop, NotedAccount)
	found(from, until, NotedSecret)
	return end
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
	if len(w) < 5 || !IsValue(w) || BeginsWithAlias(w) || isMailWord(w) ||
		bytes.ContainsAny(w, "/\\<>(){}[]|=\"`,") || bytes.Count(w, []byte(".")) > 1 {
		return false
	}
	letters, digits := lettersAndDigits(w)
	chosen := digits > 0 || bytes.ContainsAny(w[1:], "!#$%&*^+@?~_")
	return letters >= 3 && chosen && bytes.IndexByte(w, ':') < 0 && !StandsForAny(w) && !IsSetting(w) &&
		!Algorithms.Has(w) && !isShortVersion(w) && Shaped(string(w))
}

// lettersAndDigits counts the letters and digits of ASCII in a word.
func lettersAndDigits(w []byte) (letters, digits int) {
	for _, c := range w {
		switch {
		case chars.IsDigit(c):
			digits++
		case chars.IsWord(c) && c != '_':
			letters++
		}
	}
	return letters, digits
}

func isMailWord(w []byte) bool {
	at := bytes.IndexByte(w, '@')
	return at > 0 && bytes.IndexByte(w[at:], '.') > 0
}

// notedAccount says whether a word behind one for an account is its name: everyday words are not.
func notedAccount(w []byte) bool {
	letters, digits := lettersAndDigits(w)
	if len(w) == 0 || !chars.IsWord(w[0]) || w[0] == '_' || letters+digits+bytes.Count(w, []byte("."))+bytes.Count(w, []byte("-"))+
		bytes.Count(w, []byte("_")) < len(w) {
		return false
	}
	return letters >= 3 && digits > 0 && digits <= 4 && !BeginsWithAlias(w) && len(w) <= 24 && IsPerson(w) &&
		!chars.IsHexes(w) && !isShortVersion(w) &&
		!isDeviceName(w) && !Algorithms.Has(w)
}

// betweenDigits stand between the groups of a telephone number.
var betweenDigits = *chars.BytesOf(" -/().")

// notedPhone gives the end of a telephone number at a place: digits with blanks and signs between, 7 to 15 of them.
func notedPhone(b []byte, at, to int) int {
	digits, end := 0, at
	for i := at; i < to; i++ {
		switch c := b[i]; {
		case chars.IsDigit(c):
			digits, end = digits+1, i+1
			continue
		case c == '+' && i == at, i+1 < to && betweenDigits[c] && (chars.IsDigit(b[i+1]) || b[i+1] == ' ' || b[i+1] == '('):
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
