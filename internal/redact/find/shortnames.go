package find

import (
	"bytes"
	"strings"
	"unicode"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// What people are called in notes for short, and in lists and records: halves of names with what tells that they are some.

// greetings are words before the given name of somebody who is spoken to.
var greetings = chars.WordSet(`hi hello best cheers regards thanks mvh dear hey hallo hei hej hola bonjour ciao moin liebe lieber
	beste chère cher caro cara querido querida morning evening afternoon`)

// shortName gives the end of what people are called in notes for short: an initial and a surname behind a word that people are named
// behind or the time of an entry (06:05 M. Sorley restarted it), and the given name alone behind a greeting (Hi Ingrid,).
func shortName(b []byte, from, at int) (end int) {
	before := lastWord(b[max(from, at-16):at])
	for _, by := range []func(b []byte, at int, before string) int{surnameFirst, deedOf, initialFirst, initialLast, behindTitle, behindRank,
		recordName, foreignName, givenOfNotes, addressed} {
		if end = by(b, at, before); end > 0 {
			return end
		}
	}
	return 0
}

// deedOf gives the end of a given name behind which stands what somebody did.
func deedOf(b []byte, at int, _ string) int {
	end := wordEnd(b, at)
	if !doesSomething(b, end) || !isGivenAlone(b[at:end]) {
		return 0
	}
	return end
}

// isGivenAlone says whether a word is a given name and no word of everybody's.
func isGivenAlone(word []byte) bool {
	lower := bytes.ToLower(word)
	return len(word) > 1 && lexicon.Given(lower) && !IsEveryday(lower) && !productsOf.HasBytes(lower) && !chars.IsUpper(word[1])
}

// productsOf are given names that well-known programs have, too: alone they tell nobody.
var productsOf = chars.WordSet(`hugo gerrit claude julia alexa siri cassandra athena jenkins travis celeste apollo iris argo luna nova
	phoenix maya sage sierra aurora jasmine crystal ruby pearl scala dante galileo kepler tesla hermes atlas ada basil otto`)

// initialFirst gives the end of a name that begins with an initial: in the cell of a table, and where the words around it tell.
func initialFirst(b []byte, at int, before string) int {
	if at+3 >= len(b) || b[at+1] != '.' || b[at+2] != ' ' || !isCapital(b, at+3) {
		return 0
	}
	if end := wordEnd(b, at+3); end-at > 5 && isCell(b, at, end) && !IsEveryday(bytes.ToLower(b[at+3:end])) {
		return end
	}
	return initialAndSurname(b, at, before)
}

// initialLast gives the end of a surname and an initial behind a key and in lists: EARLY: Vik H., Okeke M.
func initialLast(b []byte, at int, _ string) int {
	end := wordEnd(b, at)
	if end-at < 3 || end+2 >= len(b) || b[end] != ' ' || !chars.IsUpper(b[end+1]) || b[end+2] != '.' ||
		IsEveryday(bytes.ToLower(b[at:end])) {
		return 0
	}
	listed := at > 1 && (b[at-1] == '=' || b[at-1] == '"' || b[at-1] == ';' || b[at-1] == '|' || b[at-1] == ' ' &&
		bytes.IndexByte([]byte(":,=|"), b[at-2]) >= 0)
	rest := b[end+3:]
	if !listed || len(rest) > 0 && bytes.IndexByte([]byte("\n\r,;\"|)"), rest[0]) < 0 && !bytes.HasPrefix(rest, []byte("  ")) {
		return 0
	}
	return end + 3
}

// ranks are the roles that stand before a surname alone.
var ranks = chars.WordSet("captain capt master pilot mate bosun purser steward stewardess sergeant inspector clerk cashier")

// behindRank gives the end of a surname behind a rank: pilot Lindgaard aboard.
func behindRank(b []byte, at int, before string) int {
	end := wordEnd(b, at)
	if !ranks.Has(strings.TrimRight(before, ".")) || at < 2 || b[at-1] != ' ' || end-at < 4 || IsEveryday(bytes.ToLower(b[at:end])) ||
		end+1 < len(b) && (b[end] == ' ' && !chars.IsLower(b[end+1]) || bytes.IndexByte([]byte("-_/(0123456789"), b[end]) >= 0) {
		return 0
	}
	return end
}

// behindTitle gives the end of a surname behind a title, also where it is a word of everybody's: Mr White.
func behindTitle(b []byte, at int, before string) int {
	if !surnameTitles.Has(strings.TrimRight(before, ".")) || b[at-1] != ' ' || shouted(b, at) ||
		isCapitals(bytes.TrimRight(b[max(0, at-4):at-1], ". ")) {
		return 0
	}
	end := wordEnd(b, at)
	if end-at < 3 || end < len(b) && bytes.IndexByte([]byte("-_/(0123456789"), b[end]) >= 0 {
		return 0
	}
	return end
}

// addressed gives the end of a given name of whom a note is for or from, and who is greeted.
func addressed(b []byte, at int, before string) int {
	end := wordEnd(b, at)
	alone := greetings.Has(before) || behindKey(b, at) && mailWords.Has(before)
	if end-at < 3 || !alone || !lexicon.Given(bytes.ToLower(b[at:end])) ||
		end < len(b) && b[end] != ',' && b[end] != '\n' && b[end] != '!' {
		return 0
	}
	return end
}

// ownedThings are what belongs to somebody of whom a note speaks by the given name: Ilvar's account.
var ownedThings = chars.WordSet(`account login password badge phone laptop card mail email mobile number key pin shift user pc computer
	desk`)

// isToldOf says whether the words around a given name tell that it is one: this is Ilvar, operator Ilvar, Action: Ilvar to call, ask Ilvar.
func isToldOf(b []byte, at int, before string, rest []byte) bool {
	if behindKey(b, at) {
		return bytes.HasPrefix(rest, []byte(" to "))
	}
	if at < 3 || b[at-1] != ' ' || !endsThere(rest) {
		return false
	}
	return before == "is" && bytes.HasSuffix(bytes.ToLower(b[max(0, at-8):at]), []byte("this is ")) || roles.Has(before) ||
		toldOf.Has(before) && chars.IsLower(b[at-2])
}

// givenOfNotes gives the end of a given name with what tells that it is one: whose something is, or an initial behind it
// (asked Ilvar T.).
func givenOfNotes(b []byte, at int, before string) int {
	end := wordEnd(b, at)
	if end-at < 3 || !isGivenAlone(b[at:end]) {
		return 0
	}
	rest := b[end:]
	if bytes.HasPrefix(rest, []byte("'s ")) && ownedThings.HasBytes(rest[3:3+wordEnd(rest[3:], 0)]) {
		return end
	}
	if isToldOf(b, at, before, rest) {
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
var roles = chars.WordSet(`agent operator engineer colleague technician driver captain capt master pilot clerk cashier steward
	stewardess supervisor mate bosun purser officer sgt sergeant lt cpt inspector nurse doctor guard kapitän kapitein capitán
	capitaine kaptein styrmann steuermann lots pilote piloto`)

// toldOf are words before the given name alone of somebody of whom a note tells.
var toldOf = chars.WordSet(`to told asked tell ask called phoned rang met saw met informed thank thanks by from with hos bei chez con
	med fra från til till avisar avisa`)

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
var behindGiven = chars.WordSet(`on at about that who and to in for yesterday today tonight again this last earlier before after if
	when why has had is was will gave gives`)

// mailWords stand before the given name alone of whom a note is for or from.
var mailWords = chars.WordSet("to from cc an von attn til fra aan van para de call duty standby backup oncall")

// recordName gives the end of a name as records of passengers have it: OKAFOR/RINA MS.
func recordName(b []byte, at int, _ string) int {
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
	if end-at > 4 && (end == len(b) || !chars.IsWord(b[end])) &&
		(ofShip || roles.Has(strings.TrimRight(before, ".")) && !IsEveryday(bytes.ToLower(b[at+3:end]))) {
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

// isListed reports whether a name stands alone in a line, behind a key, or behind the number of a line, and wide blanks or the end behind
// it.
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
func surnameFirst(b []byte, at int, _ string) int {
	comma := wordEnd(b, at)
	if comma-at < 3 || comma+4 > len(b) || b[comma] != ',' || b[comma+1] != ' ' || !isCapital(b, comma+2) {
		return 0
	}
	end := wordEnd(b, comma+2)
	colon := end < len(b) && b[end] == ':'
	if (colon || isCell(b, at, end) || isListed(b, at, end) || isCapitals(b[at:comma]) && isCapitals(b[comma+2:end]) && end-comma > 4) &&
		lexicon.Given(bytes.ToLower(b[comma+2:end])) && !IsEveryday(bytes.ToLower(b[at:comma])) {
		return end
	}
	return 0
}

// deeds are what somebody does of whom a note tells by the given name.
var deeds = chars.WordSet(`saw said says told called rang phoned restarted reported confirmed asked wants went came took found fixed
	changed noticed replied answered mentioned wrote writes tried booked boarded arrived requested checked tried unplugged pressed
	opened closed knows left was were has had gave gives sent sends will copies is isn't can could would should did does doesn't wants
	ist war hat wird kommt est été était será está estaba jest był było je bude er var har on oli è era logged swapped thinks reckons
	from rings calls needs`)

// doesSomething says whether the word at a place is what somebody did.
func doesSomething(b []byte, at int) bool {
	return at+4 < len(b) && b[at] == ' ' && deeds.HasBytes(b[at+1:wordEnd(b, at+1)])
}

// mostForeign is how many words a name has at most that letters of other languages tell.
const mostForeign = 4

// foreignName gives the end of a name that is all that stands behind a key, of words with capitals of which one at least has letters that
// English has not, and none is one that everybody uses: Vaktstjóri: Guðrún Jónsdóttir. 0 where there is none.
func foreignName(b []byte, at int, _ string) (end int) {
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
