package scan

import (
	"bytes"
	"slices"
	"strings"
	"sync"
)

// Tables are what gates share: they are made of words once, when the first gate is made, and used by many goroutines.
type Tables struct {
	anchors []map[string]bool
	endings map[string]bool
	words   func() *announced
	base    func() *sieve

	mu   sync.Mutex // of the sieve of the site that was worked for last: there are many engines, and few sites
	key  string
	site *sieve
}

// NewTables makes tables. Anchors are the words behind which, with a space between, something may stand; endings, those that end a longer
// word behind a dash.
func NewTables(endings map[string]bool, anchors ...map[string]bool) *Tables {
	t := &Tables{anchors: anchors, endings: endings}
	t.words = sync.OnceValue(func() *announced { return &announced{hashesOf(anchors...), hashesOf(endings)} })
	t.base = sync.OnceValue(func() *sieve { return newSieve(t.spaceContexts(), otherContexts(), []byte(keySigns)) })
	return t
}

// announced are hashes of the words behind which something may stand, and of those that end a longer one behind a dash.
type announced struct{ words, endings *[1 << 14]bool }

// sieveFor gives the sieve for some triggers, and for the domains of a site.
func (t *Tables) sieveFor(triggers string, domains []string) *sieve {
	signs := []byte(keySigns)
	for _, c := range []byte(triggers) {
		if strings.IndexByte(otherSigns+" ", c) < 0 && bytes.IndexByte(signs, c) < 0 {
			signs = append(signs, c)
		}
	}
	if len(signs) == len(keySigns) && len(domains) == 0 {
		return t.base()
	}
	key := string(signs) + " " + strings.Join(domains, " ")
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.key != key {
		families := slices.Clone(otherContexts())
		dots := &families[len(families)-1] // domains are there
		for _, d := range domains {
			first := bothCases(d[0])
			first[d[0]|0x20], first[d[0]&^0x20] = true, true
			dots.contexts = append(slices.Clip(dots.contexts), at(".", first)...)
		}
		t.key, t.site = key, newSieve(t.spaceContexts(), families, signs)
	}
	return t.site
}
