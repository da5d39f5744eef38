package redact

import (
	"bytes"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
)

// What stands in the rows of SQL, under the names of the columns that the statement gives.

// findInsert finds the secret in a row of an SQL statement that names its columns: INSERT INTO users (login,
// password) VALUES ('svc', '…').
func findInsert(b []byte, at, free int) (int, int, bool) {
	start := at + 1
	for _, column := range insertColumns(b, at) {
		for start < len(b) && chars.IsSpace(b[start]) {
			start++
		}
		end := sqlValueEnd(b, start)
		if kindOf(column)&keySecret != 0 && end-start > 2 && b[start] == '\'' {
			return start + 1, end - 1, start+1 >= free && isValue(b[start+1:end-1])
		}
		if end >= len(b) || b[end] != ',' {
			return 0, 0, false
		}
		start = end + 1
	}
	return 0, 0, false
}

// insertColumns gives the names of the columns of the first row of an SQL statement, which opens at a place, if the statement names them.
func insertColumns(b []byte, at int) [][]byte {
	before := bytes.TrimRight(b[max(0, at-2*chars.MaxPair):at], " \r\n")
	if len(before) < 10 || !bytes.EqualFold(before[len(before)-6:], []byte("VALUES")) {
		return nil
	}
	before = bytes.TrimRight(before[:len(before)-6], " \r\n")
	open := bytes.LastIndexByte(before, '(')
	if open < 0 || before[len(before)-1] != ')' {
		return nil
	}
	columns := bytes.Split(before[open+1:len(before)-1], []byte(","))
	for i := range columns {
		columns[i] = bytes.Trim(columns[i], " \r\n`\"'[]")
	}
	return columns
}

// sqlValueEnd gives the end of the value at a place: a text in quotes, which are doubled within, or anything up to a comma.
func sqlValueEnd(b []byte, at int) int {
	if at < len(b) && b[at] == '\'' {
		for i := at + 1; i < len(b) && b[i] != '\n'; i++ {
			switch {
			case b[i] == '\\':
				i++
			case b[i] == '\'' && i+1 < len(b) && b[i+1] == '\'':
				i++
			case b[i] == '\'':
				return i + 1
			}
		}
		return len(b)
	}
	for at < len(b) && b[at] != ',' && b[at] != ')' && b[at] != '\n' {
		at++
	}
	return at
}

// findRows adds what stands in the rows of SQL from a place on, under the names of their columns. Rows follow each other from block to
// block.
func (e *Engine) findRows(b []byte, from int) {
	kinds, next := e.sqlKinds, -1 // next is where the row may open to which the kinds belong, too
	for _, at := range e.sqlRows {
		switch {
		case at < next:
			continue // within a value
		case b[len(bytes.TrimRight(b[:at], " \r\n"))-1] != ',':
			kinds, _ = kindsOfHeads(insertColumns(b, at))
		case next < 0 && at-from < chars.MaxPair && bytes.IndexByte(b[from:at], ';') < 0: // the first of a block
		case at != next:
			kinds = nil
		}
		start := at + 1
		for _, kind := range kinds {
			for start < len(b) && chars.IsSpace(b[start]) {
				start++
			}
			end := sqlValueEnd(b, start)
			if end-start > 2 && b[start] == '\'' && kind.takes(b[start+1:end-1]) {
				rule, class := kind.rule()
				if class == alias.Secret {
					rule = wordedSecretRule // as in the first row
				}
				e.add(b, from, start+1, end-1, rule)
			}
			if start = end; end >= len(b) || b[end] != ',' {
				break
			}
			start++
		}
		for next = start; next < len(b) && bytes.IndexByte([]byte("), \r\n"), b[next]) >= 0; {
			next++
		}
	}
	if e.sqlNext = nil; next == len(b) || next < 0 && len(e.sqlRows) == 0 && len(b)-from < chars.MaxPair {
		e.sqlNext = kinds
	}
}

// rowBefore gives where the last row opens before a place; where there is none, the place, and so it does for one that is too long.
func (e *Engine) rowBefore(at int) int {
	for i := len(e.sqlRows) - 1; i >= 0; i-- {
		if row := e.sqlRows[i]; row <= at && at-row < keepBack {
			return row
		}
	}
	return at
}

// opensRow says whether a row of SQL may open at a bracket.
func opensRow(b []byte, at int) bool {
	if at < 8 {
		return false
	}
	before := bytes.TrimRight(b[at-8:at], " \r\n")
	n := len(before)
	return n > 5 && (before[n-1] == ',' && before[n-2] == ')' || before[n-1]|0x20 == 's' && chars.IsOneOf(before[n-6:], "values"))
}
