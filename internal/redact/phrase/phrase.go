// Package phrase finds values by the words around them: in the directives of configurations, in what programs write to logs, and in what
// people write to each other. A phrase is a template with slots; tables hold them, each with examples.
//
// A template is a row of words with blanks between:
//
//	word     that word, in any case; in exactly that case if it has a capital; a|b is one of both, word? may be left out;
//	         word! is the one by which the phrase is looked for, else it is the one that seems the rarest
//	^        what comes next begins a line or the message in it, $ ends the line
//	...      up to eight words; * is one word, # a number, @ an address or the name of a host; with a ? it may be left out
//	NL       the end of a line; KEY a word that announces a secret, such as DB_PASSWORD
//	WHO      a word that announces a person, such as user_name; NOARTICLE no word such as "the" stands before
//	VERB, TELLING, PART, HOW, RESULT, DEED, ACT, AFTER  a word of these sets, see sets; a TELLING word may end a longer one, and a PART does
//	{secret} a value that looks like a secret; {secret!} any value, {quoted} any in quotes, {code} four to eight digits, {strong}, {random} and {fierce} what
//	         looks like a secret wherever it stands
//	{user}   a word that looks like the name of an account; {user!} any name, {quser} any in quotes; {name} and {surname} the whole name of a person,
//	         {person} of a person or an account
//
// A word may hold a slot among other signs: [{user}], {user!}:{secret!}, login={user}.
package phrase

import (
	"bytes"
	"fmt"
	"strings"

	"envask/internal/redact/judge"
)

// Slot says what stands in a place of a template.
type Slot string

// The slots.
const (
	Secret     Slot = "secret"  // what looks like a secret
	SureSecret Slot = "secret!" // whatever can be one
	Quoted     Slot = "quoted"  // whatever can be one and stands in quotes
	Code       Slot = "code"    // a short number
	Fierce     Slot = "fierce"  // what nobody writes but as a password
	Strong     Slot = "strong"  // what looks like a secret wherever it stands
	Random     Slot = "random"  // what looks as if nobody could have chosen it by words
	User       Slot = "user"    // what looks like the name of an account
	SureUser   Slot = "user!"   // any name
	QuotedUser Slot = "quser"   // any name in quotes or brackets
	Name       Slot = "name"    // the whole name of a person
	Surname    Slot = "surname" // the same, where one word with a capital does
	Person     Slot = "person"  // the whole name of a person, or of an account
)

// IsSecret reports whether what stands in a slot is a secret, and no name.
func (s Slot) IsSecret() bool {
	switch s {
	case User, SureUser, QuotedUser, Name, Surname, Person:
		return false
	}
	return true
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

// node is a compiled word of a template.
type node struct {
	kind     nodeKind
	words    []string        // of a literal, without capitals unless exact
	set      map[string]bool // of a literal that is any of a set
	suffix   bool            // its words may end others, behind a dash
	part     bool            // and are looked for only there, where the whole word announces a secret
	exact    bool
	optional bool
	sought   bool
	pieces   []piece // of a word with slots
}

type nodeKind uint8

const (
	literal nodeKind = iota
	slots
	begin
	end
	gap
	anyWord
	number
	address
	lineEnd
	keyWord
	whoWord
	noArticle
)

// piece is a part of a word: a text, a slot, or a run of anything.
type piece struct {
	text string
	slot Slot
	any  bool
}

// template is a compiled phrase.
type template struct {
	nodes  []node
	anchor int // the literal behind which it is looked for
}

// compile reads a template.
func compile(text string) (template, error) {
	t := template{anchor: -1}
	for _, w := range strings.Fields(text) {
		n, err := compileWord(w)
		if err != nil {
			return t, fmt.Errorf("%q: %w", text, err)
		}
		t.nodes = append(t.nodes, n)
	}
	best := 0
	for i := range t.nodes {
		n := &t.nodes[i]
		if n.sought {
			t.anchor = i
			break
		}
		if n.hasSlot() && best > 0 { // words behind slots often end their line, and have no blank behind them
			break
		}
		if r := n.rarity(); r > best {
			t.anchor, best = i, r
		}
	}
	return t, nil
}

// common are words that stand in many lines of which few have a secret or a name.
var common = map[string]bool{"user": true, "name": true, "set": true, "for": true, "from": true, "with": true, "and": true, "open": true,
	"opened": true, "closed": true, "accepted": true, "failed": true, "that": true, "there": true, "file": true, "session": true, "password": true, "login": true, "started": true, "stopped": true, "get": true, "post": true}

// rarity says how well a node does as the word by which a phrase is looked for: the longer the rarer; 0 is not at all.
func (n *node) rarity() int {
	if n.kind != literal || n.optional {
		return 0
	}
	if n.set != nil {
		return 3
	}
	least := 99
	for _, w := range n.words {
		for i := 0; i < len(w); i++ {
			if c := w[i]; !(isWord(c) || c == '-' || c == '.' && i == len(w)-1) || w[0] == '-' {
				return 0
			}
		}
		if len(w) < 2 {
			return 0
		}
		rare := len(w)
		switch {
		case len(w) < 4:
			rare = 1
		case common[strings.ToLower(w)]:
			rare = 2
		}
		least = min(least, rare)
	}
	return least
}

func (n *node) hasSlot() bool {
	for _, p := range n.pieces {
		if p.slot != "" {
			return true
		}
	}
	return false
}

func compileWord(w string) (node, error) {
	switch w {
	case "^":
		return node{kind: begin}, nil
	case "$":
		return node{kind: end}, nil
	case "...":
		return node{kind: gap}, nil
	case "*":
		return node{kind: anyWord}, nil
	case "#":
		return node{kind: number}, nil
	case "@":
		return node{kind: address}, nil
	case "NL":
		return node{kind: lineEnd}, nil
	case "KEY":
		return node{kind: keyWord}, nil
	case "WHO":
		return node{kind: whoWord}, nil
	case "NOARTICLE":
		return node{kind: noArticle}, nil
	case "*?":
		return node{kind: anyWord, optional: true}, nil
	case "#?":
		return node{kind: number, optional: true}, nil
	case "@?":
		return node{kind: address, optional: true}, nil
	}
	if w == `\*` {
		return node{kind: literal, words: []string{"*"}}, nil
	}
	if strings.ContainsAny(w, "{*") {
		pieces, err := compilePieces(w)
		return node{kind: slots, pieces: pieces}, err
	}
	n := node{kind: literal}
	if set := sets[strings.Trim(w, "!?")]; set != nil {
		return node{kind: literal, set: set, suffix: strings.HasPrefix(w, "TELLING") || strings.HasPrefix(w, "PART"), part: strings.HasPrefix(w, "PART"), optional: strings.HasSuffix(w, "?"), sought: strings.HasSuffix(w, "!")}, nil
	}
	if len(w) > 1 {
		w, n.optional = strings.CutSuffix(w, "?")
		w, n.sought = strings.CutSuffix(w, "!")
	}
	if w == `\|` {
		n.words = []string{"|"}
		return n, nil
	}
	n.exact = strings.ToLower(w) != w
	n.words = strings.Split(w, "|")
	return n, nil
}

func compilePieces(w string) (out []piece, err error) {
	for len(w) > 0 {
		at := strings.IndexAny(w, "{*")
		switch {
		case at < 0:
			return append(out, piece{text: w}), nil
		case at > 0:
			out, w = append(out, piece{text: w[:at]}), w[at:]
		case w[0] == '*':
			out, w = append(out, piece{any: true}), w[1:]
		default:
			n := strings.IndexByte(w, '}')
			if n < 0 {
				return nil, fmt.Errorf("a slot is not closed")
			}
			slot := Slot(w[1:n])
			switch slot {
			case Secret, SureSecret, Quoted, Code, Strong, Fierce, Random, User, SureUser, QuotedUser, Name, Surname, Person:
			default:
				return nil, fmt.Errorf("no slot is called %s", slot)
			}
			out, w = append(out, piece{slot: slot}), w[n+1:]
		}
	}
	return out, nil
}

func isWord(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_'
}

func isBlank(c byte) bool { return c == ' ' || c == '\t' }

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

// NewTable compiles phrases. A row that cannot be compiled is an error, and so is one without an example of each kind.
func NewTable(phrases []Phrase, judge Judge) (*Table, error) {
	t := &Table{map[string][]*template{}, map[string][]*template{}, judge}
	for _, p := range phrases {
		if len(p.Yes) == 0 || len(p.No) == 0 {
			return nil, fmt.Errorf("%q: an example is missing", p.Template)
		}
		c, err := compile(p.Template)
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
	for start > 0 && blank-start < 32 && (isWord(b[start-1]) || b[start-1] == '-') {
		start--
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
	for i := 1; i < len(word); i++ {
		if meets(b[start:blank], i) && t.try(t.bySuffix[string(word[i:])], b, start, blank, each) {
			return
		}
	}
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

// token is a word of a line; a text in quotes is one, without them.
type token struct {
	start, end int
	quote      byte
}

// matcher matches one template at one place.
type matcher struct {
	b        []byte
	judge    Judge
	from, to int
	found    []Found
}

func (m *matcher) match(t *template, anchor token) bool {
	word, n := m.b[anchor.start:anchor.end], &t.nodes[t.anchor]
	if !n.fits(word) || n.part && !m.judge.Key(word) {
		return false
	}
	m.found = m.found[:0]
	return m.backward(t.nodes[:t.anchor], anchor) && m.forward(t.nodes[t.anchor+1:], anchor.end)
}

// fits reports whether a word is one of a literal.
func (n *node) fits(word []byte) bool {
	if n.set != nil {
		return n.inSet(word)
	}
	for _, w := range n.words {
		if len(w) != len(word) {
			continue
		}
		if n.exact && string(word) == w || !n.exact && strings.EqualFold(w, string(word)) {
			return true
		}
	}
	return false
}

// inSet reports whether a word is one of the set of a node, or ends with one.
func (n *node) inSet(word []byte) bool {
	lower := bytes.ToLower(word)
	if n.set[string(lower)] {
		return true
	}
	for i := 1; n.suffix && i < len(word); i++ {
		if (word[i-1] == '-' || n.part && meets(word, i)) && n.set[string(lower[i:])] {
			return true
		}
	}
	return false
}

// backward matches nodes from the last to the first before a token.
func (m *matcher) backward(nodes []node, behind token) bool {
	at := behind.start
	for i := len(nodes) - 1; i >= 0; i-- {
		n := &nodes[i]
		switch n.kind {
		case begin:
			return m.begins(at)
		case noArticle:
			tok, ok := m.before(at)
			return !ok || !sets["ARTICLE"][string(bytes.ToLower(bytes.Trim(m.b[tok.start:tok.end], ".,;:()[]\"'")))]
		case lineEnd:
			for at > m.from && isBlank(m.b[at-1]) {
				at--
			}
			if at == m.from || m.b[at-1] != '\n' {
				return false
			}
			if at--; at > m.from && m.b[at-1] == '\r' {
				at--
			}
			continue
		case gap:
			for range maxGap + 1 {
				mark := len(m.found)
				if m.backward(nodes[:i], token{start: at}) {
					return true
				}
				m.found = m.found[:mark]
				tok, ok := m.before(at)
				if !ok {
					return false
				}
				at = tok.start
			}
			return false
		}
		tok, ok := m.before(at)
		fits := ok && m.fitsToken(n, tok)
		if tok.quote != 0 {
			tok.start--
		}
		if n.optional {
			if fits && m.backward(nodes[:i], tok) {
				return true
			}
			continue
		}
		if !fits {
			return false
		}
		at = tok.start
	}
	return true
}

// begins reports whether a message begins at a place, but for opening signs.
func (m *matcher) begins(at int) bool {
	for at > m.from && bytes.IndexByte([]byte("\"'([<-> \t"), m.b[at-1]) >= 0 {
		if m.judge.Begins(m.b, at) {
			return true
		}
		at--
	}
	return m.judge.Begins(m.b, at) || at > m.from && m.b[at-1] == ':'
}

// forward matches nodes from the first to the last from a place on.
func (m *matcher) forward(nodes []node, at int) bool {
	for i := range nodes {
		n := &nodes[i]
		switch n.kind {
		case end:
			rest := at
			for rest < m.to && bytes.IndexByte([]byte(" \t\r.,;!)]}\"'"), m.b[rest]) >= 0 {
				rest++
			}
			return rest == len(m.b) || m.b[rest] == '\n'
		case lineEnd:
			for at < m.to && (isBlank(m.b[at]) || m.b[at] == '\r') {
				at++
			}
			if at >= m.to || m.b[at] != '\n' {
				return false
			}
			at++
			continue
		case gap:
			for range maxGap + 1 {
				mark := len(m.found)
				if m.forward(nodes[i+1:], at) {
					return true
				}
				m.found = m.found[:mark]
				tok, ok := m.after(at)
				if !ok {
					return false
				}
				at = tok.past(m.b)
			}
			return false
		}
		tok, ok := m.after(at)
		fits := ok && m.fitsToken(n, tok)
		if n.optional {
			mark := len(m.found)
			if fits && m.forward(nodes[i+1:], tok.past(m.b)) {
				return true
			}
			m.found = m.found[:mark]
			continue
		}
		if !fits {
			return false
		}
		at = tok.past(m.b)
		if last := n.pieces; n.kind == slots && (last[len(last)-1].slot == Name || last[len(last)-1].slot == Surname || last[len(last)-1].slot == Person) { // it may have grown
			at = max(at, m.found[len(m.found)-1].End)
		}
	}
	return true
}

// past gives the place behind a token and its quote.
func (t token) past(b []byte) int {
	if t.quote != 0 && t.end < len(b) {
		return t.end + 1
	}
	return t.end
}

// after gives the next token of the line.
func (m *matcher) after(at int) (token, bool) { return next(m.b, at, m.to) }

func next(b []byte, at, to int) (token, bool) {
	for at < to && (isBlank(b[at]) || at+1 < to && isBlank(b[at+1]) && bytes.IndexByte([]byte(",;:"), b[at]) >= 0) {
		at++
	}
	if at >= to || b[at] == '\n' || b[at] == '\r' {
		return token{}, false
	}
	if q := b[at]; q == '"' || q == '\'' {
		for i := at + 1; i < to && b[i] != '\n'; i++ {
			if b[i] == q && (i+1 >= len(b) || !isWord(b[i+1])) && i > at+1 {
				if i+1 < to && bytes.IndexByte([]byte(" \t\r\n,;:.)]}|&"), b[i+1]) < 0 { // 'NAME'@'HOST'
					break
				}
				return token{at + 1, i, q}, true
			}
		}
	}
	start := at
	for at < to && !isBlank(b[at]) && b[at] != '\n' && b[at] != '\r' {
		at++
	}
	return token{start, at, 0}, true
}

// before gives the token that ends before a place of the line.
func (m *matcher) before(at int) (token, bool) {
	for at > m.from && isBlank(m.b[at-1]) {
		at--
	}
	if at <= m.from || m.b[at-1] == '\n' {
		return token{}, false
	}
	if q := m.b[at-1]; q == '"' || q == '\'' {
		for i := at - 2; i >= m.from && m.b[i] != '\n'; i-- {
			if m.b[i] == q && (i == m.from || isBlank(m.b[i-1]) || m.b[i-1] == '\n') {
				return token{i + 1, at - 1, q}, true
			}
		}
	}
	last := at
	for at > m.from && !isBlank(m.b[at-1]) && m.b[at-1] != '\n' {
		at--
	}
	return token{at, last, 0}, true
}

// fitsToken reports whether a token is what a node says, and notes what stands in slots.
func (m *matcher) fitsToken(n *node, t token) bool {
	word := m.b[t.start:t.end]
	switch n.kind {
	case anyWord:
		return true
	case number:
		word = bytes.TrimRight(word, ",.;:)")
		return len(word) > 0 && len(bytes.Trim(word, "0123456789")) == 0
	case address:
		return isAddress(bytes.Trim(word, "[](),;'\""))
	case keyWord:
		return m.judge.Key(word)
	case whoWord:
		return m.judge.Who(bytes.Trim(word, "\"'"))
	case literal:
		return n.fits(word) || n.fits(bytes.Trim(word, ".,;:!?()[]\"'<>"))
	}
	return m.fitsPieces(n.pieces, t)
}

// isAddress reports whether a word can be an address or the name of a host: it has digits, dots or colons.
func isAddress(word []byte) bool {
	return len(word) > 2 && bytes.ContainsAny(word, ".:0123456789") && !bytes.ContainsAny(word, "=\"'")
}

// fitsPieces matches the pieces of a word with slots.
func (m *matcher) fitsPieces(pieces []piece, t token) bool {
	at, stop := t.start, t.end
	if last := pieces[len(pieces)-1]; t.quote == 0 && (last.slot != "" || last.any || isWord(last.text[len(last.text)-1])) {
		stop = trimmed(m.b, t)
	}
	if first := pieces[0]; t.quote == 0 && first.slot != "" {
		for at < stop && (bytes.IndexByte([]byte("([<"), m.b[at]) >= 0 && stop < t.end || (m.b[at] == '"' || m.b[at] == '\'') && m.b[stop-1] != m.b[at]) {
			at++
		}
		if stop-at > 2 && (m.b[at] == '"' || m.b[at] == '\'' || m.b[at] == '`') && m.b[stop-1] == m.b[at] && len(pieces) == 1 {
			at, stop = at+1, stop-1
		}
	}
	for i, p := range pieces {
		if p.text != "" {
			if !hasFold(m.b[at:stop], p.text) {
				return false
			}
			at += len(p.text)
			continue
		}
		end := stop
		if i+1 < len(pieces) {
			n := indexFold(m.b[at:stop], pieces[i+1].text)
			if last := i+2 == len(pieces); last { // the rest belongs to it
				if n = stop - at - len(pieces[i+1].text); n < 0 || !hasFold(m.b[at+n:stop], pieces[i+1].text) {
					if n = indexFold(m.b[at:stop], pieces[i+1].text); n >= 0 && bytes.IndexByte([]byte("])>'\"}"), pieces[i+1].text[0]) < 0 {
						n = -1
					}
				}
			}
			if n < 0 {
				return false
			}
			end = at + n
		}
		if p.slot != "" {
			if end == at || (p.slot == User || p.slot == SureUser || p.slot == QuotedUser) && !isName(m.b[at:end]) {
				return false
			}
			f := Found{p.slot, at, end, t.quote != 0 || i == 0 && at > t.start}
			if p.slot == Name || p.slot == Surname || p.slot == Person {
				f.End = judge.WholeName(m.b[:m.to], at, end)
			}
			m.found = append(m.found, f)
		}
		at = end
	}
	return at == stop || len(pieces) > 0 && pieces[len(pieces)-1].text != ""
}

// isName reports whether a value has the signs of names of accounts alone.
func isName(v []byte) bool {
	for _, c := range v {
		if !isWord(c) && c < 0x80 && c != '.' && c != '-' && c != '$' && c != '@' && c != '\\' {
			return false
		}
	}
	return true
}

func hasFold(b []byte, text string) bool {
	return len(b) >= len(text) && strings.EqualFold(string(b[:len(text)]), text)
}

func indexFold(b []byte, text string) int {
	for i := 0; i+len(text) <= len(b); i++ {
		if hasFold(b[i:], text) {
			return i
		}
	}
	return -1
}

// trimmed gives the end of a word without the signs of a sentence behind it, and without brackets and quotes that it does not open.
func trimmed(b []byte, t token) int {
	end := t.end
	for ; end > t.start+1; end-- {
		switch c := b[end-1]; c {
		case ',', ';', '.', ':':
			continue
		case ')', ']', '}', '>', '"', '\'':
			if opener := byte("([{<\"'"[bytes.IndexByte([]byte(")]}>\"'"), c)]); bytes.IndexByte(b[t.start+1:end-1], opener) < 0 &&
				(c == '>' || c == ')' || c == ']' || c == '}' || b[t.start] != opener) {
				continue
			}
		}
		break
	}
	return end
}

// Lines finds what stands in lines of which no word tells: they are tried one by one, and only in short texts.
type Lines struct {
	templates []template
	judge     Judge
}

// NewLines compiles phrases that are whole lines.
func NewLines(phrases []Phrase, judge Judge) (*Lines, error) {
	l := &Lines{judge: judge}
	for _, p := range phrases {
		if len(p.Yes) == 0 || len(p.No) == 0 {
			return nil, fmt.Errorf("%q: an example is missing", p.Template)
		}
		c, err := compile(p.Template)
		if err != nil {
			return nil, err
		}
		l.templates = append(l.templates, c)
	}
	return l, nil
}

// At gives what stands in the slots of the first phrase that fits the line from a place on.
func (l *Lines) At(b []byte, start int, each func(Found)) {
	m := matcher{b: b, judge: l.judge, from: start, to: min(len(b), start+maxLine)}
	for i := range l.templates {
		if m.found = m.found[:0]; m.forward(l.templates[i].nodes, start) && m.give(each) {
			return
		}
	}
}
