package learn

import (
	"maps"
	"slices"
	"strings"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
	"envask/internal/redact/judge"
	"envask/internal/redact/lexicon"
)

// What follows from names that were found: other ways to write the name of somebody, the accounts that are mostly made of it, and the first
// part of a host's name. None of them need stand anywhere; what does is the same person or host.

// derivedRule is the rule for which what follows from a name counts that teaches nothing by itself.
const derivedRule = "log-user"

// mostHosts bounds of how many hosts short names are derived, as alias.MostPeople bounds the people, so that a list of a hundred thousand
// passengers does not make a million values: beyond them nothing is.
const mostHosts = 20_000

// The least lengths of what is derived, in bytes: what is shorter would hit by chance (chan of C. Han).
const (
	minAccount   = 5
	minInitialed = 6 // of a given name and one letter: marekz
	minShortHost = 5
)

// Everything gives what was learned with all that follows from it; and what needs an alias before anything is replaced.
func (l *Set) Everything() (all, first []alias.Value) {
	values := l.Values()
	derived, before := l.Derived()
	return slices.Concat(values, derived), slices.Concat(values, before)
}

// Derived gives what follows from the names that were learned, sorted by text; and what needs an alias before all that: identities that
// were named only, and what may be of several people or hosts, which has one of its own.
func (l *Set) Derived() (all, first []alias.Value) {
	people, hosts := l.sources()
	l.mu.Lock()
	defer l.mu.Unlock()
	first = slices.Collect(maps.Keys(l.named))
	of := map[string]string{} // whose each is, "" where several
	add := func(text, source string, v *alias.Value) {
		if _, known := l.values[text]; known || l.common[strings.ToLower(text)] {
			return
		}
		switch before, again := of[text]; {
		case !again:
			of[text] = source
			all = append(all, alias.Value{Text: text, Class: v.Class, Rule: v.Rule})
		case before != source && before != "":
			of[text] = ""
			first = append(first, alias.Value{Text: text, Class: v.Class, Rule: v.Rule})
		}
	}
	for i := range people {
		whose := alias.OneForm(alias.User, people[i].Text)
		for _, form := range writtenOtherwise(people[i].Text) {
			add(form, whose, &people[i])
		}
		for _, account := range accountsOf(people[i].Text) {
			add(account, whose, &people[i])
			add(strings.ToUpper(account), whose, &people[i])
		}
	}
	for i := range hosts {
		if short, ok := shortHost(hosts[i].Text); ok {
			whose := alias.OneForm(alias.Host, hosts[i].Text)
			add(short, whose, &hosts[i])
			add(strings.ToUpper(short), whose, &hosts[i])
		}
	}
	slices.SortFunc(all, func(a, b alias.Value) int { return strings.Compare(a.Text, b.Text) })
	return all, first
}

// sources gives the people and the hosts among what was learned, and the people who were named only, sorted by text.
func (l *Set) sources() (people, hosts []alias.Value) {
	for _, v := range l.Values() {
		switch {
		case v.Class == alias.User && strings.IndexByte(v.Text, ' ') > 0:
			people = append(people, v)
		case v.Class == alias.Host && strings.IndexByte(v.Text, '.') > 0:
			hosts = append(hosts, v)
		}
	}
	l.mu.Lock()
	for v := range l.named {
		if _, learned := l.values[v.Text]; !learned && v.Class == alias.User && isWholeName(v.Text) {
			people = append(people, alias.Value{Text: v.Text, Class: alias.User, Rule: derivedRule})
		}
	}
	l.mu.Unlock()
	slices.SortFunc(people, func(a, b alias.Value) int { return strings.Compare(a.Text, b.Text) })
	if len(people) > alias.MostPeople {
		people = nil
	}
	if len(hosts) > mostHosts {
		hosts = nil
	}
	return people, hosts
}

// writtenOtherwise gives the other ways to write a name: Zielonka, Marek; ZIELONKA Marek; M. Zielonka.
func writtenOtherwise(name string) []string {
	given, surname, ok := alias.PartsOf(name)
	if !ok {
		return nil
	}
	given, surname = asName(given), asName(surname)
	upper := strings.ToUpper(surname)
	forms := []string{given + " " + surname, surname + ", " + given, surname + " " + given, surname + "," + given, given + " " + upper,
		upper + ", " + given, upper + " " + given, strings.ToUpper(given) + " " + upper, upper + " " + strings.ToUpper(given),
		upper + ", " + strings.ToUpper(given)}
	if !find.IsEveryday([]byte(strings.ToLower(given))) && !find.IsEveryday([]byte(strings.ToLower(surname))) {
		forms = append(forms, strings.ToLower(given+" "+surname))
	}
	if len(surname) >= minAccount {
		initial := string([]rune(given)[:1])
		forms = append(forms, initial+". "+surname, initial+"."+surname, surname+", "+initial+".", surname+" "+initial+".")
	}
	return slices.DeleteFunc(forms, func(f string) bool { return f == name })
}

// asName writes a name that stands in capitals or small letters as names are.
func asName(name string) string {
	if name != strings.ToUpper(name) && name != strings.ToLower(name) {
		return name
	}
	words := strings.Split(strings.ToLower(name), " ")
	for i, w := range words {
		if r := []rune(w); len(r) > 0 && !lexicon.Particles.Has(w) {
			words[i] = strings.ToUpper(string(r[:1])) + string(r[1:])
		}
	}
	return strings.Join(words, " ")
}

// accountsOf gives the accounts that may be somebody's and are no words of everybody's.
func accountsOf(name string) (accounts []string) {
	given, surname, _ := alias.PartsOf(name)
	given, surname = alias.PlainLetters(given), alias.PlainLetters(surname)
	if len(given) == 0 {
		return nil
	}
	for _, a := range append([]string{given + " " + surname}, slices.Collect(alias.AccountsOf(name))...) {
		first, last, two := strings.Cut(a, " ")
		switch {
		case two && (first == "" || last == "" || len(first)+len(last) < minAccount):
		case two:
			accounts = append(accounts, first+"."+last, last+"."+first, first+"_"+last, last+"_"+first)
		case len(a) < minAccount || len(a) == len(given)+1 && len(a) < minInitialed:
		case judge.Name([]byte(a)) && !find.IsEveryday([]byte(a)) && !find.Nobody.Has([]byte(a)):
			accounts = append(accounts, a)
		}
	}
	return accounts
}

// shortHost gives the first part of the name of a host, if it is shaped like the name of one: with letters, and a number at its end or
// behind
// a dash.
func shortHost(name string) (string, bool) {
	short, _, _ := strings.Cut(strings.ToLower(name), ".")
	digits, letters := 0, 0
	for i := range len(short) {
		switch c := short[i]; {
		case chars.IsDigit(c):
			digits++
		case chars.IsLower(c):
			letters++
		}
	}
	last := strings.TrimRight(short, "abcdefghijklmnopqrstuvwxyz") // gate7a is one, f5cluster is none
	joined := strings.IndexByte(short, '-') > 0 || len(short)-len(last) <= 1
	return short, len(short) >= minShortHost && digits > 0 && letters > 1 && joined
}

// isWholeName reports whether a text is the whole name of somebody from whom something follows.
func isWholeName(text string) bool {
	given, surname, ok := alias.PartsOf(text)
	return ok && judge.Name([]byte(given+" "+surname))
}
