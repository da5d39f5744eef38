package redact

import (
	"bytes"
	"strings"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// Lists of processes, sessions, open files and jobs name the owner in a column, under a head that says which. Nothing stands beside
// the name that tells, so the rows under such a head are read by the number of their fields, as long as they fit.

// column is where the names stand in the rows under a head.
type column struct {
	open    bool
	name    int // number of the field
	check   int // number of one that shows that a row fits
	console bool
}

// nameHeads are the heads of columns with names; numberHeads, of those whose fields are numbers; consoleHeads, of those with terminals.
// Fields of others tell nothing.
var (
	nameHeads    = chars.WordSet("user username owner login uid account")
	numberHeads  = chars.WordSet("pid ppid id uid nlwp shmid semid msqid jobid session euid ruid lwp tgid")
	consoleHeads = chars.WordSet("tty tt seat line")
	otherHeads   = chars.WordSet(`c stime time cmd command args comm fd type device node name from what idle jcpu pcpu state status
	perms bytes nattch key group machine protocol partition nodes
		sessionname start started stat rss vsz pri pr ni virt res shr s elapsed size priority queue host domain process program image
	threads handles mem cpu winsta path file inode`)
)

// lastHead bounds in which of the first columns names and what is checked stand.
const lastHead = 4

// maxRowHead is within how many bytes of a row those stand: what a process was called with may be very long.
const maxRowHead = 512

// endsHead says whether a word that may be the head of a column with names ends before a place: in capitals, or with more than one
// space behind it.
func endsHead(b []byte, at int) bool {
	if at < 3 || at+1 >= len(b) || b[at+1] != ' ' && !chars.IsUpper(b[at-1]) {
		return false
	}
	switch b[at-1] | 0x20 {
	case 'r', 'e', 'n', 'd', 't':
	default:
		return false
	}
	start := at
	for start > 0 && at-start < 9 && chars.IsWord(b[start-1]) {
		start--
	}
	return (start == 0 || chars.IsBlank(b[start-1])) && chars.HasWord(nameHeads, b[start:at])
}

// headAt reads the head that a line is, if its word before a place says where names are.
func headAt(b []byte, at int) (c column) {
	first := chars.LineStart(b, at)
	if first > 0 && b[first-1] != '\n' {
		return c
	}
	line := chars.LineFrom(b, first)
	if len(line) > 200 {
		return c
	}
	c.name, c.check = -1, -1
	known := 0
	words := strings.Fields(strings.ToLower(string(line)))
	for i, w := range words {
		w = strings.Trim(w, "%+@*#")
		switch {
		case nameHeads.Has(w) && c.name < 0:
			c.name = i
		case nameHeads.Has(w) && words[c.name] == "uid" && w != "uid": // the number and the name
			c.check, c.name, c.console = c.name, i, false
		case numberHeads.Has(w) && c.check < 0:
			c.check = i
		case consoleHeads.Has(w) && c.check < 0:
			c.check, c.console = i, true
		}
		if nameHeads.Has(w) || numberHeads.Has(w) || consoleHeads.Has(w) || otherHeads.Has(w) {
			known++
		}
	}
	c.open = len(words) >= 4 && known >= 3 && 2*known > len(words) && c.name >= 0 && c.name <= lastHead && c.check >= 0 &&
		c.check <= lastHead && c.name != c.check
	return c
}

// row gives the name in a row that begins at a place; fits is false where the table ends.
func (c *column) row(b []byte, at int) (start, end int, fits bool) {
	line := chars.LineFrom(b, at)
	words := chars.FieldsAt(line[:min(len(line), maxRowHead)], at)
	if words = words[:min(len(words), lastHead+1)]; len(words) <= max(c.name, c.check) {
		return 0, 0, false
	}
	for _, w := range words { // what was replaced before may have had another number of fields
		if find.IsAliasWord(b[w[0]:w[1]]) || holdsPlaceholder(b[w[0]:w[1]]) {
			return 0, 0, false
		}
	}
	if !c.fits(b[words[c.check][0]:words[c.check][1]]) && (c.check == 0 || c.check-1 == c.name || c.check < c.name ||
		!c.fits(b[words[c.check-1][0]:words[c.check-1][1]])) {
		return 0, 0, false
	}
	w := words[c.name]
	if b[w[0]] == '>' { // the session that asks
		w[0]++
	}
	start, end = w[0], chars.NameAt(b, w[0])
	if end < w[1] && b[end] == '\\' { // DOMAIN\NAME
		start = end + 1
		end = chars.NameAt(b, start)
	}
	if end < w[1] && b[end] != '+' || chars.IsDigit(b[start]) { // + where the name is cut off
		end = start
	}
	return start, end, true
}

func (c *column) fits(field []byte) bool {
	if c.console {
		return bytes.HasPrefix(field, []byte("tty")) || bytes.HasPrefix(field, []byte("pts/")) ||
			chars.IsOneOf(field, "console", "seat0", "?", "-", ":0", ":1", "hvc0")
	}
	return chars.IsAllDigits(field)
}
