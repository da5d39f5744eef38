package redact

import (
	"bytes"
	"slices"
	"strconv"

	"envask/internal/redact/chars"
	"envask/internal/redact/fact"
	"envask/internal/redact/find"
	"envask/internal/redact/judge"
)

// What documents say by their structure: a value below its key, one that stands beside its name, or within a block of that name. The
// tokenizers read them into facts, tables of keys say what a fact is about, and the value is judged.

// findFacts adds what the facts of a block give away behind a place, where the block looks like a document.
func (e *Engine) findFacts(b []byte, from int) {
	if e.named[keyedSecretRule] == nil && e.named[userRule] == nil {
		return
	}
	if e.segments == nil {
		e.factsIn(b, documentStart(b, from), from, len(b))
		return
	}
	for _, s := range e.segments {
		if first := b[s.start]; first == '{' || first == '[' || first == '<' || first == '"' ||
			bytes.IndexByte(b[s.start:max(s.start, s.end-2)], '\n') >= 0 {
			e.factsIn(b, s.start, max(from, s.start), s.end)
		}
	}
}

// factsIn reads one document, from its start on, and adds what is behind a place.
func (e *Engine) factsIn(b []byte, start, from, end int) {
	text := b[start:end]
	for i := range fact.Notations {
		n := &fact.Notations[i]
		if !n.Looks(text) {
			continue
		}
		n.Read(text, func(o *fact.Object) { e.factsOf(b, start, from, o) })
		return
	}
}

// documentStart gives where reading begins: some lines before what is new, since a value may have its key there.
func documentStart(b []byte, from int) int {
	if from == 0 {
		return 0
	}
	at := max(0, from-find.LookBehind)
	if n := bytes.IndexByte(b[at:from], '\n'); n >= 0 {
		return at + n + 1
	}
	return from
}

// nameKeys stand over the name of something whose value stands beside it, and valueKeys over that value.
var (
	nameKeys = chars.WordSet("name key field label id attribute property option parameter setting variable title param dt th " +
		"td header display")
	valueKeys = chars.WordSet("value val content contents text data string default dd td current plain body constant")
)

// factClass is what a key of a document is about.
type factClass uint8

const (
	aboutNothing factClass = iota
	aboutSecret
	aboutPerson
	aboutNamed // a person, or a thing, as the value looks
)

// containers hold nothing but secrets, whatever each is called.
var containers = chars.WordSet("secrets tokens passwords credentials api_tokens apikeys api_keys " +
	"github-oauth gitlab-oauth gitlab-token bitbucket-oauth")

// lastPart gives the last word of a key, in small letters: value of ParameterValue.
func lastPart(key []byte) string {
	parts := judge.Parts(key)
	if len(parts) == 0 {
		return ""
	}
	return string(bytes.ToLower(parts[len(parts)-1]))
}

// mostKeyFacts bounds how many keys are remembered.
const mostKeyFacts = 4096

// keyFactOf gives what a key says.
func (e *Engine) keyFactOf(key []byte) keyFact {
	if f, ok := e.keyFacts[string(key)]; ok {
		return f
	}
	last := lastPart(key)
	f := keyFact{class: classOfKey(key), name: nameKeys.Has(last), value: last == "value" || valueKeys.Has(last) && len(last) == len(key)}
	if f.class == aboutNothing && !f.name && !f.value {
		switch kind := find.KindOf(key); {
		case kind&find.KeyWeak != 0:
			f.weak = true
		case kind&find.KeyPhone != 0:
			f.phone = true
		case kind&find.KeyDocument != 0:
			f.paper = true
		}
	}
	if e.keyFacts == nil || len(e.keyFacts) >= mostKeyFacts {
		e.keyFacts = map[string]keyFact{}
	}
	if len(key) <= chars.MaxKey {
		e.keyFacts[string(key)] = f
	}
	return f
}

// classOfKey gives what a key announces by itself.
func classOfKey(key []byte) factClass {
	switch kind := find.KindOf(key); {
	case kind&find.KeySecret != 0:
		return aboutSecret
	case kind&find.KeyUser != 0:
		return aboutPerson
	case kind&find.KeyPart != 0 && find.NamesWhole(key):
		return aboutNamed
	}
	return aboutNothing
}

// classOf gives the class that the key of a member tells, or else what stands beside it.
func (e *Engine) classOf(text []byte, o *fact.Object, i int, key keyFact) factClass {
	m := o.Members[i]
	switch {
	case key.class != aboutNothing && !beside(text, m):
		return key.class
	case key.class == aboutNothing && (m.Key.Empty() || key.value):
		return e.classBeside(text, o, i)
	}
	return aboutNothing
}

// factsOf looks at the members of one object.
func (e *Engine) factsOf(b []byte, start, from int, o *fact.Object) {
	text := b[start:]
	contained := len(o.Path) > 0 && chars.HasWord(containers, o.Path[len(o.Path)-1].Of(text))
	account := accountBeside(e, text, o)
	sealed := len(o.Path) == 1 && isSecretOfCluster(text, o.Path[0])
	for i, m := range o.Members {
		if m.Value.Empty() || start+m.Value.Start < from {
			continue
		}
		key := e.keyFactOf(m.Key.Of(text))
		class := e.classOf(text, o, i, key)
		if class == aboutNothing && (sealed || contained && find.Shaped(string(m.Value.Of(text)))) {
			class = aboutSecret
		}
		v := m.Value.Of(text)
		if class == aboutNothing && i == account && find.IsPerson(v) && find.IsLoginWord(v) {
			e.add(b, from, start+m.Value.Start, start+m.Value.End, logUserRule)
		}
		switch {
		case class != aboutNothing || beside(text, m):
		case key.weak && find.LooksRandom(v):
			class = aboutSecret
		case key.phone && chars.OnlyDigits(string(v)) != "" && len(chars.OnlyDigits(string(v))) >= minPhone:
			e.add(b, from, start+m.Value.Start, start+m.Value.End, phoneRule)
		case key.paper && find.IsDocumentNumber(v):
			e.add(b, from, start+m.Value.Start, start+m.Value.End, documentRule)
		}
		if class.takes(v) {
			e.addFact(b, start, m, class.rule())
		}
	}
}

// takes reports whether a value can be what its key is about.
func (c factClass) takes(v []byte) bool {
	switch c {
	case aboutPerson:
		return find.IsPerson(v)
	case aboutNamed:
		return find.LooksPersonal(v) && find.IsPerson(v)
	}
	return c == aboutSecret
}

// rule gives the name of the rule that a find of the class belongs to.
func (c factClass) rule() string {
	if c == aboutSecret {
		return keyedSecretRule
	}
	return userRule
}

// accountBeside gives the member of an object that is the name of whose password stands beside it, or -1: {"name": "itostrund",
// "password": …}.
func accountBeside(e *Engine, text []byte, o *fact.Object) int {
	name, secret := -1, false
	for i, m := range o.Members {
		switch key := m.Key.Of(text); {
		case string(key) == "name":
			name = i
		case string(key) == "password" || string(key) == "passwd":
			secret = true
		}
	}
	if !secret {
		return -1
	}
	return name
}

// isSecretOfCluster reports whether a key holds what a resource of the kind Secret keeps (Kubernetes API, core/v1): whatever its keys are.
func isSecretOfCluster(text []byte, key fact.Span) bool {
	if name := string(key.Of(text)); name != "data" && name != "stringData" {
		return false
	}
	from := bytes.LastIndex(text[:key.Start], []byte("\n---")) + 1
	to := len(text)
	if n := bytes.Index(text[key.End:], []byte("\n---")); n >= 0 {
		to = key.End + n
	}
	for _, kind := range []string{"kind: Secret", `"kind": "Secret"`, `"kind":"Secret"`} {
		if bytes.Contains(text[from:to], []byte(kind)) {
			return true
		}
	}
	return false
}

// beside reports whether a value stands right behind its key on its line, where the rules of keys read it.
func beside(text []byte, m fact.Member) bool {
	if m.Key.Empty() || m.Key.End > m.Value.Start {
		return false
	}
	between := text[m.Key.End:m.Value.Start]
	return bytes.IndexByte(between, '\n') < 0 && !bytes.ContainsAny(between, "&!")
}

// classBeside gives what a value is about whose own key says nothing: by the name that stands beside it, or by what it stands in.
func (e *Engine) classBeside(text []byte, o *fact.Object, i int) factClass {
	self := o.Members[i]
	for k, m := range o.Members {
		if k == i || m.Key.Empty() || !e.keyFactOf(m.Key.Of(text)).name {
			continue
		}
		if same := bytes.EqualFold(m.Key.Of(text), self.Key.Of(text)); same && (k+1 != i || len(o.Members) != 2) {
			continue // cells of a row: the name and its value alone
		}
		if class := classOfKey(bytes.TrimRight(m.Value.Of(text), ":")); class != aboutNothing {
			return class
		}
	}
	if n := len(o.Path); n > 0 && len(o.Members) <= 8 && !self.Key.Empty() {
		return e.keyFactOf(o.Path[n-1].Of(text)).class
	}
	return aboutNothing
}

// addFact adds a value that its place gives away, if it can be what that says, and nothing of it was found already.
func (e *Engine) addFact(b []byte, start int, m fact.Member, rule string) {
	from, to := start+m.Value.Start, start+m.Value.End
	v := b[from:to]
	if !find.IsValue(v) || len(v) > MaxLearned || find.IsAliasWord(v[bytes.LastIndexAny(v, `\@`)+1:]) || holdsPlaceholder(v) ||
		rule == keyedSecretRule && !secretByFact(v, m.Quote) {
		return
	}
	if !slices.ContainsFunc(e.findings, func(f finding) bool { return f.start < to && f.end > from }) {
		e.add(b, from, from, to, rule)
	}
}

// secretByFact reports whether a value under a telling key can be a secret, by itself.
func secretByFact(v []byte, quote byte) bool {
	if _, err := strconv.ParseFloat(string(v), 64); err == nil && quote == 0 && !chars.IsAllDigits(v) {
		return false
	}
	switch {
	case len(v) < 4, chars.AllDigits(string(v)) && len(v) < 4, bytes.HasPrefix(v, []byte("/")), bytes.HasPrefix(v,
		[]byte("$")), judge.Format(v):
		return false
	case bytes.Contains(v, []byte("://")) && bytes.IndexByte(v, '@') < 0:
		return false
	case quote == 0 && bytes.IndexByte(v, ' ') >= 0 && bytes.IndexByte(v, '\n') < 0:
		return false
	}
	return bytes.IndexByte(v, '\n') < 0
}
