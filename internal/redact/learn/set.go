package learn

import (
	"maps"
	"slices"
	"strings"
	"sync"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
	"envask/internal/redact/judge"
	"envask/internal/redact/lexicon"
)

// Rules of values that count more than what is common: LiteralRule is that of texts of the engineer's own, HeldRule that of passwords,
// tokens and passphrases that we ourselves hold for systems and routes.
const (
	LiteralRule = "literal"
	HeldRule    = "held-secret"
)

// NamedRule is the rule of identities that go where they stand and teach nothing by themselves: the evidence for them is weak, or they are
// words for other things, too. They have their aliases before anything is replaced, so that these do not depend on the order of files, and
// what follows from the names of people is removed where it stands: two that fit are no chance (see Derived).
const NamedRule = "named"

// Limits of what is learned, in bytes. A name shorter than MinName is replaced at
// its place only: everywhere else it would hit by chance. A name that is one plain word shorter than MinPlainName must be found twice,
// since products and folders have such names too.
const (
	MinName      = 4
	MinPlainName = 5
	MaxLearned   = 4096
)

// Set is what rules found. It is filled by one reading and used by the next, so that a value that stood next to a
// key in one file is removed wherever it stands. It can be filled from several goroutines.
type Set struct {
	mu     sync.Mutex
	values map[string]alias.Value
	common map[string]bool
	weak   map[string]bool      // found once, on weak evidence
	named  map[alias.Value]bool // identities that go where they stand, and teach nothing by themselves
	order  func(rule string) int
}

// New makes an empty set. The words of the given texts are common, besides those that always are: they stand all
// over the case (names of items, roles and systems), so that a value which is one of them is replaced at its place only. Of two
// rules that found the same text the one of lower order counts.
func New(order func(rule string) int, texts ...string) *Set {
	l := &Set{order: order, values: map[string]alias.Value{}, common: map[string]bool{}, named: map[alias.Value]bool{}}
	for _, t := range texts {
		for _, w := range strings.FieldsFunc(t, func(r rune) bool { return r < 0x80 && !chars.IsWord(byte(r)) }) {
			l.common[strings.ToLower(w)] = true
		}
	}
	return l
}

// Add learns values, if they are of a kind that is removed everywhere.
func (l *Set) Add(values ...alias.Value) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, v := range values {
		if v.Rule == NamedRule {
			l.name(v)
			continue
		}
		old, ok := l.values[v.Text]
		// The same text may be found by two rules in two files; which one counts must not depend on the order of reading.
		if ok && !l.less(v, old) { // most of what a log says, it says in every file
			continue
		}
		if v.Rule == LiteralRule || v.Rule == HeldRule { // the engineer's word counts more than what is common
			if len(v.Text) >= MinName && len(v.Text) <= MaxLearned {
				l.values[v.Text] = v
			}
		} else if Learnable(v) && !l.common[strings.ToLower(v.Text)] {
			l.values[v.Text] = v
		} else {
			l.name(v)
		}
	}
}

// mostNamed bounds how many identities are remembered that teach nothing.
const mostNamed = 100_000

// name remembers an identity that teaches nothing.
func (l *Set) name(v alias.Value) {
	if v.Class != alias.Secret && len(l.named) < mostNamed {
		l.named[alias.Value{Text: v.Text, Class: v.Class, Rule: NamedRule}] = true
	}
}

// Absorb takes all that another set knows, which forgets it: what one file taught.
func (l *Set) Absorb(other *Set) {
	other.mu.Lock()
	named := slices.Collect(maps.Keys(other.named))
	other.mu.Unlock()
	l.Add(other.Take()...)
	l.Add(named...)
}

// Take gives what was learned and forgets it, and what was named as well.
func (l *Set) Take() []alias.Value {
	values := l.Values()
	l.mu.Lock()
	defer l.mu.Unlock()
	clear(l.named)
	clear(l.values)
	clear(l.weak) // or what one file teaches would depend on those before it
	return values
}

// AddCommon adds words that are common in this case: a value that is one of them is replaced at its place only.
func (l *Set) AddCommon(words ...string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, w := range words {
		l.common[w] = true
	}
}

// mostWeak bounds how many values are remembered that were found once, on weak evidence.
const mostWeak = 10_000

// SeenBefore says whether a value was found on weak evidence before, or is known already: then it is one.
func (l *Set) SeenBefore(v alias.Value) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if _, known := l.values[v.Text]; known || l.weak[v.Text] {
		return true
	}
	if l.weak == nil || len(l.weak) >= mostWeak {
		l.weak = map[string]bool{}
	}
	l.weak[v.Text] = true
	return false
}

// AddOthers learns values whose text is not known yet.
func (l *Set) AddOthers(values ...alias.Value) {
	l.mu.Lock()
	others := slices.DeleteFunc(values, func(v alias.Value) bool { _, known := l.values[v.Text]; return known })
	l.mu.Unlock()
	l.Add(others...)
}

func (l *Set) less(a, b alias.Value) bool {
	if (a.Class == alias.Secret) != (b.Class == alias.Secret) {
		return a.Class == alias.Secret
	}
	if a.Class != b.Class {
		return a.Class < b.Class
	}
	return l.order(a.Rule) < l.order(b.Rule)
}

// Short reports whether a name is one plain word so short that it must be found twice.
func Short(v alias.Value) bool {
	return v.Class == alias.User && len(v.Text) < MinPlainName && chars.IsAllLetters([]byte(v.Text))
}

// Learnable reports whether a value is of a kind that is removed everywhere.
func Learnable(v alias.Value) bool {
	n := len(v.Text)
	if v.Rule == HeldRule {
		return n >= MinName && n <= MaxLearned
	}
	if n > MaxLearned || n < MinName || strings.ContainsAny(v.Text, "\r\n") {
		return false
	}
	switch v.Class {
	case alias.ID: // the date on which somebody was born is that of many other things
		return !find.IsDate([]byte(v.Text)) && !find.IsShortDate([]byte(v.Text))
	case alias.User:
		if word := []byte(strings.ToLower(v.Text)); Short(v) && (find.IsEveryday(word) || lexicon.Given(word)) { // mark is a word, too
			return false
		}
		if given, surname, ok := alias.PartsOf(v.Text); ok && strings.Contains(v.Text, ", ") { // Zielonka, Marek
			return judge.Name([]byte(given + " " + surname))
		}
		return !chars.AllDigits(v.Text) && judge.Name([]byte(v.Text)) // the number of a telephone's line is that of many other things
	case alias.Secret:
		return n >= find.MinSecret && !chars.AllDigits(v.Text) && !find.CommonWords.Has(strings.ToLower(v.Text)) && find.Shaped(v.Text) &&
			judge.Secret([]byte(v.Text))
	}
	return true
}

// Values gives all learned values, sorted by text.
func (l *Set) Values() []alias.Value {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := make([]alias.Value, 0, len(l.values))
	for _, v := range l.values {
		out = append(out, v)
	}
	return sortedByText(out, func(v *alias.Value) string { return v.Text },
		func(a, b *alias.Value) int { return strings.Compare(a.Text, b.Text) })
}

// stands says whether a value at a place is that value. It must not be part of a longer word or address, unless it is a secret that
// nothing else can look like.
func stands(b []byte, at int, text string, class alias.Class) bool {
	if class == alias.Secret {
		end := at + len(text)
		return Unmistakable(text) || !(chars.IsWord(text[0]) && chars.WordBefore(b, at)) &&
			!(end < len(b) && chars.IsWord(b[end]) && chars.IsWord(text[len(text)-1]))
	}
	if class == alias.User && chars.IsAllLetters([]byte(text)) && withinName(b, at, at+len(text)) && !ofPerson(b, at, at+len(text)) {
		return false
	}
	if at > 0 && continues(b[at-1], class) && (!chars.IsWord(b[at-1]) || chars.WordBefore(b, at)) {
		return false
	}
	end := at + len(text)
	if end >= len(b) {
		return true
	}
	if continues(b[end], class) {
		// A full stop may end the sentence, or the name of a file before its ending.
		return b[end] == '.' && (end+1 >= len(b) || !chars.IsDigit(b[end+1]))
	}
	return true
}

func continues(c byte, class alias.Class) bool {
	switch class {
	case alias.IPv4:
		return chars.IsWord(c) || c == '.'
	case alias.IPv6:
		return chars.IsWord(c) || c == ':'
	case alias.Mail:
		return chars.IsWord(c) && c != '_'
	case alias.MAC:
		return chars.IsWord(c) || c == ':' || c == '-' || c == '.'
	}
	return chars.IsWord(c) && c != '_' || c >= 0x80
}

// WhyLeft says why a value is replaced at its places only and not wherever it stands; "" when it is removed everywhere.
func (l *Set) WhyLeft(v alias.Value) string {
	l.mu.Lock()
	_, learned := l.values[v.Text]
	common := l.common[strings.ToLower(v.Text)]
	l.mu.Unlock()
	switch n := len(v.Text); {
	case learned:
		return ""
	case common:
		return "a word of this case: of items, roles, systems or paths"
	case Learnable(v):
		return "found on weak evidence"
	case n > MaxLearned || strings.ContainsAny(v.Text, "\r\n"):
		return "too long"
	case n < MinName || v.Class == alias.Secret && n < find.MinSecret:
		return "too short"
	case v.Class == alias.Secret && chars.AllDigits(v.Text):
		return "a number"
	case v.Class == alias.User:
		return "a word that stands for other things, too"
	}
	return "not shaped like a secret"
}
