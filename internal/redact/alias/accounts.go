package alias

import (
	"iter"
	"strings"
	"unicode"

	"envask/internal/redact/lexicon"
)

// Accounts are mostly made of the names of those whose they are: mzielonka, marekz and zielonka.m of Marek Zielonka.

// PartsOf gives the given name and the surname of a name of several words; ok is false when it is none of which that can be told. Names
// between the two are left out, and what stands before a noble surname is part of it.
func PartsOf(name string) (given, surname string, ok bool) {
	before, behind, comma := strings.Cut(name, ",")
	words := strings.Fields(before)
	if comma {
		words = append(strings.Fields(behind), strings.Join(words, " "))
	}
	if len(words) < 2 || len(words) > 5 {
		return "", "", false
	}
	given, surname = words[0], words[len(words)-1]
	if !comma {
		from := len(words) - 1
		for from > 1 && lexicon.Particles.Has(strings.ToLower(words[from-1])) {
			from--
		}
		surname = strings.Join(words[from:], " ")
		capitals := given == strings.ToUpper(given) && surname != strings.ToUpper(surname) // ZIELONKA Marek
		if capitals || !isGiven(given) && isGiven(surname) {
			given, surname = surname, given
		}
	}
	for _, r := range given + surname {
		if !unicode.IsLetter(r) && r != ' ' && r != '-' && r != '\'' {
			return "", "", false
		}
	}
	return given, surname, len(given) > 1 && len(surname) > 1 && unicode.IsUpper([]rune(given)[0])
}

func isGiven(word string) bool { return lexicon.Given([]byte(strings.ToLower(word))) }

// kindsOfAccounts is how many ways there are in which an account is made of a name; the halves of the name stand behind them.
const (
	kindsOfAccounts = 11
	kindsOfParts    = kindsOfAccounts + 2
)

// mostOfSurname is how much of a surname stands behind an initial where accounts have eight characters, as some systems demand.
const mostOfSurname = 7

// AccountsOf gives the accounts that may be made of a name, in small letters; of an initial and a surname, with a blank between them
// where a sign may stand. It gives nothing for what is no name of a person in Latin letters. That of the given name and the surname with a
// sign between them is not among them: spellings of one name are one.
func AccountsOf(name string) iter.Seq[string] {
	return func(yield func(string) bool) {
		parts := madeOf(name)
		for _, a := range parts[:kindsOfAccounts] {
			if a != "" && !yield(a) {
				return
			}
		}
	}
}

// madeOf gives the same and the halves of the name, always in the same order; what cannot be made of a name is empty.
func madeOf(name string) (accounts [kindsOfParts]string) {
	first, last, ok := PartsOf(name)
	given, surname := PlainLetters(first), PlainLetters(last)
	if !ok || len(given) < 2 || len(surname) < 3 {
		return accounts
	}
	accounts = [kindsOfParts]string{given[:1] + surname, surname + given[:1], given + surname[:1], given + surname, surname + given,
		given[:1] + " " + surname, given + "-" + surname}
	if len(surname) > mostOfSurname {
		accounts[7] = given[:1] + surname[:mostOfSurname]
	}
	givenE, surnameE := PlainLetters(umlauts.Replace(first)), PlainLetters(umlauts.Replace(last))
	if surnameE != surname {
		accounts[8], accounts[9] = given[:1]+surnameE, surnameE+given[:1]
	}
	if surnameE != surname || givenE != given {
		accounts[10] = givenE + " " + surnameE
	}
	accounts[11], accounts[12] = strings.ToLower(first), strings.ToLower(last)
	return accounts
}

// PlainLetters writes a name as accounts do: in small letters a to z; "" when it has others.
func PlainLetters(name string) string {
	var b strings.Builder
	for _, c := range lexicon.WithoutMarks([]byte(strings.ToLower(name))) {
		switch {
		case c >= 'a' && c <= 'z':
			b.WriteByte(c)
		case c == ' ', c == '-', c == '\'':
		default:
			return ""
		}
	}
	return b.String()
}

// umlauts are written with an e where there are none.
var umlauts = strings.NewReplacer("ä", "ae", "ö", "oe", "ü", "ue", "Ä", "Ae", "Ö", "Oe", "Ü", "Ue")

// MostPeople bounds for how many people accounts are made of their names.
const MostPeople = 5000

// tellAccounts remembers which accounts would be those of a person who has an alias.
func (t *Table) tellAccounts(name, a string) {
	if t.counts[group{of: "people"}] >= MostPeople {
		return
	}
	accounts := madeOf(name)
	if accounts[0] == "" {
		return
	}
	t.next("people")
	for i, account := range accounts {
		if account == "" {
			continue
		}
		form := OneForm(User, account)
		if _, several := t.derived[form]; several {
			t.derived[form] = ""
		} else {
			t.derived[form] = a + codeLetters[len(codeLetters)-1-i:][:1]
		}
	}
}
