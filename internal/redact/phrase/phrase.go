// Package phrase finds values by the words around them: in the directives of configurations, in what programs write to logs, and in what
// people write to each other. A phrase is a template with slots; tables hold them, each with examples.
//
// A template is a row of words with blanks between:
//
//	word     that word, in any case; in exactly that case if it has a capital; a|b is one of both,
//	         word? may be left out; word! is the one by which the phrase is looked for, else it is
//	         the one that seems the rarest
//	^        what comes next begins a line or the message in it, $ ends the line
//	...      up to eight words; * is one word, # a number, @ an address or the name of a host;
//	         with a ? it may be left out
//	NL       the end of a line; KEY a word that announces a secret, such as DB_PASSWORD
//	WHO      a word that announces a person, such as user_name; NOARTICLE no word such as "the"
//	         stands before
//	VERB, TELLING, PART, PARTPASS, HOW, RESULT, DEED, ACT, AFTER
//	         a word of these sets, see sets; a TELLING word may end a longer one, and a PART does
//	{secret} a value that looks like a secret; {secret!} any value, {quoted} any in quotes,
//	         {code} four to eight digits, {strong}, {random} and {fierce} what looks like a
//	         secret wherever it stands
//	{user}   a word that looks like the name of an account; {user!} any name, {quser} any in
//	         quotes; {paper} the number of a passport or licence; {name} and {surname} the whole name
//	         of a person, {person} of a person or an account
//
// A word may hold a slot among other signs: [{user}], {user!}:{secret!}, login={user}.
package phrase

import (
	"fmt"
	"strings"

	"envask/internal/redact/chars"
)

// Slot says what stands in a place of a template.
type Slot string

// The slots.
const (
	Secret     Slot = "secret"  // what looks like a secret
	SureSecret Slot = "secret!" // whatever can be one
	Quoted     Slot = "quoted"  // whatever can be one and stands in quotes
	Code       Slot = "code"    // a short number
	Unusual    Slot = "unusual" // a word that stands in no sentence
	Fierce     Slot = "fierce"  // what nobody writes but as a password
	Strong     Slot = "strong"  // what looks like a secret wherever it stands
	Random     Slot = "random"  // what looks as if nobody could have chosen it by words
	User       Slot = "user"    // what looks like the name of an account
	SureUser   Slot = "user!"   // any name
	Account    Slot = "account" // any name, where nothing else can stand
	QuotedUser Slot = "quser"   // any name in quotes or brackets
	Name       Slot = "name"    // the whole name of a person
	Surname    Slot = "surname" // the same, where one word with a capital does
	Phone      Slot = "phone"   // the whole of a telephone number
	Paper      Slot = "paper"   // the number of a document of a person, or a date of birth
	Person     Slot = "person"  // the whole name of a person, or of an account
)

// IsSecret reports whether what stands in a slot is a secret, and no name.
func (s Slot) IsSecret() bool {
	switch s {
	case User, SureUser, Account, QuotedUser, Name, Surname, Person, Phone, Paper:
		return false
	}
	return true
}

// grows reports whether what stands in a slot may be several words.
func (s Slot) grows() bool {
	return s == Name || s == Surname || s == Person || s == Phone
}

// Found is a value in its slot.
type Found struct {
	Slot       Slot
	Start, End int // in the text
	Quoted     bool
}

// Phrase is a row of a table: a template, and lines that it fits, with the values between « and », and lines that it does not.
type Phrase struct {
	Template string
	Yes, No  []string
}

// limits of what is looked at, in bytes and words.
const (
	maxLine = 1 << 10
	maxGap  = 8
)

// Judge decides what the tables cannot know.
type Judge struct {
	Begins func(b []byte, at int) bool  // whether a line, or the message in it, begins at a place
	Fits   func(b []byte, f Found) bool // whether a value can be what its slot says
	Key    func(word []byte) bool       // whether a word announces a secret
	Who    func(word []byte) bool       // whether it announces a person
}

// Table is a set of phrases, by the words behind which they are looked for.
type Table struct {
	byAnchor map[string][]*template
	bySuffix map[string][]*template // behind a dash in a longer word
	judge    Judge
}

// compile compiles a row, which must have an example of each kind.
func (p *Phrase) compile() (template, error) {
	if len(p.Yes) == 0 || len(p.No) == 0 {
		return template{}, fmt.Errorf("%q: an example is missing", p.Template)
	}
	return compile(p.Template)
}

// NewTable compiles phrases. A row that cannot be compiled is an error, and so is one without an example of each kind.
func NewTable(phrases []Phrase, judge Judge) (*Table, error) {
	t := &Table{map[string][]*template{}, map[string][]*template{}, judge}
	for _, p := range phrases {
		c, err := p.compile()
		if err != nil {
			return nil, err
		}
		if c.anchor < 0 {
			return nil, fmt.Errorf("%q has no word that can be looked for", p.Template)
		}
		anchor := &c.nodes[c.anchor]
		for _, w := range anchor.words {
			w = strings.ToLower(w)
			t.byAnchor[w] = append(t.byAnchor[w], &c)
		}
		for w := range anchor.set {
			if anchor.suffix {
				t.bySuffix[w] = append(t.bySuffix[w], &c)
			}
			if !anchor.part {
				t.byAnchor[w] = append(t.byAnchor[w], &c)
			}
		}
	}
	return t, nil
}

// Anchors gives the words behind which phrases are looked for, in small letters.
func (t *Table) Anchors() map[string]bool {
	out := map[string]bool{}
	for w := range t.byAnchor {
		out[w] = true
	}
	return out
}

// Endings gives those behind which they are also looked for where they end a longer word, behind a dash.
func (t *Table) Endings() map[string]bool {
	out := map[string]bool{}
	for w := range t.bySuffix {
		out[w] = true
	}
	return out
}

// At gives what stands in the slots of the phrases around a word that ends before a blank.
func (t *Table) At(b []byte, blank int, each func(Found)) {
	start := blank
	if start > 0 && b[start-1] == '.' { // of a title
		start--
	}
	for start > 0 && blank-start < 32 && (chars.IsWord(b[start-1]) || b[start-1] == '-') {
		start--
	}
	if start > 1 && b[start-1] == '.' && endsPath(b[:start]) {
		return
	}
	var buf [32]byte
	word := buf[:0]
	for _, c := range b[start:blank] {
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		if word = append(word, c); len(word) == cap(buf) {
			return
		}
	}
	if t.try(t.byAnchor[string(word)], b, start, blank, each) {
		return
	}
	for i := 1; i < len(word) && (start == 0 || b[start-1] != '='); i++ { // which is a value
		if meets(b[start:blank], i) && t.try(t.bySuffix[string(word[i:])], b, start, blank, each) {
			return
		}
	}
}

// endsPath reports whether the word that a text ends in has a slash in it: what ends there is the name of a file.
func endsPath(b []byte) bool {
	for i := len(b) - 1; i >= 0 && len(b)-i < 64 && b[i] > ' '; i-- {
		if b[i] == '/' {
			return true
		}
	}
	return false
}

// meets reports whether two words of an identifier meet before a place.
func meets(word []byte, i int) bool {
	c, before := word[i], word[i-1]
	return before == '-' || before == '_' || c >= 'A' && c <= 'Z' && before >= 'a' && before <= 'z'
}

// try matches templates around a word.
func (t *Table) try(templates []*template, b []byte, start, blank int, each func(Found)) (found bool) {
	for _, c := range templates {
		m := matcher{b: b, judge: t.judge, from: max(0, start-maxLine), to: min(len(b), blank+maxLine)}
		if m.match(c, token{start, blank, 0}) {
			found = m.give(each) || found
		}
	}
	return found
}

// give hands out what was found, if all that must be a secret can be one.
func (m *matcher) give(each func(Found)) bool {
	good := m.found[:0]
	for _, f := range m.found {
		ok := m.judge.Fits(m.b, f)
		if !ok && f.Slot.IsSecret() {
			return false
		}
		if ok {
			good = append(good, f)
		}
	}
	for _, f := range good {
		each(f)
	}
	return true
}
