package redact

import (
	"sync"

	"envask/internal/redact/phrase"
)

// What phrases give away, see package phrase.

// phraseTable is compiled when it is first needed.
var phraseTable = sync.OnceValue(func() *phrase.Table {
	t, err := phrase.NewTable(append(append([]phrase.Phrase{}, phrase.Secrets...), phrase.People...), beginsLine, fitsSlot)
	if err != nil {
		panic(err) // a test compiles each row
	}
	return t
})

// beginsLine reports whether a line, or the message in it, begins at a place.
func beginsLine(b []byte, at int) bool { return beginsMessage(b, at) }

// fitsSlot reports whether a value can be what its slot says.
func fitsSlot(b []byte, f phrase.Found) bool {
	v := b[f.Start:f.End]
	if holdsPlaceholder(v) {
		return false
	}
	switch f.Slot {
	case phrase.SureSecret:
		return isValue(v) && len(v) >= 3
	case phrase.Secret:
		return isValue(v) && looksChosen(v)
	case phrase.User:
		return isPerson(v) && isLoginWord(v)
	case phrase.SureUser:
		return isPerson(v) && nameAt(b, f.Start) == f.End
	}
	return isUpper(v[0]) && isPerson(v) && (isGivenName(v) || isUncommonName(v) || looksPersonal(v))
}

// findPhrases adds what the phrases around a word before a blank give away.
func (e *Engine) findPhrases(b []byte, from, blank int) {
	phraseTable().At(b, blank, func(f phrase.Found) {
		rule := logUserRule
		if f.Slot == phrase.Secret || f.Slot == phrase.SureSecret {
			rule = wordedSecretRule
		}
		e.phrased = append(e.phrased, phrased{f.Start, f.End, rule, blank})
	})
}

// phrased is a find of a phrase, which is added when the rules are through.
type phrased struct {
	start, end int
	rule       string
	trigger    int
}

// addPhrased adds what phrases gave away.
func (e *Engine) addPhrased(b []byte, from int) {
	for _, p := range e.phrased {
		n := len(e.findings)
		if e.add(b, from, p.start, p.end, p.rule); len(e.findings) > n {
			e.findings[n].trigger = p.trigger
		}
	}
}
