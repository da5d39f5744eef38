package redact

import (
	"encoding/binary"
	"sort"
	"strings"
	"sync"
)

// Limits of what is learned, in bytes. A secret shorter than MinSecret, and a name shorter than MinName, is replaced at
// its place only: everywhere else it would hit by chance. So is a name that is one plain word shorter than MinPlainName,
// since products and folders have such names too.
const (
	MinSecret    = 6
	MinName      = 4
	MinPlainName = 6
	MaxLearned   = 4096
)

// Learned is what rules found. It is filled by one reading and used by the next, so that a value that stood next to a
// key in one file is removed wherever it stands. It can be filled from several goroutines.
type Learned struct {
	mu     sync.Mutex
	values map[string]Value
	common map[string]bool
}

// Value is one learned original.
type Value struct {
	Text  string
	Class Class
	Rule  string
}

// NewLearned makes an empty set. The words of the given texts are common, besides those that always are: they stand all
// over the case (names of items, roles and systems), so that a value which is one of them is replaced at its place only.
func NewLearned(texts ...string) *Learned {
	l := &Learned{values: map[string]Value{}, common: map[string]bool{}}
	for _, t := range texts {
		for _, w := range strings.FieldsFunc(t, func(r rune) bool { return r < 0x80 && !isWord(byte(r)) }) {
			l.common[strings.ToLower(w)] = true
		}
	}
	return l
}

// Add learns a value, if it is of a kind that is removed everywhere.
func (l *Learned) Add(v Value) {
	if !learnable(v) || l.common[strings.ToLower(v.Text)] {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	// The same text may be found by two rules in two files; which one counts must not depend on the order of reading.
	if old, ok := l.values[v.Text]; !ok || less(v, old) {
		l.values[v.Text] = v
	}
}

func less(a, b Value) bool {
	if (a.Class == Secret) != (b.Class == Secret) {
		return a.Class == Secret
	}
	if a.Class != b.Class {
		return a.Class < b.Class
	}
	return ruleOrder(a.Rule) < ruleOrder(b.Rule)
}

func ruleOrder(name string) int {
	for i := range Rules {
		if Rules[i].Name == name {
			return i
		}
	}
	return len(Rules)
}

func learnable(v Value) bool {
	n := len(v.Text)
	if n > MaxLearned || n < MinName || strings.ContainsAny(v.Text, "\r\n") {
		return false
	}
	if v.Class == User && n < MinPlainName && isAllLetters([]byte(v.Text)) {
		return false
	}
	if v.Class != Secret {
		return true
	}
	return n >= MinSecret && !allDigits(v.Text) && !commonWords[strings.ToLower(v.Text)]
}

func allDigits(s string) bool {
	for i := 0; i < len(s); i++ {
		if !isDigit(s[i]) && s[i] != '.' && s[i] != '-' {
			return false
		}
	}
	return true
}

// Values gives all learned values, sorted by text.
func (l *Learned) Values() []Value {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := make([]Value, 0, len(l.values))
	for _, v := range l.values {
		out = append(out, v)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Text < out[j].Text })
	return out
}

// commonWords are too common to be removed everywhere, even when one was found next to a key.
var commonWords = wordSet(`password passwd secret token changeme default example enabled disabled required optional unknown
	invalid expired missing success failure failed passed accepted rejected granted denied error warning timeout
	bearer basic digest negotiate cookie session string number boolean integer object access refresh request response
	client server service system gateway terminal boarding ticket device status result active inactive pending
	internal external public private primary secondary production staging testing development february september
	october november december monday tuesday wednesday thursday saturday sunday connected disconnected
	name user login admin account from with this that have been true false null none start stop info debug`)

func wordSet(words string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(words) {
		m[w] = true
	}
	return m
}

// Matcher finds learned values anywhere in text. It is safe for use from several goroutines.
type Matcher struct {
	bits    []uint64 // one bit for each hash of the first four bytes of a value
	buckets map[uint32][]Value
	size    int
}

const hashBits = 18

func hash4(b []byte) uint32 {
	return binary.LittleEndian.Uint32(b) * 2654435761 >> (32 - hashBits)
}

// NewMatcher makes a matcher of learned values.
func NewMatcher(values []Value) *Matcher {
	m := &Matcher{bits: make([]uint64, 1<<hashBits/64), buckets: map[uint32][]Value{}, size: len(values)}
	for _, v := range values {
		h := hash4([]byte(v.Text))
		m.bits[h>>6] |= 1 << (h & 63)
		m.buckets[h] = append(m.buckets[h], v)
	}
	for _, b := range m.buckets {
		sort.Slice(b, func(i, j int) bool { return b[i].Text < b[j].Text })
	}
	return m
}

// longest gives the longest value of a sorted bucket that stands at a place. Thousands of values may begin alike, so they
// are not tried one by one: the last value not behind the text either is its beginning, or shows how much of it can match.
func longest(bucket []Value, b []byte, at int) (Value, bool) {
	text := b[at:min(len(b), at+MaxLearned)]
	for len(text) >= MinName {
		n := sort.Search(len(bucket), func(i int) bool { return bucket[i].Text > string(text) })
		if n == 0 {
			return Value{}, false
		}
		v := bucket[n-1]
		common := 0
		for common < len(v.Text) && common < len(text) && v.Text[common] == text[common] {
			common++
		}
		if common == len(v.Text) {
			if stands(b, at, v) {
				return v, true
			}
			common--
		}
		text = text[:common]
	}
	return Value{}, false
}

// Next gives the first learned value at or behind a place; ok is false when there is none.
func (m *Matcher) Next(b []byte, from int) (start int, v Value, ok bool) {
	if m == nil || m.size == 0 {
		return 0, Value{}, false
	}
	for i := from; i+4 <= len(b); i++ {
		h := hash4(b[i:])
		if m.bits[h>>6]&(1<<(h&63)) == 0 {
			continue
		}
		if v, ok := longest(m.buckets[h], b, i); ok {
			return i, v, true
		}
	}
	return 0, Value{}, false
}

// stands says whether a value at a place is that value. Identities must not be part of a longer word or address;
// secrets are removed wherever they stand.
func stands(b []byte, at int, v Value) bool {
	if v.Class == Secret {
		return true
	}
	if at > 0 && continues(b[at-1], v.Class) && (!isWord(b[at-1]) || wordBefore(b, at)) {
		return false
	}
	end := at + len(v.Text)
	if end >= len(b) {
		return true
	}
	if continues(b[end], v.Class) {
		// A full stop may end the sentence.
		return b[end] == '.' && (end+1 >= len(b) || !isWord(b[end+1]))
	}
	return true
}

func continues(c byte, class Class) bool {
	switch class {
	case IPv4:
		return isWord(c) || c == '.'
	case IPv6:
		return isWord(c) || c == ':'
	case Mail:
		return isWord(c) && c != '_'
	case MAC:
		return isWord(c) || c == ':' || c == '-' || c == '.'
	}
	return isWord(c) && c != '_' || c >= 0x80
}
