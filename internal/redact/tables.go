package redact

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

func (t *table) open() bool { return t.column.open || t.cells.sep != 0 }

// mayHead are the bytes at which heads of tables and of differences are noticed.
var mayHead = *chars.BytesOf(" @" + cellSeps)

// noteHead notes a place in a line that may be the head of a table.
func (e *Engine) noteHead(b []byte, at, from int) {
	switch b[at] {
	case ' ':
		if endsHead(b, at) || endsTellingHead(b, at) || bytes.HasSuffix(b[:at], []byte(" "+webLogUser)) {
			e.heads = append(e.heads, at)
		}
	case '@':
		if opensHunk(b, at) {
			e.texts.seesHunks(b, from)
		}
	case ',', ';', '\t', '|':
		if n := len(e.heads); (n == 0 || e.lineAt.end(b, e.heads[n-1]) <= at) && e.endsCellHead(b, at) {
			e.heads = append(e.heads, at)
		}
	}
}

// end gives the beginning of the line behind that of a place.
func (l *lineAt) end(b []byte, at int) int {
	if at < l.from || at >= l.to {
		l.from, l.to = at, chars.NextLine(b, at)
	}
	return l.to
}

// endsCellHead says whether the head of a cell that tells may end before a separator, or a row of such heads.
func (e *Engine) endsCellHead(b []byte, at int) bool {
	if at == 0 {
		return false
	}
	end := at
	switch {
	case b[at] == '|' && b[at-1] == ' ': // where the next line can be seen, it begins like a rule
		next := e.lineAt.end(b, at)
		return next == len(b) || bytes.IndexByte([]byte("-+|: "), b[next]) >= 0
	case b[at] == ';' && bytes.HasSuffix(b[:at], []byte(" stdin")):
		return true
	case b[at-1] == '"' || b[at-1] == '\'':
		end--
	}
	start := find.KeyBegin(b, end)
	return find.KindOf(b[start:end])&tellingHead != 0
}

// findTables finds what stands in the rows from a place on, of the table that is open and of those whose heads were seen.
func (e *Engine) findTables(b []byte, from int) {
	t, heads, at := e.rows, e.heads, from
	if at > 0 && b[at-1] != '\n' {
		at = chars.NextLine(b, at)
	}
	for at < len(b) {
		switch {
		case t.column.open:
			start, end, fits := t.column.row(b, at)
			if !fits {
				t = table{}
				continue
			}
			if start < end && find.IsPerson(b[start:end]) {
				e.addAccount(b, from, start, end)
			}
			at = chars.NextLine(b, at)
		case t.cells.sep != 0:
			if !t.cells.row(b, at, func(start, end int, kind cellKind) { e.addCell(b, from, start, end, kind) }) {
				t = table{}
				continue
			}
			at = chars.NextLine(b, at)
		case len(heads) == 0:
			at = len(b)
		default:
			head := heads[0]
			if heads = heads[1:]; head < at {
				continue
			}
			if head == 0 {
				for at < len(b) && b[at] == '#' && !bytes.HasPrefix(b[at:], []byte("#Fields: ")) { // what a log says of itself
					at = chars.NextLine(b, at)
				}
				if head = at; head == len(b) {
					continue
				}
			}
			if b[head] == ' ' {
				t.column = headAt(b, head)
			}
			if cells, ok := cellsHead(b, head); ok && !t.column.open {
				t.cells = cells
			} else if cells, ok := offsetsHead(b, head); ok && b[head] == ' ' && !t.column.open {
				t.cells = cells
			}
			if t.open() {
				at = chars.NextLine(b, head)
			}
		}
	}
	e.rowsNext = t
}

// addCell adds what stands in a cell. The account of a service, or an everyday word, goes where it stands.
func (e *Engine) addCell(b []byte, from, start, end int, kind cellKind) {
	rule, _ := kind.rule()
	n := len(e.findings)
	if e.addJudged(b, from, start, end, rule, kind == cellUser); len(e.findings) > n && kind == cellUser {
		e.findings[n].weak = !find.IsLoginWord(b[start:end]) && bytes.IndexByte(b[start:end], ' ') < 0
	}
}

// webLogUser is the name of the column with names in the heads of web servers' logs, which are written anew at each start.
const webLogUser = "cs-username"
