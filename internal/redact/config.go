package redact

import (
	"bytes"
	"regexp/syntax"

	"envask/internal/redact/alias"
	"envask/internal/redact/find"
)

// The treatments. Secrets are removed, identities get aliases, unless a policy says otherwise.
const (
	AsAlias Treatment = iota + 1
	Remove
	Keep
)

// ParseTreatment reads the word for a treatment.
func ParseTreatment(word string) (Treatment, bool) {
	t, ok := map[string]Treatment{"alias": AsAlias, "remove": Remove, "keep": Keep}[word]
	return t, ok
}

// SiteHostRule is the rule of host names of the site.
const SiteHostRule = "site-host"

// RuleNames lists the rules of the table, and those that a policy makes.
func RuleNames() []string {
	var out []string
	for _, r := range Rules {
		out = append(out, r.Name)
	}
	return append(out, SiteHostRule, LiteralRule, HeldRule)
}

// rules gives the table that the configuration leads to.
func (c Config) rules() []Rule {
	var out []Rule
	for _, e := range c.Expressions {
		out = append(out, Rule{Name: e.Name, Class: e.Class, Next: e.next()})
	}
	for _, r := range Rules {
		if !c.Off[r.Name] && c.Classes[r.Class] != Keep {
			out = append(out, r)
		}
		if r.Name == "host" && len(c.Domains) > 0 && !c.Off[SiteHostRule] && c.Classes[alias.Host] != Keep {
			out = append(out, Rule{Name: SiteHostRule, Class: alias.Host, Triggers: ".", Find: find.DomainFinder(c.Domains)})
		}
	}
	return out
}

// Keeps says whether a value stays because its class or rule does.
func (c Config) Keeps(class alias.Class, rule string) bool {
	return c.Classes[class] == Keep || c.Off[rule]
}

// next gives the search for an expression. Where every text that fits must hold some letters in a row, only the lines that
// hold them are matched.
func (x Expression) next() func(b []byte, from int) (int, int, bool) {
	literal := []byte(needed(x.Match.String()))
	return func(b []byte, from int) (int, int, bool) {
		for at := from; at < len(b); {
			if len(literal) > 0 {
				n := bytes.Index(b[at:], literal)
				if n < 0 {
					return 0, 0, false
				}
				at = max(at, max(from, bytes.LastIndexByte(b[:at+n], '\n')+1))
			}
			end := len(b)
			if n := bytes.IndexByte(b[at:], '\n'); n >= 0 {
				end = at + n
			}
			for m := at; m < end; {
				loc := x.Match.FindIndex(b[m:end])
				if loc == nil {
					break
				}
				if text := b[m+loc[0] : m+loc[1]]; loc[1] > loc[0] && !bytes.Contains(text, find.PlaceholderHead) &&
					!alias.IsAlias(x.Class, text) {
					return m + loc[0], m + loc[1], true
				}
				m += max(loc[1], loc[0]+1)
			}
			at = end + 1
		}
		return 0, 0, false
	}
}

// needed gives the longest run of letters that every text must hold that fits an expression, or "".
func needed(expr string) string {
	re, err := syntax.Parse(expr, syntax.Perl)
	if err != nil {
		return ""
	}
	return longestLiteral(re.Simplify())
}

func longestLiteral(re *syntax.Regexp) string {
	switch re.Op {
	case syntax.OpLiteral:
		if re.Flags&syntax.FoldCase == 0 {
			return string(re.Rune)
		}
	case syntax.OpConcat:
		best := ""
		for _, sub := range re.Sub {
			if l := longestLiteral(sub); len(l) > len(best) {
				best = l
			}
		}
		return best
	case syntax.OpCapture, syntax.OpPlus:
		return longestLiteral(re.Sub[0])
	}
	return ""
}

// Identities gives the identities of a table as learned values, for what the rules do not find by themselves any more. Classes of which the
// configuration keeps anything are left out.
func (c Config) Identities(t *alias.Table) []alias.Value {
	rules := map[alias.Class]string{}
	for _, r := range Rules {
		if rules[r.Class] == "" {
			rules[r.Class] = r.Name
		}
	}
	for _, r := range Rules {
		if c.Keeps(r.Class, r.Name) {
			delete(rules, r.Class)
		}
	}
	return t.Identities(rules)
}
