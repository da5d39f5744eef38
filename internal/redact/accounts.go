package redact

import (
	"bytes"

	"envask/internal/redact/judge"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// Names of accounts where a secret beside them, the option of a program or the column of a row of SQL tells them.

// add adds what was found aside from the triggers of rules, if it lies behind a place and its rule is on.
func (e *Engine) add(b []byte, from, start, end int, rule string) {
	e.addJudged(b, from, start, end, rule, false)
}

// addJudged adds what was found; sure says that what stands around it is enough for a name.
func (e *Engine) addJudged(b []byte, from, start, end int, rule string, sure bool) {
	r := e.named[rule]
	if r == nil || start < from || start >= end || withinPlaceholder(b, start) || alias.IsAlias(r.Class, b[start:end]) ||
		r.judged && !plausible(b, start, end, r.Class, sure) {
		return
	}
	f := finding{start: start, end: end, trigger: start, class: r.Class, rule: r.Name, by: r}
	if r.Class != alias.Secret {
		f.put = r.known.of(b, start, end)
	}
	e.findings = append(e.findings, f)
}

// addAccount adds the name of an account whose place tells what it is. One of a service, or an everyday word, goes where it stands.
func (e *Engine) addAccount(b []byte, from, start, end int) {
	n := len(e.findings)
	if e.addJudged(b, from, start, end, logUserRule, true); len(e.findings) > n {
		e.findings[n].weak = !find.IsLoginWord(b[start:end])
	}
}

// findBeside adds what stands beside the finds of rules from a place on.
func (e *Engine) findBeside(b []byte, from int) {
	for i, n := 0, len(e.findings); i < n; i++ {
		f := e.findings[i]
		if f.by.beside == nil {
			continue
		}
		beside := len(e.findings)
		f.by.beside(e, b, from, f.start, f.end)
		for k := range e.findings[beside:] {
			e.findings[beside+k].trigger = f.trigger // the same gave it away
		}
	}
}

// companionsOf are the rules of which a find tells the accounts beside it: what it is surely belongs to somebody.
var companionsOf = map[string]bool{keyedSecretRule: true, wordedSecretRule: true, passwordOptionRule: true, passwordHashRule: true}

// findCompanions adds the accounts that stand beside secrets, in their lines and blocks. Where both are in texts within others, the engine
// of these has looked already.
func (e *Engine) findCompanions(b []byte, from int) {
	if e.named[userRule] == nil {
		return
	}
	for i, n := 0, len(e.findings); i < n; i++ {
		if f := &e.findings[i]; f.by != nil && !f.weak && f.class == alias.Secret && companionsOf[f.rule] {
			e.findBesideSecret(b, from, *f)
		}
	}
}

// findBesideSecret adds the accounts that stand beside a secret.
func (e *Engine) findBesideSecret(b []byte, from int, f finding) {
	inText := e.texts.readsAlone(f.start)
	find.Companions(b, f.start, f.end, f.rule == passwordHashRule, func(start, end int, what find.Companion) {
		if inText && e.texts.readsAlone(start) {
			return
		}
		rule := logUserRule
		if what == find.SecretOfOne {
			rule = keyedSecretRule
		}
		k := len(e.findings)
		if e.addJudged(b, from, start, end, rule, true); len(e.findings) > k {
			e.findings[k].trigger = min(f.trigger, start)
			e.findings[k].weak = what != find.SecretOfOne && find.IsEveryday(bytes.ToLower(b[start:end]))
		}
	})
}

// nameBeside makes of what finds a name beside a find what adds it, if it is one.
func nameBeside(of func(b []byte, start, end int) (from, to int)) func(e *Engine, b []byte, from, start, end int) {
	return func(e *Engine, b []byte, from, start, end int) {
		if start <= from {
			return
		}
		if start, end = of(b, start, end); start < end && find.IsPerson(b[start:end]) &&
			(find.IsAccountWord(b[start:end]) || bytes.IndexByte(b[start:end], '_') > 0 && !chars.IsUpper(b[start])) {
			e.addAccount(b, from, start, end)
		}
	}
}

// besideAddress adds the account that stands beside an address.
func besideAddress(e *Engine, b []byte, from, start, end int) {
	nameOfTunnel(e, b, from, start, end)
	if at, to := find.AccountBesideAddress(b, start, end); at < to {
		n := len(e.findings)
		if e.addJudged(b, from, at, to, logUserRule, true); len(e.findings) > n {
			e.findings[n].weak = true
		}
	}
}

var nameOfTunnel = nameBeside(find.NameOfTunnel)

// accountOfURL adds the account to which the secret of a URL is joined. Databases and brokers are mostly reached under the name of a
// program, which stands everywhere in its logs: such a name goes where it stands, and teaches nothing.
func accountOfURL(e *Engine, b []byte, from, start, stop int) {
	if start <= from {
		return
	}
	name, end := find.NameJoined(b, start, 0)
	if name == end || !find.IsPerson(b[name:end]) || find.PlaceholderBefore(b, name) {
		return
	}
	if b[end] == '/' && bytes.IndexByte(chars.LineFrom(b[:min(len(b), stop+1)], stop), '@') != 0 { // the way to a web hook
		return
	}
	program := b[end] == '/' || name > 0 && b[name-1] == '/' && !find.ForPeople(b[:name]) && bytes.IndexByte(b[name:end], '.') < 0
	n := len(e.findings)
	if e.addJudged(b, from, name, end, logUserRule, true); len(e.findings) > n && (program || !find.IsLoginWord(b[name:end])) {
		e.findings[n].weak = true
	}
}

// besideName adds what stands beside a name from start to end.
func besideName(e *Engine, b []byte, from, start, end int) {
	if start <= from || end+1 >= len(b) {
		return
	}
	switch {
	case b[end] == '[' && bytes.HasPrefix(b[end+1:], b[start:end]): // NAME[NAME], as logs of slow queries have it
		if again := end + 1; chars.NameAt(b, again) == again+end-start {
			e.add(b, from, again, again+end-start, logUserRule)
		}
	case b[start-1] == ' ' && (b[end] == ' ' || b[end] == '@') &&
		chars.IsOneOf([]byte(chars.FirstWord(b[chars.LineStart(b, start):start])), "AllowUsers", "DenyUsers"):
		e.addListed(b, from, end)
	case b[start-1] == ':' && b[end] == ',' && bytes.IndexByte(b[start:end], ' ') > 0:
		e.addPhones(b, from, end)
	case b[start-1] == ':' && b[end] == ',':
		e.addMembers(b, from, end)
	case b[start-1] == '[' && b[end] == '/':
		e.addIncorrect(b, from, start, end)
	case b[end] == ' ' && b[end+1] == '(' && bytes.IndexByte(b[start:end], ' ') < 0:
		e.addFullName(b, from, end+2)
	}
}

// addListed adds the further names of a line of a server's settings.
func (e *Engine) addListed(b []byte, from, end int) {
	for _, w := range find.WordsFrom(b, end) {
		if to := chars.NameAt(b, w[0]); find.IsPerson(b[w[0]:to]) && (to == w[1] || b[to] == '@') {
			e.add(b, from, w[0], to, logUserRule)
		}
	}
}

// addIncorrect adds the secret of Login incorrect: [NAME/SECRET], of servers for dial-in.
func (e *Engine) addIncorrect(b []byte, from, start, end int) {
	secret, _, closed := bytes.Cut(chars.LineFrom(b[:min(len(b), end+chars.MaxPair)], end+1), []byte("]"))
	if closed && find.IsValue(secret) && secret[0] != '<' && secret[0] != '[' &&
		bytes.Contains(b[chars.LineStart(b, start):start], []byte("Login ")) {
		e.add(b, from, end+1, end+1+len(secret), keyedSecretRule)
	}
}

// addFullName adds the whole name of somebody in the parentheses behind the name of the account: NAME (First Last).
func (e *Engine) addFullName(b []byte, from, at int) {
	if at >= len(b) || !chars.IsUpper(b[at]) {
		return
	}
	if end := find.MoreNames(b, at, chars.NameAt(b, at)); end < len(b) && b[end] == ')' && bytes.IndexByte(b[at:end], ' ') > 0 {
		e.add(b, from, at, end, logUserRule)
	}
}

// secretBehindUser adds the secret that a colon joins to the name of a user: user=NAME:SECRET.
func secretBehindUser(e *Engine, b []byte, from, start, end int) {
	if end+1 >= len(b) || b[end] != ':' || b[start-1] != '=' {
		return
	}
	to := end + 1
	for to < len(b) && to-end < chars.MaxPair && b[to] > ' ' && bytes.IndexByte([]byte(",;\"'&)]}"), b[to]) < 0 {
		to++
	}
	r, secret := e.named[keyedSecretRule], b[end+1:to]
	switch {
	case r == nil || end < from || len(secret) < 4:
	case isUnusual(secret):
		e.add(b, from, end+1, to, keyedSecretRule)
	case find.IsValue(secret) && bytes.HasPrefix(secret, []byte("0x")) && len(secret) > 18: // a key in hex
		e.findings = append(e.findings, finding{start: end + 1, end: to, trigger: start, class: r.Class, rule: r.Name, by: r})
	}
}

// addMembers adds the further names of a list that goes to the end of its line, as in /etc/group.
func (e *Engine) addMembers(b []byte, from, at int) {
	for at < len(b) && b[at] == ',' {
		end := chars.NameAt(b, at+1)
		if find.IsPerson(b[at+1 : end]) {
			e.add(b, from, at+1, end, logUserRule)
		}
		at = end
	}
}

// addPhones adds the telephone numbers behind the full name of somebody in the list of accounts: First Last,office,020 7946 0123:.
func (e *Engine) addPhones(b []byte, from, at int) {
	rest, _, ok := bytes.Cut(chars.LineFrom(b[:min(len(b), at+chars.MaxPair)], at), []byte(":"))
	if !ok {
		return
	}
	for part := range bytes.SplitSeq(rest[1:], []byte(",")) {
		if at++; len(chars.OnlyDigits(string(part))) >= minPhone && len(bytes.Trim(part, "0123456789+ ()-./")) == 0 {
			e.add(b, from, at, at+len(part), phoneRule)
		}
		at += len(part)
	}
}

// plausible reports whether what was found can be what its place says.
func plausible(b []byte, start, end int, class alias.Class, sure bool) bool {
	near := max(0, start-maxAround)
	p := judge.Place{Before: b[near+chars.LineStart(b[near:], start-near) : start], Text: b[start:end],
		After: b[end:min(len(b), end+maxAround)], Sure: sure}
	if n := bytes.IndexByte(p.After, '\n'); n >= 0 {
		p.After = p.After[:n]
	}
	if class == alias.Secret {
		return p.Secret()
	}
	return p.Person()
}

// maxAround bounds how much of a line is looked at on each side of a find, in bytes.
const maxAround = 160

// besideMAC adds the sender of a frame behind its receiver.
func besideMAC(e *Engine, b []byte, from, start, end int) {
	if find.BeginsFrame(b, start) {
		e.add(b, from, end+1, end+18, "mac")
	}
}
