package alias

import (
	"cmp"
	"slices"
	"strings"
)

// Names, accounts, addresses of mail and hosts are written in several ways. Each way is an original of its own, and has the alias of the
// first one with a letter behind it: user-2a, user-2ab, user-2ac. There are eight of them; what is spelled in more ways, as some name
// servers ask for hosts (draft-vixie-dnsext-dns0x20), has the first one then. The last letters are those of accounts that are made of a
// name.

// OneForm gives the form under which the spellings of a name, an account, an address of mail or a host are one: in small letters, and for
// people without commas and with the parts of the name in the order of the alphabet, so that "Zielonka, Marek", "MAREK ZIELONKA" and
// marek.zielonka are one.
func OneForm(class Class, original string) string {
	lower := strings.ToLower(original)
	if class != User || !strings.ContainsAny(lower, " ,._") {
		return lower
	}
	parts := strings.FieldsFunc(lower, func(r rune) bool { return r == ' ' || r == ',' || r == '.' || r == '_' })
	slices.Sort(parts)
	return strings.Join(parts, " ")
}

// giveSpelled gives the alias of a name, an account, an address of mail or a host; again is true when it is given to another spelling, too.
func (t *Table) giveSpelled(o origin) (a string, again bool) {
	form := origin{o.class, OneForm(o.class, o.text)}
	base := ""
	if !t.asBefore {
		base = t.first(form)
	}
	switch {
	case o.class == Mail:
		a, again = t.giveMail(o.text, base, form)
	case base != "":
		a, again = t.spelling(base, form)
	case o.class == Host:
		a = t.giveHost(form.text)
	case !t.asBefore && t.derived[form.text] != "":
		a = t.derived[form.text]
	default:
		a = aliasHeads[User] + code(t.next("user"))
		t.tellAccounts(o.text, a)
	}
	if base == "" && form.text != o.text {
		if _, ok := t.bases[form]; !ok {
			t.bases[form] = a
		}
	}
	return a, again
}

// first gives the first alias of something, or "".
func (t *Table) first(form origin) string {
	if a := t.bases[form]; a != "" {
		return a
	}
	return t.byOrigin[form]
}

// spelling gives the next alias of something that has one already, or that one again.
func (t *Table) spelling(base string, form origin) (a string, again bool) {
	n := t.nextIn(group{of: "spellings of " + string(form.class) + " " + form.text}) + 1
	if n >= len(codeLetters)-kindsOfParts {
		return base, true
	}
	end := len(base)
	if at := strings.IndexAny(base, ".@"); at >= 0 {
		end = at
	}
	return base[:end] + codeLetters[n:n+1] + base[end:], false
}

// isFirst reports whether an alias of a table that is read is one with the next code: before spellings were told, each had one.
func (t *Table) isFirst(a Alias) bool {
	head := aliasHeads[a.Class]
	own := head + code(t.counts[group{of: string(a.Class)}])
	switch a.Class {
	case User:
		return a.Alias == own
	case Host:
		return a.Alias == own+hostDomain
	case Mail:
		return strings.HasPrefix(a.Alias, own+"@")
	}
	return false
}

// giveHost gives the first alias of a host: a name without a dot has that of the one host whose name begins with it, without the
// domain.
func (t *Table) giveHost(name string) string {
	first, _, dotted := strings.Cut(name, ".")
	whole := t.shorts[first]
	if !dotted && whole != "" && !t.asBefore {
		return whole
	}
	short := aliasHeads[Host] + code(t.next("host"))
	if dotted {
		if _, several := t.shorts[first]; several {
			t.shorts[first] = ""
		} else {
			t.shorts[first] = short
		}
	}
	return short + hostDomain
}

// hostDomain is the domain of all aliases of hosts (RFC 2606).
const hostDomain = ".example"

// giveMail gives the alias of an address of mail: that of the account or person of this name, if there is one, since both are one person's.
func (t *Table) giveMail(original, base string, form origin) (a string, again bool) {
	at := strings.LastIndexByte(original, '@')
	host := "@" + t.give(Host, original[at+1:])
	local := ""
	switch {
	case base != "":
		local, _, _ = strings.Cut(base, "@")
	case t.apart:
	default:
		account := origin{User, original[:max(at, 0)]}
		if local = t.byOrigin[account]; local == "" {
			account.text = OneForm(User, account.text)
			local = cmp.Or(t.first(account), t.derived[account.text])
		}
	}
	if local == "" {
		local = aliasHeads[Mail] + code(t.next("mail"))
	}
	for a = local + host; t.mails[a] && !again; {
		a, again = t.spelling(local+host, form)
	}
	t.mails[a] = true
	return a, again
}
