package redact

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// Lists whose columns begin at the same place in each line, under heads in capitals or with more than one blank between them:
//
//	NAME                 SEX  DOB         PASSPORT
//	TOSTRUND, ILVAR      M    1979-11-02  XK1234567

// atOffsets is the separator of such tables: none.
const atOffsets = 1

// leastOffsets is how many columns such a table has at least.
const leastOffsets = 3

// endsTellingHead says whether a word that tells, in capitals at its beginning at least, ends before two blanks.
func endsTellingHead(b []byte, at int) bool {
	if at < 3 || at+2 >= len(b) || b[at+1] != ' ' || !chars.IsWord(b[at-1]) || chars.IsDigit(b[at-1]) {
		return false
	}
	start := find.KeyBegin(b, at)
	return chars.IsUpper(b[start]) && at-start < 24 && find.KindOf(b[start:at])&tellingHead != 0
}

// tellingHead are the kinds of heads of columns that make a table worth it.
const tellingHead = find.KeySecret | find.KeyUser | find.KeyPhone | find.KeyDocument

// offsetsHead reads the head of such a table in the line that a place is in.
func offsetsHead(b []byte, at int) (t cellTable, ok bool) {
	first := chars.LineStart(b, at)
	line := bytes.TrimRight(chars.LineFrom(b, first), " \r")
	if first > 0 && b[first-1] != '\n' || len(line) > 200 || bytes.IndexByte(line, '\t') >= 0 {
		return t, false
	}
	var names [][]byte
	for n := 0; n < len(line); {
		if line[n] == ' ' {
			n++
			continue
		}
		end := n
		for end < len(line) && (line[end] != ' ' || end+1 < len(line) && line[end+1] != ' ') {
			end++
		}
		name := line[n:end]
		if len(names) == maxCells || !isHeadName(name) {
			return t, false
		}
		names, t.offsets = append(names, name), append(t.offsets, n)
		n = end
	}
	if len(names) < leastOffsets {
		return t, false
	}
	kinds, telling := kindsOfHeads(names)
	if !telling {
		return t, false
	}
	t.sep, t.cells = atOffsets, copy(t.kinds[:], kinds)
	return t, true
}

// isHeadName says whether a text can be the name of a column: up to three words of letters, of which the first begins with a capital; a
// type of the registry of Windows stands between a name and its value.
func isHeadName(name []byte) bool {
	for _, c := range name {
		if !chars.IsKeyByte(c) && c != ' ' && c != '.' && c != '/' && c != '#' {
			return false
		}
	}
	return len(name) <= 40 && !bytes.HasPrefix(name, []byte("REG_")) && (chars.IsUpper(name[0]) || name[0] >= 0x80) &&
		bytes.Count(name, []byte(" ")) < 3
}

// offsetRow calls found for each cell in the row at a place that must not leave; it gives whether the row fits: a blank stands before each
// column that matters.
func (t *cellTable) offsetRow(b []byte, at int, found func(start, end int, kind cellKind)) bool {
	line := bytes.TrimRight(chars.LineFrom(b, at), " \r")
	if len(line) > 0 && len(bytes.Trim(line, "-=+ ")) == 0 {
		return true
	}
	if len(line) <= t.offsets[1] || holdsAlias(line) || bytes.IndexByte(line, '\t') >= 0 {
		return false
	}
	for n, from := range t.offsets {
		if from > 0 && from < len(line) && line[from-1] != ' ' && (n == 0 || t.kinds[n] != cellOther) {
			return false
		}
	}
	for n, from := range t.offsets {
		to := len(line)
		if n+1 < len(t.offsets) {
			to = min(to, t.offsets[n+1])
		}
		if from >= to {
			break
		}
		// what is behind stands too near
		if blank := bytes.IndexByte(line[from:to], ' '); blank > 0 && to < len(line) && line[to-1] != ' ' {
			to = from + blank
		}
		if from, to = trimmedCell(line, from, to); t.kinds[n].takes(line[from:to]) {
			found(at+from, at+to, t.kinds[n])
		}
	}
	return true
}
