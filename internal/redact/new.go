package redact

import (
	"sync"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/form"
	"envask/internal/redact/scan"
)

// NewEngine makes an engine.
func NewEngine(o Options) *Engine {
	e := &Engine{rules: o.Config.rules(), matcher: o.Matcher, learned: o.Learned, aliases: o.Aliases, cache: map[alias.Class]*known{},
		ignore: map[string]bool{}, another: NewEngine, named: map[string]*Rule{},
		options: o}
	if e.aliases == nil {
		e.aliases = alias.NewTable()
	}
	for _, k := range append(append([]string{}, o.Keep...), o.Config.Never...) {
		e.ignore[k] = true
	}
	for _, c := range Classes {
		e.cache[c] = &known{all: map[string]string{}}
	}
	needs := scan.Needs{Domains: o.Config.Domains}
	for i := range e.rules {
		r := &e.rules[i]
		r.known = e.cache[r.Class]
		e.named[r.Name] = r
		if r.Next != nil {
			e.nexts, needs.Numbers = append(e.nexts, r), append(needs.Numbers, r.sparse)
		}
		for _, c := range []byte(r.Triggers) {
			e.table[c] = append(e.table[c], r)
		}
		needs.Triggers += r.Triggers
	}
	e.opener = form.NewOpener(worker{e}, o.TempDir)
	e.gate = scanTables().New(needs, &e.texts)
	for _, r := range e.table['.'] { // neither most tokens nor a private domain have a dot between digits
		if e.gate.DigitDomain() || r.Name != serviceTokenRule && r.Name != "host" {
			e.betweenDigits = append(e.betweenDigits, r)
		}
	}
	return e
}

// scanTables are made with the first engine: a program that only prints its help does not wait for them.
var scanTables = sync.OnceValue(func() *scan.Tables {
	heads := chars.WordSet("uid owner user login " + webLogUser) // of tables
	return scan.NewTables(phraseTable().Endings(), phraseTable().Anchors(), programTable().Anchors(), heads.All())
})
