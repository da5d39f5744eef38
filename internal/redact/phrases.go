package redact

import (
	"bytes"
	"sync"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
	"envask/internal/redact/judge"
	"envask/internal/redact/phrase"
)

// What phrases give away, see package phrase.

// phraseTable is compiled when it is first needed.
var phraseTable = sync.OnceValue(func() *phrase.Table {
	t, err := phrase.NewTable(append(append([]phrase.Phrase{}, phrase.Secrets...), phrase.People...), phraseJudge)
	if err != nil {
		panic(err) // a test compiles each row
	}
	return t
})

// phraseJudge tells the tables what the engine knows of values.
var phraseJudge = phrase.Judge{Begins: find.BeginsMessage, Fits: fitsSlot,
	Key: func(word []byte) bool { return find.KindOf(word)&find.KeySecret != 0 },
	Who: func(word []byte) bool { return find.KindOf(word)&find.KeyUser != 0 }}

// fitsSlot reports whether a value can be what its slot says.
func fitsSlot(b []byte, f phrase.Found) bool {
	v := b[f.Start:f.End]
	if holdsPlaceholder(v) || f.Start > 0 && find.PlaceholderLen(b[f.Start-1:]) > 0 {
		return false
	}
	if f.Slot.IsSecret() {
		return !isNoSecret(v, f.Quoted) && fitsSecret(v, f) && !(f.Slot == phrase.Strong && isSum(b[:f.Start]))
	}
	return (f.Start == 0 || b[f.Start-1] != '`') && fitsName(b, v, f) // between backquotes stands what a program calls something
}

// isNoSecret reports whether a value is an attribute, a setting, what stands for any value, or a piece of a program.
func isNoSecret(v []byte, quoted bool) bool {
	return isForm(v) || v[0] == '"' && len(v) > 3 && v[1] == '$' && chars.IsUpper(v[2]) || // "$DB_PASS"
		bytes.Contains(v, []byte(`="`)) || bytes.Contains(v, []byte("='")) || v[0] == '<' || find.StandsForAny(v) ||
		!quoted && (find.IsSetting(v) || isPiece(v))
}

// isSum reports whether a value stands behind the name of a way to make a checksum: sha256:….
func isSum(before []byte) bool {
	name, ok := bytes.CutSuffix(before, []byte(":"))
	return ok && find.Algorithms.Has(name[chars.NameBefore(name, len(name)):])
}

// isForm reports whether a value is the content of a form, whose parts have keys of their own: grant_type=x&client_id=y.
func isForm(v []byte) bool {
	n := bytes.IndexByte(v, '&')
	return n > 0 && bytes.IndexByte(v[:n], '=') > 0 && bytes.IndexByte(v[n:], '=') > 1
}

// fitsSecret reports whether a value can be a secret of the kind that its slot says.
func fitsSecret(v []byte, f phrase.Found) bool {
	switch f.Slot {
	case phrase.Code:
		return len(v) >= 4 && len(v) <= 10 && chars.IsAllDigits(bytes.ReplaceAll(v, []byte("-"), nil)) && v[0] != '-'
	case phrase.Unusual:
		return isUnusual(v)
	case phrase.Fierce:
		return find.LooksFierce(v)
	}
	if !find.IsValue(v) {
		return false
	}
	if head, rest, ok := bytes.Cut(v, []byte(",")); ok && bytes.IndexByte(rest, '=') > 0 && find.NotValues.Has(head) { // invalid,NAS-Port=3
		return false
	}
	switch f.Slot {
	case phrase.SureSecret:
		return len(v) >= 3 && !find.NotValues.Has(v) && (bytes.IndexByte([]byte("/-\\"), v[0]) < 0 || find.LooksStrong(v))
	case phrase.Quoted:
		return f.Quoted && len(v) >= 3 && !find.NotValues.Has(v)
	case phrase.Strong:
		return find.LooksChosen(v) && find.Shaped(string(v)) && !judge.Format(v)
	case phrase.Random:
		return find.LooksRandom(v)
	}
	head, _, _ := bytes.Cut(v, []byte("-"))
	return find.LooksChosen(v) && !find.Algorithms.Has(head) || f.Quoted && find.LooksQuotedSecret(v)
}

// fitsName reports whether a value can be a name, or a telephone number, of the kind that its slot says.
func fitsName(b, v []byte, f phrase.Found) bool {
	if f.Slot == phrase.Phone {
		digits := len(chars.OnlyDigits(string(v)))
		return digits >= minPhone && digits <= 15 && (f.End == len(b) || !chars.IsWord(b[f.End]))
	}
	if f.Slot == phrase.Paper {
		return isPaper(v)
	}
	if !find.IsPerson(v) {
		return false
	}
	if f.Start > 0 && b[f.Start-1] == '(' && bytes.HasPrefix(b[f.End:], []byte(") [")) { // how a host calls itself, before its address
		return false
	}
	switch f.Slot {
	case phrase.User:
		return (find.IsLoginWord(v) || find.IsServiceAccount(v)) && chars.NameAt(b, f.Start) == f.End
	case phrase.QuotedUser:
		return f.Quoted && !find.NoUserNames.HasBytes(bytes.ToLower(v))
	case phrase.Person:
		return true
	case phrase.Surname:
		var buf [32]byte
		return chars.IsUpper(v[0]) && len(v) > 2 && !find.NoNames.HasBytes(chars.Lowered(&buf, v)) && !find.IsEveryday(bytes.ToLower(v))
	case phrase.SureUser, phrase.Account:
		return chars.NameAt(b, f.Start) == f.End
	}
	return chars.IsUpper(v[0]) && (find.IsGivenName(v) || find.IsUncommonName(v) || find.LooksPersonal(v))
}

// isPaper reports whether a value can be the number of a document of a person, or a date of birth.
func isPaper(v []byte) bool {
	return find.IsShortDate(v) || find.IsDocumentNumber(v) && (find.IsDate(v) || !bytes.ContainsAny(v, "./"))
}

// isUnusual reports whether a value is no word of a sentence or configuration: where it alone follows a telling word, it is a secret.
func isUnusual(v []byte) bool {
	var buf [32]byte
	lower := chars.Lowered(&buf, v)
	return len(v) >= 4 && find.IsValue(v) && !find.NotValues.Has(v) && !find.Algorithms.Has(v) && !find.IsEveryday(lower) &&
		!find.Nobody.Has(v) &&
		bytes.ContainsAny(lower, "abcdefghijklmnopqrstuvwxyz") && !bytes.ContainsAny(v, "/()[]{}<>:;,\"'`=$") && v[0] != '-' &&
		v[len(v)-1] != '.' && !bytes.HasSuffix(v, []byte("_t")) // a type of C
}

// isPiece reports whether a value without quotes is a piece of a program: an index, a pointer.
func isPiece(v []byte) bool {
	return v[0] == '*' || v[0] == '&' || bytes.ContainsAny(v, "[]`")
}

// findPhrases adds what the phrases around a word before a blank give away, and the plain arguments of the program that it names.
func (e *Engine) findPhrases(b []byte, blank int) {
	if name := programTable().Named(b, blank); name != "" && blank >= e.called.until {
		e.called.until = e.programAt(b, name, blank)
	}
	phraseTable().At(b, blank, func(f phrase.Found) { e.phrase(f, wordedSecretRule, blank, f.Slot == phrase.User) })
}

// phrase keeps a find until the rules are through: a secret counts for a rule, a name for that of logs.
func (e *Engine) phrase(f phrase.Found, rule string, trigger int, weak bool) {
	switch {
	case f.Slot == phrase.Phone:
		rule = phoneRule
	case f.Slot == phrase.Paper:
		rule = documentRule
	case !f.Slot.IsSecret():
		rule = logUserRule
	}
	e.phrased = append(e.phrased, phrased{f.Start, f.End, rule, trigger, weak, f.Slot == phrase.Account})
}

// addPhrased adds what phrases gave away.
func (e *Engine) addPhrased(b []byte, from int) {
	for _, p := range e.phrased {
		n := len(e.findings)
		if e.addJudged(b, from, p.start, p.end, p.rule, p.sure); len(e.findings) > n {
			e.findings[n].trigger, e.findings[n].weak = p.trigger, p.weak || p.sure && find.IsEveryday(bytes.ToLower(b[p.start:p.end]))
		}
	}
}

// programs are compiled when they are first needed.
var programTable = sync.OnceValue(func() *phrase.Programs {
	p, err := phrase.NewPrograms(phrase.ProgramRows, phraseJudge)
	if err != nil {
		panic(err) // a test compiles each row
	}
	return p
})

// findProgram adds what the arguments of a program give away, of which one is an option at a place.
func (e *Engine) findProgram(b []byte, option int) {
	c := &e.called
	e.findPersonOption(b, option)
	if option < c.until {
		return
	}
	from := max(c.looked, c.until, option-chars.MaxPair)
	if n := bytes.LastIndexByte(b[from:option], '\n'); n >= 0 {
		from += n + 1
	}
	c.looked = option
	if name, end := programTable().Before(b, from, option); name != "" {
		c.until = e.programAt(b, name, end)
	}
}

// programAt adds what the arguments of a program give away whose name ends at a place.
func (e *Engine) programAt(b []byte, name string, end int) (until int) {
	return programTable().At(b, name, end, func(f phrase.Found) { e.phrase(f, passwordOptionRule, end, f.Slot == phrase.User) })
}

// findPersonOption adds the value of an option whose name announces a person: --operator NAME.
func (e *Engine) findPersonOption(b []byte, option int) {
	start := option
	for start < len(b) && b[start] == '-' {
		start++
	}
	end := start
	for end < len(b) && end-start <= chars.MaxKey && chars.IsKeyByte(b[end]) {
		end++
	}
	credential := find.IsCredential(b[start:end])
	if end-start < 3 || !credential && find.KindOf(b[start:end])&find.KeyUser == 0 {
		return
	}
	from, to, ok := find.OptionValue(b, end, 0)
	if n := bytes.IndexByte(b[from:to], '\\'); credential && n > 0 { // DOMAIN\NAME
		from += n + 1
	}
	login := bytes.Contains(chars.LineFrom(b[:min(len(b), end+chars.MaxPair)], end), []byte(" --pass"))
	// Most programs mean by it whose services they are about.
	if string(b[start:end]) == "user" && chars.IsAllLetters(b[from:to]) && !login {
		return
	}
	if ok && find.IsPerson(b[from:to]) && !(chars.IsAllLetters(b[from:to]) && find.IsEveryday(bytes.ToLower(b[from:to]))) {
		e.phrased = append(e.phrased, phrased{from, to, logUserRule, option, true, false})
	}
}

// lineTable is compiled when it is first needed.
var lineTable = sync.OnceValue(func() *phrase.Lines {
	l, err := phrase.NewLines(phrase.LineRows, phraseJudge)
	if err != nil {
		panic(err) // a test compiles each row
	}
	return l
})

// mostLines bounds in how large a text lines are tried of which no word tells, in bytes: such files and letters are short. mostWhole bounds
// the lines.
const (
	mostLines = 64 << 10
	mostWhole = 200
)

// findLines adds what whole lines give away.
func (e *Engine) findLines(b []byte, from int) {
	if e.segments == nil {
		if e.base == 0 && from == 0 && len(b) <= mostLines {
			e.linesIn(b, from, len(b))
			e.peopleIn(b, from, len(b))
		}
		return
	}
	for _, s := range e.segments {
		if end := s.start + len(bytes.TrimRight(b[s.start:s.end], " \r\n")); end-s.start <= chars.MaxKey && s.start >= from &&
			chars.IsUpper(b[s.start]) && find.IsGivenName(b[s.start:end]) { // all that a remark says
			e.add(b, from, s.start, end, logUserRule)
		}
		switch n := s.end - s.start; {
		case n > mostLines:
		case e.short && n > minText && bytes.IndexByte(b[s.start:s.end], ' ') > 0:
			if worthLine(b[s.start:s.end]) {
				e.linesIn(b, max(from, s.start), s.end)
			}
			e.peopleIn(b, max(from, s.start), s.end)
		case bytes.IndexByte(b[s.start:max(s.start, s.end-2)], '\n') >= 0:
			e.linesIn(b, max(from, s.start), s.end)
			e.peopleIn(b, max(from, s.start), s.end)
		case n <= mostWhole && bytes.ContainsAny(b[s.start:s.end], "!#$%&*^@"): // a line of a log: there are very many
			e.linesIn(b, max(from, s.start), s.end)
			if bytes.Contains(b[s.start:s.end], []byte(" / ")) { // NAME / SECRET; for the rest there are phrases
				e.notesIn(b, max(from, s.start), s.end)
			}
		}
	}
}

// peopleIn adds the people that a short text names. One sentence is no evidence for other places: there they go if they are named
// again.
func (e *Engine) peopleIn(b []byte, from, to int) {
	halves := find.Halves{}
	find.GivenNames(b, from, to, func(start, end int) {
		n := len(e.findings)
		if e.add(b, from, start, end, logUserRule); len(e.findings) > n {
			e.findings[n].weak = true
			halves.Add(b[start:end])
		}
		if first, last := find.PhoneOfNamed(b[:to], end); first < last {
			e.add(b, from, first, last, phoneRule)
		}
	})
	halves.Each(b, from, to, func(start, end int) {
		n := len(e.findings)
		if e.add(b, from, start, end, logUserRule); len(e.findings) > n {
			e.findings[n].weak, e.findings[n].mute = true, true
		}
	})
	find.Nicks(b, from, to, func(start, end int) {
		n := len(e.findings)
		if e.addJudged(b, from, start, end, logUserRule, true); len(e.findings) > n {
			e.findings[n].weak = true
		}
	})
	find.PeopleInRows(b, from, to, func(start, end int) {
		n := len(e.findings)
		if e.addJudged(b, from, start, end, logUserRule, true); len(e.findings) > n {
			e.findings[n].weak = true
		}
	})
	find.CallNames(b, from, to, func(start, end int) { e.addAccount(b, from, start, end) })
	find.Passengers(b, from, to, func(start, end int) { e.add(b, from, start, end, logUserRule) },
		func(start, end int) { e.add(b, from, start, end, documentRule) })
	find.AccountLists(b, from, to, func(start, end int) {
		n := len(e.findings)
		if e.addJudged(b, from, start, end, logUserRule, true); len(e.findings) > n {
			e.findings[n].weak = true
		}
	})
	secret := func(start, end int) { e.add(b, from, start, end, keyedSecretRule) }
	account := func(start, end int) { e.addAccount(b, from, start, end) }
	find.SecretSections(b, from, to, secret, account)
	find.ChangedPasswords(b, from, to, secret, account)
	find.Directives(b, from, to, func(start, end int) { e.addJudged(b, from, start, end, keyedSecretRule, false) }, account)
	find.ChatAnswers(b, from, to, func(start, end int) { e.add(b, from, start, end, wordedSecretRule) })
	if from == 0 && to == len(b) {
		find.PairFile(b, secret, account)
	}
	e.notesIn(b, from, to)
}

var ruleOfNoted = [...]string{find.NotedSecret: wordedSecretRule, find.NotedAccount: logUserRule, find.NotedPhone: phoneRule}

// notesIn adds what people tell each other in a text.
func (e *Engine) notesIn(b []byte, from, to int) {
	find.Notes(b, from, to, func(start, end int, kind find.Noted) {
		if find.PlaceholderLen(b[max(0, start-1):]) > 0 || holdsPlaceholder(b[start:end]) {
			return
		}
		if kind == find.NotedSecret {
			e.addJudged(b, from, start, end, wordedSecretRule, false)
			return
		}
		n := len(e.findings)
		if e.add(b, from, start, end, ruleOfNoted[kind]); len(e.findings) > n {
			e.findings[n].weak = true
		}
	})
}

// lineSigns are what passwords have and hardly any other word; lineWords, what the other whole lines have of which a table knows.
var (
	lineSigns = *chars.BytesOf("!#$%&*^")
	lineWords = bytes.Split([]byte("Filter] \nauth \nlogon \nsmbd_audit\n su: \nsubject,\ncn=Recipients\negards\n"+
		"(ipv4:\n | \n -> \nhilsen\nGrüßen\nGruß\n\ttty\n\tvty\n\tpts/\n -- \n +\nusername\n (\n"+
		"auth-user-pass\nAUTH\nNAD+\nPID|\nN:\n"+
		"user:\n|554=\n'digest,'\n-pbkdf2-\n"+
		" worker[\nAuthInfo:\nuser_\n[~\nWHO: \n true \n"+
		"ssh:notty\nwhoami\n ? \n pts/\n\"auth\"\nS-1-5-21-\nauth: \n<l2tp-\n<pppoe-\n<pptp-\n<sstp-\n<ovpn-\n main[\n @ \n"+
		"@cqlsh>\n@   \n,user\n,admin\n<|||>\n<<<\n MD5 \n SHA1 \n SHA256 \n M \n:om\n OBF:\n CRYPT:\n realm:\nMD5:\n = ENC(\n => "),
		[]byte("\n"))
)

// worthLine reports whether a whole line may be one of those of the table. Most are told by a sign in their last words.
func worthLine(line []byte) bool {
	if line[0] == '@' || line[0] == '[' || line[0] == '"' || line[0] == '*' {
		return true
	}
	for _, c := range line {
		if lineSigns[c] {
			return true
		}
	}
	last := bytes.TrimRight(line, "\r\n")
	if n := bytes.IndexAny(line, " \t"); n > 0 && bytes.IndexByte(line[:n], '.') > 0 && bytes.Count(line[n:], []byte(":")) == 1 &&
		len(bytes.Fields(line[n:])) == 1 { // HOST NAME:SECRET
		return true
	}
	if bytes.Count(line, []byte(":")) == 4 && bytes.IndexByte(last, ' ') < 0 {
		return true
	}
	if last[len(last)-1] == ':' && bytes.IndexByte(last, ' ') < 0 || string(last) == "password" { // what it is about stands below
		return true
	}
	if bytes.IndexByte([]byte("BTCYGSAM"), line[0]) >= 0 && len(line) < 24 { // the ends of letters
		return true
	}
	for _, w := range lineWords {
		if bytes.Contains(line, w) {
			return true
		}
	}
	return false
}

// machineFill fills up the first line that machines read on a document of a person.
var machineFill = []byte("<<<")

// linesIn looks at the lines from one place to another.
func (e *Engine) linesIn(b []byte, from, to int) {
	for at := from; at < to; {
		end := chars.NextLine(b[:to], at)
		for at < end && chars.IsSpace(b[at]) {
			at++
		}
		if line := b[at:end]; len(line) >= minText && len(line) <= mostWhole && worthLine(line) {
			if bytes.Contains(line, machineFill) {
				find.MachineReadable(b[:to], at, func(start, end int) { e.add(b, from, start, end, documentRule) })
			}
			lineTable().At(b, at, func(f phrase.Found) { e.phrase(f, wordedSecretRule, f.Start, !f.Slot.IsSecret()) })
		}
		at = end
	}
}

// minPhone is how many digits a telephone number has at least.
const minPhone = 7
