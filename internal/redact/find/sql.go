package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// What stands in the rows of SQL, under the names of the columns that the statement gives.

// findInsert finds the secret in a row of an SQL statement that names its columns: INSERT INTO users (login,
// password) VALUES ('svc', '…').
func findInsert(b []byte, at, free int) (int, int, bool) {
	start := at + 1
	for _, column := range InsertColumns(b, at) {
		for start < len(b) && chars.IsSpace(b[start]) {
			start++
		}
		end := SqlValueEnd(b, start)
		if KindOf(column)&KeySecret != 0 && end-start > 2 && b[start] == '\'' {
			return start + 1, end - 1, start+1 >= free && IsValue(b[start+1:end-1])
		}
		if end >= len(b) || b[end] != ',' {
			return 0, 0, false
		}
		start = end + 1
	}
	return 0, 0, false
}

// InsertColumns gives the names of the columns of the first row of an SQL statement, which opens at a place, if the statement names them.
func InsertColumns(b []byte, at int) [][]byte {
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

// SqlValueEnd gives the end of the value at a place: a text in quotes, which are doubled within, or anything up to a comma.
func SqlValueEnd(b []byte, at int) int {
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
