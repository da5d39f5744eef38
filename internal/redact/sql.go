package redact

import (
	"bytes"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// What stands in the rows of SQL, under the names of the columns that the statement gives.

// findRows adds what stands in the rows of SQL from a place on, under the names of their columns. Rows follow each other from block to
// block.
func (e *Engine) findRows(b []byte, from int) {
	kinds, next := e.sqlKinds, -1 // next is where the row may open to which the kinds belong, too
	for _, at := range e.sqlRows {
		switch {
		case at < next:
			continue // within a value
		case b[len(bytes.TrimRight(b[:at], " \r\n"))-1] != ',':
			kinds, _ = kindsOfHeads(find.InsertColumns(b, at))
		case next < 0 && at-from < chars.MaxPair && bytes.IndexByte(b[from:at], ';') < 0: // the first of a block
		case at != next:
			kinds = nil
		}
		start := at + 1
		for _, kind := range kinds {
			for start < len(b) && chars.IsSpace(b[start]) {
				start++
			}
			end := find.SqlValueEnd(b, start)
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
