package redact

import (
	"bytes"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// Tables with separators: CSV (RFC 4180) and its relatives, what clients of databases print, tables of Markdown, and COPY of dumps.
// The head says what the cells under it are.

const (
	cellOther cellKind = iota
	cellSecret
	cellWeak // a secret if it looks like one
	cellUser
	cellPhone
	cellDocument
	cellName // of a person, where other columns are about people and it looks like one: things have names, too
)

// cellSeps are the separators that tables have.
const cellSeps = ",;\t|"

// personal are heads of columns that tables of people have.
var personal = chars.WordSet(`email mail emailaddress birthdate dateofbirth dob birthday address street city postcode zip zipcode
	nationality gender salutation title ticket ticketnumber booking bookingreference seat`)

// cellsHead reads the head of a table in the line that a place is in. Lists of names stand in programs and prose, too: but for the
// first line of a text, a head has no blanks around its separators and more than two cells, or a rule of dashes below it.
func cellsHead(b []byte, at int) (t cellTable, ok bool) {
	first := chars.LineStart(b, at)
	if first > 0 && b[first-1] != '\n' {
		return t, false
	}
	line := bytes.TrimRight(chars.LineFrom(b, first), " ")
	if names, ok := copyHead(line); ok {
		return cellKinds(names, ',', '\t')
	}
	if len(line) > 2048 {
		return t, false
	}
	if names, ok := bytes.CutPrefix(line, []byte("#Fields: ")); ok {
		return webLogHead(names)
	}
	for _, sep := range []byte(cellSeps) {
		if bytes.IndexByte(line, sep) < 0 {
			continue
		}
		if t, ok := cellKinds(line, sep, sep); ok {
			if sep == '|' {
				t.ruled = !goesOn(b, line, first+len(line)) || t.cells < 3
				return t, true
			}
			loose := chars.IsSpace(line[0]) || bytes.Contains(line, []byte{sep, ' '}) || bytes.Contains(line, []byte{' ', sep})
			t.whole = first == 0
			return t, first == 0 || t.cells > 2 && !loose && (sep != '\t' || t.cells > 3)
		}
	}
	return t, false
}

// isTableRule says whether a line is the rule between the head of a table and its rows.
func isTableRule(line []byte) bool {
	return bytes.Contains(line, []byte("--")) && len(bytes.Trim(line, "-+|: \r")) == 0
}

// webLogHead reads the names of the fields of a log in the extended form of the W3C, which stand behind #Fields:.
func webLogHead(line []byte) (t cellTable, ok bool) {
	names := bytes.Fields(line)
	if len(names) < 2 || len(names) > maxCells {
		return t, false
	}
	for i, name := range names {
		if open := bytes.IndexByte(name, '('); open > 0 { // cs(Cookie)
			names[i] = bytes.TrimSuffix(name[open+1:], []byte(")"))
		}
	}
	kinds, telling := kindsOfHeads(names)
	if !telling {
		return t, false
	}
	t.sep, t.cells = ' ', copy(t.kinds[:], kinds)
	return t, true
}

// copyHead gives the names of the columns in COPY table (a, b, c) FROM stdin; of dumps: their rows follow with tabs between.
func copyHead(line []byte) ([]byte, bool) {
	if !bytes.HasPrefix(line, []byte("COPY ")) || !bytes.HasSuffix(line, []byte(" FROM stdin;")) {
		return nil, false
	}
	open, end := bytes.IndexByte(line, '('), bytes.LastIndexByte(line, ')')
	if open < 0 || end < open {
		return nil, false
	}
	return line[open+1 : end], true
}

// goesOn says whether the line below the head of a table has as many pipes, with blanks around them: then it is the first row, without a
// rule between.
func goesOn(b, head []byte, end int) bool {
	next := chars.NextLine(b, end)
	if next >= len(b) {
		return false
	}
	row, pipe := chars.LineFrom(b, next), []byte(" | ")
	return bytes.Count(row, pipe) == bytes.Count(head, pipe) && bytes.Count(row, []byte("|")) == bytes.Count(head, []byte("|"))
}

// cellKinds reads the names of columns; those of rows have another separator.
func cellKinds(line []byte, sep, rows byte) (t cellTable, ok bool) {
	var names [][]byte
	valid := eachCell(line, sep, func(n int, from, to int) bool {
		name := bytes.Trim(line[from:to], "\"'` *[]")
		names = append(names, name)
		if n >= maxCells || len(name) > 40 || len(name) > 0 && (chars.IsDigit(name[0]) || name[0] == '-') || len(name) == 0 &&
			sep != '|' || find.LooksRandom(name) {
			return false
		}
		for _, c := range name {
			if !chars.IsKeyByte(c) && c != ' ' {
				return false
			}
		}
		return bytes.Count(name, []byte(" ")) <= 3
	})
	if !valid || len(names) < 2 {
		return cellTable{}, false
	}
	kinds, telling := kindsOfHeads(names)
	if !telling {
		return cellTable{}, false
	}
	t.sep, t.cells = rows, copy(t.kinds[:], kinds)
	return t, true
}

// kindsOfHeads says what the cells under the names of columns are, and whether any of them matters.
func kindsOfHeads(names [][]byte) (kinds []cellKind, telling bool) {
	kinds = make([]cellKind, len(names))
	people := false
	for i, name := range names {
		var buf [chars.MaxKey]byte
		plain := find.PlainKey(&buf, name)
		people = people || personal.HasBytes(plain)
		if string(plain) == "commonname" { // of those who are connected
			kinds[i], people = cellUser, true
			continue
		}
		switch kind := find.KindOf(name); {
		case kind&(find.KeySecret|find.KeyAuthorization|find.KeyCookie) != 0:
			kinds[i] = cellSecret
		case kind&find.KeyUser != 0:
			kinds[i], people = cellUser, true
		case kind&find.KeyPhone != 0:
			kinds[i], people = cellPhone, true
		case kind&find.KeyDocument != 0:
			kinds[i], people = cellDocument, true
		case kind&find.KeyWeak != 0:
			kinds[i] = cellWeak
		case kind&find.KeyPart != 0:
			kinds[i] = cellName
		case chars.IsOneOf(plain, "birth", "born", "document", "documentno", "docno", "plate", "vehicleplate", "registration", "ticketno"):
			kinds[i] = cellDocument
		}
	}
	for i, k := range kinds {
		switch {
		case k == cellDocument && !people && chars.IsOneOf(names[i], "document", "registration"):
			kinds[i] = cellOther
		case k == cellName && !people:
			kinds[i] = cellOther
		case k == cellName && chars.IsOneOf(names[i], "given", "first", "last", "family"): // one word of a name
			kinds[i] = cellUser
		}
		telling = telling || kinds[i] != cellOther
	}
	return kinds, telling
}

// eachCell calls look for each cell of a line, until it says no; it gives whether the line could be read. Cells of CSV may be in
// quotes, which are doubled within. The borders of a line with pipes are no cells.
func eachCell(line []byte, sep byte, look func(n, from, to int) bool) bool {
	open, ok := eachCellFrom(line, sep, 0, false, look)
	return ok && !open
}

// eachCellFrom does the same for a line that begins in a cell, and maybe within its quotes. open says that the line ends within quotes: the
// cell goes on in the next one.
func eachCellFrom(line []byte, sep byte, n int, quoted bool, look func(n, from, to int) bool) (open, ok bool) {
	at := 0
	if sep == '|' {
		line = bytes.TrimRight(line, " \t\r")
		for at < len(line) && chars.IsSpace(line[at]) {
			at++
		}
		if at < len(line) && line[at] == '|' {
			if at++; at < len(line) {
				line = bytes.TrimSuffix(line, []byte("|"))
			}
		}
	}
	for ; ; n++ {
		from := at
		if within := sep != '|' && at < len(line) && line[at] == '"'; within || quoted {
			if within && !quoted {
				at++
			}
			quoted = false
			if at = quoteEnd(line, at); at < 0 {
				return true, look(n, from, len(line))
			}
			if at++; at < len(line) && line[at] == '\r' && at+1 == len(line) {
				at++
			}
			if at < len(line) && line[at] != sep {
				return false, false
			}
		} else if next := bytes.IndexByte(line[at:], sep); next >= 0 {
			at += next
		} else {
			at = len(line)
		}
		if !look(n, from, min(at, len(line))) {
			return false, false
		}
		if at >= len(line) {
			return false, true
		}
		at++
	}
}

// quoteEnd gives where the quotes end that a place is in; -1 where they do not.
func quoteEnd(line []byte, at int) int {
	for ; ; at++ {
		next := bytes.IndexByte(line[at:], '"')
		if next < 0 {
			return -1
		}
		if at += next; at+1 == len(line) || line[at+1] != '"' {
			return at
		}
		at++
	}
}

// maxMisfits is how many rows in a row may not fit in a file that is a table.
const maxMisfits = 100

// maxCellLines bounds over how many lines one cell in quotes goes.
const maxCellLines = 100

// trimmedCell leaves out what is blank around a cell.
func trimmedCell(line []byte, from, to int) (int, int) {
	for from < to && chars.IsSpace(line[from]) {
		from++
	}
	for to > from && (chars.IsSpace(line[to-1]) || line[to-1] == '\r') {
		to--
	}
	return from, to
}

// unquotedCell leaves out the quotes of a cell; of one that goes on in a later line, or began in an earlier one, there is but one.
func unquotedCell(line []byte, from, to int, open, began bool) (int, int) {
	switch {
	case to-from > 1 && line[from] == line[to-1] && (line[from] == '"' || line[from] == '\''):
		return from + 1, to - 1
	case to > from && line[from] == '"' && open:
		return from + 1, to
	case to > from && line[to-1] == '"' && began:
		return from, to - 1
	}
	return from, to
}

// row calls found for each cell in the row at a place that must not leave; it gives whether the row fits.
func (t *cellTable) row(b []byte, at int, found func(start, end int, kind cellKind)) bool {
	if t.sep == atOffsets {
		return t.offsetRow(b, at, found)
	}
	line := chars.LineFrom(b, at)
	if t.ruled {
		t.ruled = false
		return isTableRule(line)
	}
	if isTableRule(line) || t.sep == ' ' && len(line) > 0 && line[0] == '#' {
		return true
	}
	if holdsAlias(line) {
		return false // what was replaced may have had a separator in it
	}
	first, quoted := t.within, t.quoted
	n := first
	open, ok := eachCellFrom(line, t.sep, first, quoted, func(i, _, _ int) bool { n = i + 1; return n <= t.cells })
	switch {
	case !ok, !open && n != t.cells, open && t.lines == maxCellLines:
		t.within, t.quoted, t.lines = 0, false, 0
		t.misfits++
		return t.whole && t.misfits <= maxMisfits && len(bytes.TrimSpace(line)) > 0
	case open:
		t.within, t.quoted = n-1, true
		t.lines++
	default:
		t.within, t.quoted, t.lines, t.misfits = 0, false, 0, 0
	}
	_, _ = eachCellFrom(line, t.sep, first, quoted, func(n, from, to int) bool {
		from, to = trimmedCell(line, from, to)
		from, to = unquotedCell(line, from, to, open, quoted && n == first)
		if t.kinds[n] == cellUser { // DOMAIN\NAME
			from += 1 + bytes.IndexByte(line[from:to], '\\')
		}
		if t.kinds[n].takes(line[from:to]) {
			found(at+from, at+to, t.kinds[n])
		}
		return true
	})
	return true
}

// rule gives the name of the rule that a kind belongs to, and its class.
func (k cellKind) rule() (string, alias.Class) {
	switch k {
	case cellUser, cellName:
		return userRule, alias.User
	case cellPhone:
		return phoneRule, alias.Phone
	case cellDocument:
		return documentRule, alias.ID
	}
	return keyedSecretRule, alias.Secret
}

// takes says whether a cell holds something of its kind.
func (k cellKind) takes(v []byte) bool {
	switch k {
	case cellSecret:
		return find.IsValue(v) && len(v) <= MaxLearned && !(chars.IsAllDigits(v) && len(v) < 4) && string(v) != `\N` &&
			!chars.IsOneOf(v, "null", "true", "false", "t", "f", "n/a", "-")
	case cellWeak:
		return find.LooksRandom(v) && find.IsValue(v)
	case cellName:
		return find.LooksPersonal(v) && find.IsPerson(v)
	case cellUser:
		return find.IsPerson(v) && bytes.IndexByte(v, '@') < 0 || find.IsTravelName(v)
	case cellDocument:
		return find.IsDocumentNumber(v) || find.IsShortDate(v) || isPlate(v)
	case cellPhone:
		digits := len(chars.OnlyDigits(string(v)))
		return find.IsPhoneLike(v) && digits >= 6 && digits <= 15
	}
	return false
}

// isPlate says whether a cell holds the plate of a vehicle: letters and digits, in groups.
func isPlate(v []byte) bool {
	letters, digits := 0, 0
	for _, c := range v {
		switch {
		case chars.IsUpper(c):
			letters++
		case chars.IsDigit(c):
			digits++
		case c != ' ' && c != '-':
			return false
		}
	}
	return letters > 0 && letters < 5 && digits > 1 && digits < 6
}

// holdsAlias says whether a text holds a placeholder, or an alias that is a word.
func holdsAlias(text []byte) bool {
	if holdsPlaceholder(text) {
		return true
	}
	for at := 0; ; at++ {
		n := bytes.IndexByte(text[at:], '-')
		if n < 0 {
			return false
		}
		at += n
		start := at
		for start > 0 && at-start < 5 && chars.IsWord(text[start-1]) {
			start--
		}
		if find.BeginsWithAlias(text[start:min(len(text), at+16)]) {
			return true
		}
	}
}
