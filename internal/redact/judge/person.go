package judge

import (
	"bytes"
	"unicode"
	"unicode/utf8"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// Whether what stands where a name is expected can be one.

// nobodys are words that stand for any name, and those of programs.
var nobodys = chars.WordSet(`foo bar baz qux me you him her them us it its xxx yyy zzz value values str string int integer bool boolean none
	null nil undef undefined iota range shift name names username usernames userid user users someone anyone everyone somebody
	anybody fixme todo example any team teams all other others each every same self this that these those his their our my your new
	old first last next add del create delete remove resetpassword lastseen`)

// arguments are what manuals call what follows an option: without the -u flag.
var arguments = chars.WordSet("flag flags option options switch switches argument arguments parameter parameters name user")

// Person reports whether what stands where a name is expected can be one: a piece of a program or sentence, a word that stands for any
// name, and what a program calls a thing are none.
func (p *Place) Person() bool {
	t := p.Text
	if n := bytes.IndexByte(t, '='); n > 0 && identifier(t[:n]) { // the key of a list within a list: new user: name=…
		t = t[n+1:]
	}
	// of fonts
	if len(t) == 0 || p.documented() || Code(t) || p.escaped() || Format(t) || bytes.ContainsAny(t, "[]{}=$") ||
		bytes.Contains(p.After, []byte(" family=")) {
		return false
	}
	if bytes.HasSuffix(p.Before, []byte("sip:")) && chars.IsAllDigits(t) { // the number of a telephone, in the address of a call
		return true
	}
	var buf [lowerSize]byte
	lower := lowered(&buf, t)
	if bytes.HasSuffix(lower, []byte("'s")) || bytes.HasPrefix(lower, []byte("self.")) || bytes.HasPrefix(lower, []byte("this.")) {
		return false
	}
	if p.Sure && arguments.HasBytes(lower) || nobodys.HasBytes(lower) || isNamed(t) {
		return false
	}
	if bytes.IndexByte(t, ' ') >= 0 {
		return personOfWords(bytes.Fields(t))
	}
	if p.isThing(t) {
		return false
	}
	return p.quoted() || p.bareName(t, lower)
}

// isThing reports whether a word is what a program calls a thing where it stands; the account of a service is none in quotes:
// $user = 'gates_rw'.
func (p *Place) isThing(t []byte) bool {
	if !calledByProgram(t) || p.besideSecret() || p.quoted() && serviceByName(t) && !sameWord(t, p.key()) {
		return false
	}
	return p.program() || p.idiom() && !p.Sure || !accountOfService(t) || !p.Sure && !p.set()
}

// besideSecret reports whether a password stands near in the line, under a key of its own: with it a name is that of an account, also in a
// call: connect(host="…", user="gates_rw", password="…").
func (p *Place) besideSecret() bool {
	var buf [lowerSize]byte
	n := len(p.Before)
	if n < 5 || p.Before[n-1] != '=' && (p.Before[n-1] != '"' && p.Before[n-1] != '\'' || p.Before[n-2] != '=') {
		return false
	}
	after := lowered(&buf, p.After[:min(len(p.After), lowerSize)])
	return bytes.Contains(after, []byte("password=")) || bytes.Contains(after, []byte("passwd=")) || bytes.Contains(after, []byte("pwd="))
}

// calledByProgram reports whether a word is what a program calls a thing: NameOwnerChanged, user_name, entry.path.
func calledByProgram(t []byte) bool {
	if chars.IsDigit(t[len(t)-1]) || !madeOfWords(t) {
		return false
	}
	parts := Parts(t)
	return len(parts) > 1 && !(len(parts) == 2 && lexicon.Given(bytes.ToLower(parts[0])))
}

// namesFields are parts of what programs call the fields of names.
var namesFields = chars.WordSet(`user username name names users login account accounts id ids uid key keys type field fields value
	values list path
	dir file str string obj object var arg args param params info data ctx ptr map set get is has not default new current self class model
	table column row rows index count url uri host email mail password pass pwd secret token title label text role roles group groups
	first last full display given family required invalid unknown missing`)

// set reports whether the value is one of a setting, and neither a part of a path of keys (user:cpu-seconds) nor the beginning of a
// sentence.
func (p *Place) set() bool {
	n := len(p.Before)
	if n < 2 || p.Before[n-1] == ':' || p.Before[n-1] == '/' {
		return false
	}
	after := p.After
	if p.Before[n-1] != ' ' || len(after) < 2 || after[0] != ' ' {
		return true
	}
	word := after[1:]
	if i := bytes.IndexAny(word, " =:"); i >= 0 {
		return word[i] == '='
	}
	return !isLower(word[0])
}

// accountOfService reports whether a word is joined as the accounts of services are: gate_events, report-rw.
func accountOfService(t []byte) bool {
	joints := 0
	for _, c := range t {
		switch {
		case c == '_' || c == '-':
			joints++
		case !isLower(c) && !chars.IsDigit(c):
			return false
		}
	}
	for _, part := range Parts(t) {
		if namesFields.HasBytes(part) {
			return false
		}
	}
	return joints == 1
}

// serviceByName reports whether one of the two parts of a word says that it is the account of a service: gates_rw.
func serviceByName(t []byte) bool {
	parts := Parts(t)
	return len(parts) == 2 && accountOfService(t) && (lexicon.ServiceParts.HasBytes(parts[0]) || lexicon.ServiceParts.HasBytes(parts[1]))
}

// bareName reports whether a word without quotes can be a name where it stands.
func (p *Place) bareName(t, lower []byte) bool {
	everyday := lexicon.Everyday(lower)
	if identifier(t) && p.program() && (everyday || sameWord(t, p.key())) {
		return false
	}
	if len(p.After) > 0 && (p.After[0] == ',' || p.After[0] == ')') && sameWord(t, p.key()) {
		return false
	}
	if bytes.HasSuffix(p.Before, []byte("=>")) && len(p.After) > 0 && p.After[0] == ')' { // of a call: names stand in quotes there
		return false
	}
	return !p.prose() && !(everyday && p.idiom() && !p.Sure && !lexicon.Given(lower))
}

// weekdays are those before dates.
var weekdays = chars.WordSet("mon tue wed thu fri sat sun")

// personOfWords judges a name of several words: none is a word of sentences, none of what people are in.
func personOfWords(words [][]byte) bool {
	if len(words) == 2 && len(words[0]) == 3 && len(words[1]) == 3 && weekdays.HasBytes(bytes.ToLower(words[0])) { // Last login: Sat Mar 14
		return false
	}
	for _, w := range words {
		w = bytes.Trim(w, ".,")
		if len(w) == 0 {
			continue
		}
		lower := bytes.ToLower(w)
		first, _ := utf8.DecodeRune(w)
		if organisations.HasBytes(lower) || unicode.IsLower(first) && !lexicon.Particles.HasBytes(lower) &&
			lexicon.Everyday(lower) && !lexicon.Given(lower) {
			return false
		}
	}
	return true
}

// idiom reports whether the value stands behind a word and a blank.
func (p *Place) idiom() bool {
	n := len(p.Before)
	return n > 1 && p.Before[n-1] == ' ' && isLower(p.Before[n-2]|0x20)
}

// prose reports whether the value is a word of a sentence behind a colon: "account: use two factors".
func (p *Place) prose() bool {
	n := len(p.Before)
	if n < 2 || p.Before[n-1] != ' ' || p.Before[n-2] != ':' || len(p.After) < 2 || p.After[0] != ' ' || !isLower(p.After[1]) {
		return false
	}
	var buf [lowerSize]byte
	lower := lowered(&buf, p.Text)
	if bytes.IndexByte(p.After, '=') >= 0 || lexicon.Given(lower) { // logfmt goes on behind it
		return false
	}
	return lexicon.Everyday(lower) || macro(p.Text) && len(p.Text) <= 5
}
