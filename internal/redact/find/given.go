package find

import (
	"bytes"
	"strings"
	"unicode"
	"unicode/utf8"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// besideNames are signs around a name.
var besideNames = *chars.BytesOf(" (),;|=>\"'\t")

// mostGiven bounds the words of a name.
const mostGiven = 4

// GivenNames finds whole names of people that begin with a given name: behind a word that people are named behind, before a mail address,
// and between the signs of a cell, a value or parentheses. It looks at each word with a capital, which is for short texts only: in a log
// hardly any is a person.
//
// A text of a program with a licence names its authors, who are known to everybody: there only what surely is a place of a name counts.
func GivenNames(b []byte, from, to int, person func(start, end int)) {
	licensed := ofProgram(b[from:to])
	for at := from; at < to; at++ {
		first := at == 0 || b[at-1] == '\n'
		if !isCapital(b[:to], at) || !first && !besideNames[b[at-1]] {
			continue
		}
		end := givenName(b[:to], at)
		short := end == 0
		if short {
			end = shortName(b[:to], from, at)
		}
		if end == 0 {
			continue
		}
		speaks := short && end < to && b[end] == ':' && at > 1 && b[at-2] == ']' // [06:12] Sorley, Maire: …
		if chat := speaks || !short && ofChat(b[:to], at, end, first); !chat && (isCredit(chars.LineFrom(b[:to], chars.LineStart(b, at))) ||
			!short && (first || !isNamed(b[:to], from, at, end)) && !acts(b[:to], end) &&
				(licensed || !namedFreely(b[:to], at, end))) {
			continue
		}
		person(at, end)
		for next := nextOfList(b[:to], end); next > 0 && behindKey(b, at); next = nextOfList(b[:to], end) {
			end = givenName(b[:to], next)
			person(next, end)
		}
		at = end
	}
}

// leastNational is how many digits a telephone number has at least without its country.
const leastNational = 8

// PhoneOfNamed finds the number of a telephone right behind the name of somebody: NAME (912 00 713), NAME, 912 345 679.
func PhoneOfNamed(b []byte, end int) (first, last int) {
	rest := b[end:]
	bracket := bytes.HasPrefix(rest, []byte(" ("))
	bare := bytes.HasPrefix(rest, []byte(" 0")) || bytes.HasPrefix(rest, []byte(" +"))
	if !bracket && !bare && !bytes.HasPrefix(rest, []byte(", ")) || len(rest) < leastNational+2 {
		return 0, 0
	}
	if first = end + 2; bare {
		first--
	}
	digits, blanks := 0, 0
	for last = first; last < len(b) && last-first < 20 && (chars.IsDigit(b[last]) || b[last] == '+' && last == first || b[last] == ' ' || b[last] == '-'); last++ {
		if chars.IsDigit(b[last]) {
			digits++
		} else {
			blanks++
		}
	}
	closed := last == len(b) || b[last] == '\n' || b[last] == '\r' || b[last] == '.' || b[last] == ',' || bracket && b[last] == ')'
	if digits < leastNational || digits > 11 || blanks == 0 || !closed || IsDate(b[first:last]) {
		return 0, 0
	}
	return first, last
}

// ofProgram reports whether a text speaks of the rights on a program, or of its changes.
func ofProgram(text []byte) bool {
	for _, word := range []string{"opyright", "icense", "icence", "urgency=", "Changelog", "CHANGES", "AUTHORS"} {
		if bytes.Contains(text, []byte(word)) {
			return true
		}
	}
	return false
}

// ofChat says whether a name stands over or before what somebody wrote: "Ilvar Tostrund: …" and "Ilvar Tostrund [06:12]".
func ofChat(b []byte, at, end int, first bool) bool {
	if !first && !bytes.HasSuffix(b[:at], []byte("- ")) && !bytes.HasSuffix(b[:at], []byte("] ")) {
		return false
	}
	rest := b[end:]
	return bytes.HasPrefix(rest, []byte(": ")) || len(rest) > 3 && rest[0] == ' ' && rest[1] == '[' && chars.IsDigit(rest[2])
}

// isNamed says whether the place of a name is one at which people are named.
func isNamed(b []byte, from, at, end int) bool {
	ends := end == len(b) || b[end] == '\n'
	switch {
	case b[at-1] == '(' && end+1 < len(b) && b[end] == ')' && b[end+1] == '\n':
		return false
	case b[at-1] != ' ' && (ends || besideNames[b[end]] && b[end] != ' '): // a cell
		return true
	case bytes.HasPrefix(b[end:], []byte(" <")) && bytes.IndexByte(chars.LineFrom(b, end), '@') > 0:
		return true
	case bytes.HasPrefix(b[end:], []byte(" (")) && !shouted(b, at): // Rina Okafor (passport …)
		return true
	case behindKey(b, at) && (ends || b[end] == ',' || nextOfList(b, end) > 0 || beforeKey(b, end)): // the whole value, or a list
		return true
	case (b[at-1] == '"' || b[at-1] == '\'') && !ends && b[end] == b[at-1] && beforeMail(b, end+1): // ('NAME', 'ilvar@pier.example')
		return true
	case shouted(b, at), b[at-1] != ' ':
		return false
	}
	return lexicon.NotedBeforePeople.Has(lastWord(b[max(from, at-16):at]))
}

// ofPlaces are words before what may be the name of a place, ship or thing, and no person.
var ofPlaces = chars.WordSet(`the a an in at near via port saint st mount lake cape fort pier terminal ship ferry vessel mv ms ss rms
	boat station street project operation class hurricane storm`)

// namedFreely says whether a whole name stands in a text with no word beside it that makes it a part of a longer name, or one of a place.
func namedFreely(b []byte, at, end int) bool {
	if shouted(b, at) || end+1 < len(b) && b[end] == ' ' && isCapital(b, end+1) {
		return false
	}
	if end < len(b) && bytes.IndexByte([]byte("'_-/\\@"), b[end]) >= 0 && !ofOrganisation(b, end) {
		return false
	}
	if last := bytes.LastIndexByte(b[at:end], ' ') + 1; last > 1 && chars.IsUpper(b[end-1]) && chars.IsLower(b[at+1]) &&
		end-at-last > 1 { // Travis CI
		return false
	}
	if at == 0 || b[at-1] == '\n' {
		return true
	}
	before := b[max(0, at-24):at]
	word := lastWord(before)
	if ofPlaces.Has(word) && (chars.IsAscii(b[at:end]) || len(word) > 2) {
		return false
	}
	start := len(bytes.TrimRight(before, " ")) - len(word)
	return start < 0 || before[len(before)-1] != ' ' || len(word) == 0 || !chars.IsUpper(before[start]) ||
		!isKeyLetter(before[len(before)-2])
}

// ofOrganisation says whether a name goes on with what somebody belongs to, as directories write it: Ilvar Tostrund/Ops/Pier.
func ofOrganisation(b []byte, end int) bool {
	if end+2 >= len(b) || b[end] != '/' || !isCapital(b, end+1) {
		return false
	}
	to := wordEnd(b, end+1)
	return to > end+2 && (to == len(b) || b[to] != ' ' || !isCapital(b, min(len(b)-1, to+1)))
}

// beforeKey says whether the next word is a key with a colon.
func beforeKey(b []byte, end int) bool {
	if end+1 >= len(b) || b[end] != ' ' {
		return false
	}
	colon := wordEnd(b, end+1)
	return colon > end+2 && colon < len(b) && b[colon] == ':'
}

// beforeMail says whether the next text in quotes is a mail address.
func beforeMail(b []byte, at int) bool {
	next := bytes.TrimLeft(b[at:min(len(b), at+80)], ", ")
	if len(next) < 6 || next[0] != '"' && next[0] != '\'' {
		return false
	}
	end := bytes.IndexByte(next[1:], next[0])
	return end > 0 && bytes.IndexByte(next[1:1+end], '@') > 0
}

// behindKey says whether a colon and a blank stand before a place, behind a word.
func behindKey(b []byte, at int) bool {
	return at > 2 && b[at-1] == ' ' && b[at-2] == ':' && (isKeyLetter(b[at-3]) || at > 3 && b[at-3] == ' ' && isKeyLetter(b[at-4]))
}

// greetings are words before the given name of somebody who is spoken to.
var greetings = chars.WordSet(`hi hello best cheers regards thanks mvh dear hey hallo hei hej hola bonjour ciao moin liebe lieber beste chère cher caro cara
	querido querida morning evening afternoon`)

// shortName gives the end of what people are called in notes for short: an initial and a surname behind a word that people are named
// behind or the time of an entry (06:05 M. Sorley restarted it), and the given name alone behind a greeting (Hi Ingrid,).
func shortName(b []byte, from, at int) (end int) {
	before := lastWord(b[max(from, at-16):at])
	if to := surnameFirst(b, at); to > 0 {
		return to
	}
	if end = wordEnd(b, at); doesSomething(b, end) && lexicon.Given(bytes.ToLower(b[at:end])) && !IsEveryday(bytes.ToLower(b[at:end])) {
		return end
	}
	if at+3 < len(b) && b[at+1] == '.' && b[at+2] == ' ' && isCapital(b, at+3) {
		if end = wordEnd(b, at+3); end-at > 5 && isCell(b, at, end) && !IsEveryday(bytes.ToLower(b[at+3:end])) {
			return end
		}
		return initialAndSurname(b, at, before)
	}
	if surnameTitles.Has(strings.TrimRight(before, ".")) && b[at-1] == ' ' { // also where the surname is a word of everybody's: Mr White
		if end = wordEnd(b, at); end-at > 2 && !shouted(b, at) && (end == len(b) || bytes.IndexByte([]byte("-_/(0123456789"), b[end]) < 0) {
			return end
		}
	}
	if to := recordName(b, at); to > 0 {
		return to
	}
	if to := foreignName(b, at); to > 0 {
		return to
	}
	if to := givenOfNotes(b, at, before); to > 0 {
		return to
	}
	alone := greetings.Has(before) || behindKey(b, at) && mailWords.Has(before)
	if end = wordEnd(b, at); end-at < 3 || !alone || !lexicon.Given(bytes.ToLower(b[at:end])) {
		return 0
	}
	if end == len(b) || b[end] == ',' || b[end] == '\n' || b[end] == '!' {
		return end
	}
	return 0
}

// ownedThings are what belongs to somebody of whom a note speaks by the given name: Ilvar's account.
var ownedThings = chars.WordSet(`account login password badge phone laptop card mail email mobile number key pin shift user pc computer
	desk`)

// givenOfNotes gives the end of a given name with what tells that it is one: whose something is, or an initial behind it
// (asked Ilvar T.).
func givenOfNotes(b []byte, at int, before string) int {
	end := wordEnd(b, at)
	if word := bytes.ToLower(b[at:end]); len(word) < 3 || !lexicon.Given(word) || IsEveryday(word) {
		return 0
	}
	rest := b[end:]
	if bytes.HasPrefix(rest, []byte("'s ")) && ownedThings.HasBytes(rest[3:3+wordEnd(rest[3:], 0)]) {
		return end
	}
	if before == "is" && bytes.HasSuffix(bytes.ToLower(b[max(0, at-8):at]), []byte("this is ")) && endsThere(rest) ||
		roles.Has(before) && at > 2 && b[at-1] == ' ' && endsThere(rest) || behindKey(b, at) && bytes.HasPrefix(rest, []byte(" to ")) {
		return end
	}
	if toldOf.Has(before) && at > 2 && b[at-1] == ' ' && chars.IsLower(b[at-2]) && endsThere(rest) {
		return end
	}
	initial := len(rest) > 3 && rest[0] == ' ' && chars.IsUpper(rest[1]) && rest[2] == '.'
	if initial && lexicon.NotedBeforePeople.Has(before) &&
		!(len(rest) > 4 && rest[3] == ' ' && chars.IsUpper(rest[4])) { // then it is no whole name
		return end + 3
	}
	return 0
}

// surnameTitles stand before surnames.
var surnameTitles = chars.WordSet("mr mrs ms sgt capt cpt insp herr frau fru mme mlle signora signor señor señora")

// roles are what people are on a ship, at a pier and at a desk: a name stands behind them.
var roles = chars.WordSet(`agent operator engineer colleague technician driver captain capt master pilot clerk cashier steward stewardess
	supervisor mate bosun purser officer sgt sergeant lt cpt inspector nurse doctor guard kapitän kapitein capitán capitaine kaptein styrmann
	steuermann lots pilote piloto`)

// toldOf are words before the given name alone of somebody of whom a note tells.
var toldOf = chars.WordSet(`to told asked tell ask called phoned rang met saw met informed thank thanks by from with hos bei chez con med fra från til till avisar avisa`)

// endsThere reports whether a given name stands alone: nothing follows that belongs to it.
func endsThere(rest []byte) bool {
	if len(rest) == 0 || bytes.IndexByte([]byte("\n\r,;!?)"), rest[0]) >= 0 || bytes.HasPrefix(rest, []byte(" (")) ||
		rest[0] == '.' && (len(rest) == 1 || chars.IsSpace(rest[1])) {
		return true
	}
	if len(rest) < 3 || rest[0] != ' ' || !chars.IsLower(rest[1]) {
		return false
	}
	return behindGiven.HasBytes(rest[1:wordEnd(rest, 1)])
}

// behindGiven are words behind the given name of somebody in a sentence.
var behindGiven = chars.WordSet(`on at about that who and to in for yesterday today tonight again this last earlier before after if when why
	has had is was will gave gives`)

// mailWords stand before the given name alone of whom a note is for or from.
var mailWords = chars.WordSet("to from cc an von attn til fra aan van para de call duty standby backup oncall")

// recordName gives the end of a name as records of passengers have it: OKAFOR/RINA MS.
func recordName(b []byte, at int) int {
	slash := wordEnd(b, at)
	if slash-at < 2 || slash+3 > len(b) || b[slash] != '/' || !chars.IsUpper(b[slash+1]) {
		return 0
	}
	end := wordEnd(b, slash+1)
	if end-slash < 3 || bytes.IndexFunc(b[at:end], unicode.IsLower) >= 0 || end < len(b) && (b[end] == '/' || chars.IsWord(b[end])) {
		return 0
	}
	for _, title := range []string{" MR", " MS", " MRS", " MISS", " MSTR", " CHD", " INF"} {
		if bytes.HasPrefix(b[end:], []byte(title)) && (end+len(title) == len(b) || !chars.IsWord(b[end+len(title)])) {
			return end + len(title)
		}
	}
	if !lexicon.Given(bytes.ToLower(b[slash+1:end])) || IsEveryday(bytes.ToLower(b[at:slash])) {
		return 0
	}
	return end
}

// initialAndSurname gives the end of a name with an initial, given the word before it.
func initialAndSurname(b []byte, at int, before string) int {
	end := wordEnd(b, at+3)
	entry := chars.IsAllDigits([]byte(strings.ReplaceAll(before, ":", ""))) && len(before) >= 4 && end+1 < len(b) && b[end] == ' ' &&
		chars.IsLower(b[end+1])
	ofShip := bytes.HasSuffix(b[:at], []byte("/O ")) || bytes.HasSuffix(b[:at], []byte("/E ")) // C/O J. Park
	if end-at > 4 && (roles.Has(before) || ofShip) && (end == len(b) || !chars.IsWord(b[end])) && !IsEveryday(bytes.ToLower(b[at+3:end])) {
		return end
	}
	if end-at > 5 && (end == len(b) || !chars.IsWord(b[end]) && b[end] != '-') && !IsEveryday(bytes.ToLower(b[at+3:end])) &&
		(entry || lexicon.NotedBeforePeople.Has(before) || end-at > 7 && at > 0 && b[at-1] != '\n' && chars.IsLower(b[at+4]) &&
			namedFreely(b, at, end)) {
		return end
	}
	return 0
}

// isCell reports whether a stretch fills a cell of a table or list whose signs are no commas.
func isCell(b []byte, at, end int) bool {
	for at > 0 && b[at-1] == ' ' {
		at--
	}
	for end < len(b) && b[end] == ' ' {
		end++
	}
	const signs = ";|\t"
	return at > 0 && strings.IndexByte(signs, b[at-1]) >= 0 && (end == len(b) || b[end] == '\n' || b[end] == '\r' ||
		strings.IndexByte(signs, b[end]) >= 0)
}

// isListed reports whether a name stands alone in a line, behind a key, or behind the number of a line, and wide blanks or the end behind it.
func isListed(b []byte, at, end int) bool {
	rest := b[end:]
	if len(rest) > 0 && rest[0] != '\n' && rest[0] != '\r' && rest[0] != '\t' && rest[0] != ';' && rest[0] != '"' &&
		!bytes.HasPrefix(rest, []byte("  ")) && !bytes.HasPrefix(rest, []byte(" (")) && !bytes.HasPrefix(rest, []byte(" <")) {
		return false
	}
	before := bytes.TrimRight(b[chars.LineStart(b, at):at], " \t\"")
	return len(bytes.Trim(before, " 0123456789.)-*#")) == 0 || before[len(before)-1] == ':'
}

// surnameFirst gives the end of a surname and a given name behind a comma, where a colon follows as in chats, and in the cells of tables:
// Sorley, Maire: ….
func surnameFirst(b []byte, at int) int {
	comma := wordEnd(b, at)
	if comma-at < 3 || comma+4 > len(b) || b[comma] != ',' || b[comma+1] != ' ' || !isCapital(b, comma+2) {
		return 0
	}
	end := wordEnd(b, comma+2)
	colon := end < len(b) && b[end] == ':'
	if (colon || isCell(b, at, end) || isListed(b, at, end) || isCapitals(b[at:comma]) && isCapitals(b[comma+2:end]) && end-comma > 4) && lexicon.Given(bytes.ToLower(b[comma+2:end])) && !IsEveryday(bytes.ToLower(b[at:comma])) {
		return end
	}
	return 0
}

// deeds are what somebody does of whom a note tells by the given name.
var deeds = chars.WordSet(`saw said says told called rang phoned restarted reported confirmed asked wants went came took found fixed changed
	noticed replied answered mentioned wrote writes tried booked boarded arrived requested checked tried unplugged pressed opened
		closed knows left
	has had gave gives sent sends will copies is isn't can could would should did does doesn't wants
	ist war hat wird kommt est été était será está estaba jest był było je bude er var har on oli è era
	logged swapped thinks reckons from rings calls needs`)

// doesSomething says whether the word at a place is what somebody did.
func doesSomething(b []byte, at int) bool {
	return at+4 < len(b) && b[at] == ' ' && deeds.HasBytes(b[at+1:wordEnd(b, at+1)])
}

// mostForeign is how many words a name has at most that letters of other languages tell.
const mostForeign = 4

// foreignName gives the end of a name that is all that stands behind a key, of words with capitals of which one at least has letters that
// English has not, and none is one that everybody uses: Vaktstjóri: Guðrún Jónsdóttir. 0 where there is none.
func foreignName(b []byte, at int) (end int) {
	if !behindKey(b, at) {
		return 0
	}
	foreign, words := false, 0
	for end = at; end < len(b) && words < mostForeign; {
		next := wordEnd(b, end)
		word := b[end:next]
		if len(word) < 2 || !isCapital(b, end) || IsEveryday(bytes.ToLower(word)) {
			return 0
		}
		foreign = foreign || !chars.IsAscii(word)
		words++
		if end = next; end == len(b) || b[end] == '\n' || b[end] == '\r' {
			break
		}
		if b[end] != ' ' {
			return 0
		}
		end++
	}
	if !foreign || words < 2 || end < len(b) && b[end] != '\n' && b[end] != '\r' {
		return 0
	}
	return end
}

// acts says whether what follows a whole name tells what somebody does: … confirmed, … is inviting.
func acts(b []byte, at int) bool {
	for _, is := range []string{" is ", " was "} {
		if from := at + len(is); bytes.HasPrefix(b[at:], []byte(is)) {
			return bytes.HasSuffix(b[from:wordEnd(b, from)], []byte("ing"))
		}
	}
	return doesSomething(b, at)
}

// wordEnd gives the end of a word of letters of any script.
func wordEnd(b []byte, at int) int {
	for at < len(b) && isKeyLetter(b[at]) && b[at] != '_' {
		at++
	}
	return at
}

// isCapital says whether a large letter of any script stands at a place.
func isCapital(b []byte, at int) bool {
	if b[at] < utf8.RuneSelf {
		return chars.IsUpper(b[at])
	}
	r, _ := utf8.DecodeRune(b[at:])
	return unicode.IsUpper(r)
}

// nextOfList gives the place of the next name behind a comma, where there is one; else 0.
func nextOfList(b []byte, end int) int {
	if at := end + 2; at+3 < len(b) && b[end] == ',' && b[end+1] == ' ' && isCapital(b, at) && givenName(b, at) > 0 {
		return at
	}
	return 0
}

// shouted says whether a word and the one before it stand in capitals, as in licences.
func shouted(b []byte, at int) bool {
	return at > 2 && at+1 < len(b) && chars.IsUpper(b[at+1]) && chars.IsUpper(b[at-2]) && chars.IsUpper(b[at-3])
}

func isKeyLetter(c byte) bool { return chars.IsWord(c) && !chars.IsDigit(c) || c >= utf8.RuneSelf }

// lastWord gives the last word of a text in small letters, without the sign of a sentence behind it.
func lastWord(text []byte) string { return strings.TrimRight(chars.LastWordOf(text), ",:;") }

// creditWords are those of the lines in which programs and their changes name who made them, who is known to everybody. A part of a word
// is none: reported, authorized, six.
var creditWords = chars.WordSet(`copyright author authors authored patch patches bug contributed contributions contributor maintainer
	maintained written thanks suggested suggestion discovered developed derived revised adapted based original originally ported
	committed license licence credits translated translation book algorithm published upstream debian fix fixes bugs
	documentation`)

// isCredit says whether a line is one of these.
func isCredit(line []byte) bool {
	line = bytes.TrimLeft(line, " \t")
	if bytes.HasPrefix(line, []byte("# ")) && IsGivenName(bytes.TrimRight(line[2:], " \r\n")) { // whose the next lines are
		return false
	}
	if bytes.HasPrefix(line, []byte("#")) || bytes.HasPrefix(line, []byte("//")) ||
		bytes.HasPrefix(line, []byte("* ")) { // a remark of a program
		return true
	}
	if bytes.Contains(line, []byte("©")) || bytes.Contains(line, []byte("(c)")) || bytes.Contains(line, []byte("(C)")) {
		return true
	}
	if bytes.Contains(line, []byte("](http")) || bytes.Contains(line, []byte(" -- ")) {
		return true
	}
	for _, w := range bytes.FieldsFunc(line, func(r rune) bool { return r < utf8.RuneSelf && !chars.IsWord(byte(r)) }) {
		if creditWords.HasBytes(bytes.ToLower(w)) {
			return true
		}
	}
	return false
}

// givenName gives the end of the longest name at a place that begins with a given name; 0 where there is none.
func givenName(b []byte, at int) (end int) {
	for word, words := at, 0; words < mostGiven && word < len(b); words++ {
		for words > 0 { // van der Berg
			to := bytes.IndexByte(b[word:min(len(b), word+8)], ' ')
			if to < 0 || !lexicon.Particles.HasBytes(b[word:word+to]) {
				break
			}
			word += to + 1
		}
		if word >= len(b) || !isCapital(b, word) {
			break
		}
		to := word
		for to < len(b) && (chars.IsWord(b[to]) && !chars.IsDigit(b[to]) && b[to] != '_' || b[to] >= utf8.RuneSelf ||
			(b[to] == '-' || b[to] == '\'') && to+1 < len(b) && chars.IsWord(b[to+1])) {
			to++
		}
		if words > 0 && to < len(b) && b[to] == ':' && bytes.ContainsFunc(b[min(to, word+3):to], unicode.IsUpper) { // CustomerUser: x
			break
		}
		if words > 0 && ofOrganisation(b, to) && IsGivenName(b[at:to]) {
			return to
		}
		if to-word < 2 || to < len(b) && bytes.IndexByte([]byte("_/=(\\@0123456789"), b[to]) >= 0 {
			break
		}
		if words > 0 && IsGivenName(b[at:to]) {
			end = to
		}
		if to >= len(b) || b[to] != ' ' {
			break
		}
		word = to + 1
	}
	return end
}
