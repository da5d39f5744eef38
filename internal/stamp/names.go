package stamp

import (
	"sort"
	"unicode/utf8"
)

// monthWords are month names in the common European languages, short and long, by month. A word that means two
// different months in two languages is left out (the Croatian lip and the Polish one, for example, of which the second
// is kept because it is written in far more logs).
var monthWords = [13][]string{
	1: {"jan", "january", "januar", "januari", "janvier", "janv", "jän", "jänner", "ene", "enero", "gen", "gennaio", "janeiro",
		"sty", "stycznia", "styczeń",
		"led", "ledna", "leden", "janua", "januára", "január", "ian", "ianuarie", "oca", "ocak", "янв", "января", "январь", "ιαν",
		"ιανουαρίου", "tammi", "tammikuuta"},
	2: {"feb", "february", "februar", "februari", "février", "févr", "fév", "fevr", "fev", "febrero", "febbraio",
		"fevereiro", "lut", "lutego", "luty",
		"úno", "února", "únor", "februára", "február", "februarie", "şub", "şubat", "фев", "февр", "февраля", "февраль", "φεβ",
		"φεβρουαρίου", "helmi", "helmikuuta"},
	3: {"mar", "march", "märz", "mär", "mrz", "maerz", "mars", "marzo", "março", "marco", "mrt", "maart", "marts", "marca", "marzec",
		"bře", "března", "březen",
		"márc", "március", "marec", "martie", "mart", "мар", "марта", "март", "μαρ", "μαρτίου", "maalis", "maaliskuuta"},
	4: {"apr", "april", "avril", "avr", "abr", "abril", "aprile", "kwi", "kwietnia", "kwiecień", "dub", "dubna", "duben", "ápr",
		"április", "apríl", "apríla",
		"aprilie", "nis", "nisan", "апр", "апреля", "апрель", "απρ", "απριλίου", "huhti", "huhtikuuta"},
	5: {"may", "mai", "mayo", "mag", "maggio", "maio", "mei", "maj", "maja", "kvě", "května", "květen", "máj", "május", "mája", "mayıs",
		"мая", "май", "μαΐ", "μαΐου", "touko", "toukokuuta"},
	6: {"jun", "june", "juni", "juin", "junio", "giu", "giugno", "junho", "cze", "czerwca", "czerwiec", "čvn", "června", "červen",
		"jún", "június", "júna",
		"iun", "iunie", "haz", "haziran", "июн", "июня", "июнь", "ιουν", "ιουνίου", "kesä", "kesäkuuta"},
	7: {"jul", "july", "juli", "juillet", "juil", "julio", "lug", "luglio", "julho", "lip", "lipca", "lipiec", "čvc", "července",
		"červenec", "júl", "július", "júla",
		"iul", "iulie", "tem", "temmuz", "июл", "июля", "июль", "ιουλ", "ιουλίου", "heinä", "heinäkuuta"},
	8: {"aug", "august", "augustus", "augusti", "août", "aout", "ago", "agosto", "sie", "sierpnia", "sierpień", "srp", "srpna",
		"srpen", "augusztus", "augusta",
		"ağu", "ağustos", "авг", "августа", "август", "αυγ", "αυγούστου", "elo", "elokuuta"},
	9: {"sep", "sept", "september", "septembre", "septiembre", "set", "settembre", "setembro", "wrz", "września", "wrzesień", "zář", "září",
		"szept", "szeptember", "septembra",
		"septembrie", "eyl", "eylül", "сен", "сент", "сентября", "сентябрь", "σεπ", "σεπτεμβρίου", "syys", "syyskuuta"},
	10: {"oct", "october", "okt", "oktober", "octobre", "octubre", "ott", "ottobre", "out", "outubro", "paź", "października", "październik",
		"říj", "října", "říjen",
		"október", "októbra", "octombrie", "eki", "ekim", "окт", "октября", "октябрь", "οκτ", "οκτωβρίου", "loka", "lokakuuta"},
	11: {"nov", "november", "novembre", "noviembre", "novembro", "listopada", "listopad", "lis", "novembra", "noi", "noiembrie", "kas",
		"kasım", "ноя", "нояб", "ноября", "ноябрь",
		"νοε", "νοεμβρίου", "marras", "marraskuuta"},
	12: {"dec", "december", "dez", "dezember", "des", "desember", "déc", "décembre", "decembre", "dic", "diciembre", "dicembre", "dezembro",
		"gru", "grudnia", "grudzień",
		"pro", "prosince", "prosinec", "decembra", "decembrie", "ara", "aralık", "дек", "декабря", "декабрь", "δεκ",
		"δεκεμβρίου", "joulu", "joulukuuta"},
}

// foldTo gives the small form of the two-byte capitals that begin or stand in month names.
var foldTo = map[rune]rune{'Ä': 'ä', 'É': 'é', 'Ú': 'ú', 'Ş': 'ş', 'Ř': 'ř', 'Č': 'č', 'Š': 'š', 'Ž': 'ž', 'Á': 'á', 'Û': 'û', 'Ç': 'ç',
	'Ğ': 'ğ', 'Ü': 'ü', 'İ': 'i', 'I': 'i'}

type monthWord struct {
	word  string // small letters, in UTF-8 or in Latin-1
	month int
}

// The tables of names, made by setupNames.
var (
	monthTable  map[byte][]monthWord // by the first byte (small letter), longest first
	monthStarts [256]bool            // bytes with which a month's name can begin
	nameStarts  [26 * 26]bool        // pairs of small letters with which one can begin
	dayWords    map[string]bool      // names of days of the week
)

func setupNames() {
	monthTable = map[byte][]monthWord{}
	add := func(w string, m int) { monthTable[w[0]] = append(monthTable[w[0]], monthWord{w, m}) }
	for m, words := range monthWords {
		for _, w := range words {
			add(w, m)
			if l := latin1(w); l != w && l != "" {
				add(l, m)
			}
			if isLetter(w[0]) && isLetter(w[1]) {
				nameStarts[int(w[0]-'a')*26+int(w[1]-'a')] = true
			}
		}
	}
	for b, words := range monthTable {
		sort.Slice(words, func(i, j int) bool { return len(words[i].word) > len(words[j].word) })
		monthStarts[b] = true
		if isLetter(b) || b >= 0xe0 { // a Latin letter, also of Latin-1
			monthStarts[b&^0x20] = true
		}
		if b == 0xd1 { // small Cyrillic letters from р on have capitals under the other lead byte
			monthStarts[0xd0] = true
		}
		if b == 0xcf {
			monthStarts[0xce] = true
		}
	}
	dayWords = map[string]bool{}
	for _, w := range dayNames {
		dayWords[w] = true
		if l := latin1(w); l != "" {
			dayWords[l] = true
		}
	}
}

// latin1 gives a word's Latin-1 bytes, or "" when it has none.
func latin1(w string) string {
	var b []byte
	for _, r := range w {
		if r > 0xff {
			return ""
		}
		b = append(b, byte(r))
	}
	return string(b)
}

// monthName reads a month's name at the start of b, with the dot of a short form, and gives how many bytes it took.
func monthName(b []byte) (month, used int) {
	if len(b) < 3 {
		return 0, 0
	}
	if m := englishMonth(b); m > 0 && (len(b) == 3 || !wordByte(b[3])) {
		return m, afterName(b, 3)
	}
	var buf [32]byte
	low, size := foldWord(buf[:0], b)
	for _, w := range monthTable[low[0]] {
		if len(w.word) == len(low) && w.word == string(low) {
			return w.month, afterName(b, size)
		}
	}
	return 0, 0
}

// afterName steps over the dot of a short form.
func afterName(b []byte, n int) int {
	if n < len(b) && b[n] == '.' && n <= 6 {
		return n + 1
	}
	return n
}

func wordByte(b byte) bool { return isLetter(b) || b >= 0x80 }

const months = "janfebmaraprmayjunjulaugsepoctnovdec"

// englishMonth reads three letters.
func englishMonth(b []byte) int {
	x, y, z := b[0]|0x20, b[1]|0x20, b[2]|0x20
	for i := 0; i < 36; i += 3 {
		if months[i] == x && months[i+1] == y && months[i+2] == z {
			return i/3 + 1
		}
	}
	return 0
}

// foldWord gives the word at the start of b in small letters, and its length in b.
func foldWord(dst, b []byte) ([]byte, int) {
	i := 0
	for i < len(b) && len(dst) < cap(dst)-4 && wordByte(b[i]) {
		if b[i] < 0x80 {
			dst = append(dst, b[i]|0x20)
			i++
			continue
		}
		r, n := utf8.DecodeRune(b[i:])
		if r == utf8.RuneError && n == 1 { // Latin-1
			c := b[i]
			if c >= 0xc0 && c < 0xe0 {
				c |= 0x20
			}
			dst = append(dst, c)
			i++
			continue
		}
		if small, ok := foldTo[r]; ok {
			r = small
		} else if r >= 'А' && r <= 'Я' || r >= 'Α' && r <= 'Ω' {
			r += 0x20
		}
		if r == 0xa0 || r == 0x202f || r >= 0x2000 && r < 0x2070 {
			break // a blank of another kind, or a dash
		}
		dst = utf8.AppendRune(dst, r)
		i += n
	}
	if len(dst) == 0 {
		dst = append(dst, 0)
	}
	return dst, i
}

// dayNames are names of days of the week in the common European languages, short and long.
var dayNames = []string{
	"mon", "tue", "wed", "thu", "fri", "sat", "sun", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday",
	"sunday", "tues", "thur", "thurs",
	"mo", "di", "mi", "do", "fr", "sa", "so", "montag", "dienstag", "mittwoch", "donnerstag", "freitag", "samstag", "sonnabend", "sonntag",
	"lun", "mar", "mer", "jeu", "ven", "sam", "dim", "lundi", "mardi", "mercredi", "jeudi", "vendredi", "samedi", "dimanche",
	"mié", "mie", "jue", "vie", "sáb", "sab", "dom", "lunes", "martes", "miércoles", "jueves", "viernes", "sábado", "domingo",
	"gio", "lunedì", "martedì", "mercoledì", "giovedì", "venerdì", "sabato", "domenica", "seg", "ter", "qua", "qui", "sex", "segunda",
	"terça", "quarta", "quinta", "sexta",
	"ma", "wo", "vr", "za", "zo", "maandag", "dinsdag", "woensdag", "donderdag", "vrijdag", "zaterdag", "zondag",
	"man", "tir", "tirs", "ons", "tor", "tors", "fre", "lør", "søn", "mån", "tis", "lör", "sön", "lørdag", "søndag", "fredag", "torsdag",
	"onsdag", "tirsdag", "mandag", "lördag", "söndag", "måndag", "tisdag",
	"pon", "wto", "śro", "czw", "pią", "sob", "nie", "pn", "wt", "śr", "cz", "pt", "so", "nd", "po", "út", "st", "čt", "pá", "ne",
	"пн", "вт", "ср", "чт", "пт", "сб", "вс",
}

// isDay says whether a word names a day of the week; a dot or comma at its end does not count.
func isDay(word []byte) bool {
	for len(word) > 0 && (word[len(word)-1] == ',' || word[len(word)-1] == '.') {
		word = word[:len(word)-1]
	}
	if len(word) < 2 || !wordByte(word[0]) {
		return false
	}
	var buf [32]byte
	low, n := foldWord(buf[:0], word)
	return n == len(word) && dayWords[string(low)]
}
