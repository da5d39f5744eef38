package flow

import (
	"regexp"
	"strings"
	"sync"

	"envask/internal/redact"
)

// The vendor reads neither our flags nor our files, and must not read whose account we log in with: reasons lose both before they go.

// advice is a part of a reason that tells the engineer what to do.
var advice = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(^|; )check that |(^|\s)--[a-z]|\benvask [a-z]|systems file|credentials\.yaml|--allow-path`)
})

// vendorText gives the texts of an archive: redacted, without advice for the engineer and without the accounts of the systems file.
type vendorText struct {
	e        *redact.Engine
	table    *redact.Table
	accounts map[string]*regexp.Regexp // of each system
	names    map[string]string
}

func (r *ruleset) vendorText(e *redact.Engine) *vendorText {
	v := &vendorText{e: e, table: r.table, accounts: map[string]*regexp.Regexp{}, names: map[string]string{}}
	if s, err := LoadSite(r.c.Systems); err == nil { // a broken systems file does not keep a round from being packed
		for _, sys := range s.Systems {
			if name := sys.SSH.User; name != "" {
				v.accounts[sys.Name], v.names[sys.Name] = regexp.MustCompile(`\b`+regexp.QuoteMeta(name)+`\b`), name
			}
		}
	}
	return v
}

// reason gives a reason as the vendor may read it.
func (v *vendorText) reason(system, text string) string {
	if advice().MatchString(text) {
		var parts []string
		for _, part := range strings.Split(text, "; ") {
			if !advice().MatchString(part) {
				parts = append(parts, part)
			}
		}
		text = strings.Join(parts, "; ")
	}
	if account := v.accounts[system]; account != nil && account.MatchString(text) {
		text = account.ReplaceAllLiteralString(text, v.table.Alias(redact.User, v.names[system]))
	}
	return v.e.String(text)
}
