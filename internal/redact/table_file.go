package redact

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"strings"
)

// Tables in text (RFC 4180 and its kin with semicolons or tabs) name their columns in the first line, far from the values:
// a column under a telling name is taken by that name, and each line is then redacted like any other text.

// isTable tells a table by its ending and a first line that names a telling column.
func isTable(head []byte, name string) bool {
	low := strings.ToLower(name)
	if !strings.HasSuffix(low, ".csv") && !strings.HasSuffix(low, ".tsv") {
		return false
	}
	line, _, ok := bytes.Cut(head, []byte("\n"))
	if !ok {
		return false
	}
	for _, kind := range columnKinds(line, delimiter(line)) {
		if kind != 0 {
			return true
		}
	}
	return false
}

// delimiter gives the sign between the columns: the commonest of those in use.
func delimiter(line []byte) byte {
	best, most := byte(','), 0
	for _, d := range []byte(",;\t|") {
		if n := bytes.Count(line, []byte{d}); n > most {
			best, most = d, n
		}
	}
	return best
}

// columnKinds gives what each column announces.
func columnKinds(line []byte, by byte) []keyKind {
	var out []keyKind
	for _, f := range tableFields(bytes.TrimRight(bytes.TrimPrefix(line, []byte("\xef\xbb\xbf")), "\r\n"), by) {
		out = append(out, kindOf(bytes.Trim(f, "\" "))&(keySecret|keyUser|keyPhone))
	}
	return out
}

// tableFields parts a line into its fields, quotes included.
func tableFields(line []byte, by byte) [][]byte {
	var out [][]byte
	start, quoted := 0, false
	for i, c := range line {
		switch {
		case c == '"':
			quoted = !quoted
		case c == by && !quoted:
			out = append(out, line[start:i])
			start = i + 1
		}
	}
	return append(out, line[start:])
}

// maxRow bounds one row of a table, in bytes. What is longer is redacted as text alone.
const maxRow = 1 << 20

// applyTable redacts a table.
func applyTable(e *Engine, w io.Writer, r io.Reader, in Source) (Result, error) {
	t := &tableReader{e: e, r: bufio.NewReaderSize(r, 64<<10), counts: Counts{}}
	res, err := applyText(e, w, t, in)
	res.Counts.Add(t.counts)
	return res, err
}

// tableReader gives the lines of a table with the fields of telling columns replaced.
type tableReader struct {
	e      *Engine
	r      *bufio.Reader
	kinds  []keyKind
	by     byte
	out    []byte
	counts Counts
	long   bool // within a row that is too long
}

func (t *tableReader) Read(b []byte) (int, error) {
	for len(t.out) == 0 {
		row, err := t.row()
		t.out = t.redacted(row)
		if len(t.out) == 0 && err != nil {
			return 0, err
		}
	}
	n := copy(b, t.out)
	t.out = t.out[n:]
	return n, nil
}

// row reads one row; a quoted field may go on over lines.
func (t *tableReader) row() ([]byte, error) {
	var row []byte
	for {
		piece, err := t.r.ReadSlice('\n')
		row = append(row, piece...)
		if errors.Is(err, bufio.ErrBufferFull) && len(row) < maxRow {
			continue
		}
		t.long = errors.Is(err, bufio.ErrBufferFull) || len(row) >= maxRow
		if err != nil || t.long || bytes.Count(row, []byte{'"'})%2 == 0 {
			if t.long {
				err = nil
			}
			return row, err
		}
	}
}

// redacted replaces the fields of telling columns in a row.
func (t *tableReader) redacted(row []byte) []byte {
	if t.kinds == nil {
		t.by = delimiter(row)
		t.kinds = columnKinds(row, t.by)
		return row
	}
	if t.long || t.e.scan != nil {
		return row
	}
	line := bytes.TrimRight(row, "\r\n")
	fields := tableFields(line, t.by)
	if len(fields) > len(t.kinds) {
		return row // no row of this table
	}
	var out []byte
	for i, f := range fields {
		if i > 0 {
			out = append(out, t.by)
		}
		out = append(out, t.field(f, t.kinds[i])...)
	}
	return append(out, row[len(line):]...)
}

// field gives what stands instead of a field.
func (t *tableReader) field(f []byte, kind keyKind) []byte {
	bare := bytes.Trim(f, "\" ")
	if kind == 0 || len(bare) == 0 || !isValue(bare) || bytes.Contains(bare, placeholderHead) || t.e.ignore[string(bare)] {
		return f
	}
	var put string
	switch {
	case kind&keySecret != 0:
		if t.e.options.Config.keeps(Secret, "keyed-secret") {
			return f
		}
		t.found("keyed-secret", Value{string(bare), Secret, "keyed-secret"})
		put = Placeholder("keyed-secret")
	case kind&keyUser != 0:
		if !isPerson(bare) || isAlias(User, bare) || bytes.IndexByte(bare, '@') >= 0 || t.e.options.Config.keeps(User, "user") {
			return f
		}
		t.found("user", Value{string(bare), User, "user"})
		put = t.e.replacement(finding{class: User, rule: "user"}, bare)
	default:
		if n := len(onlyDigits(string(bare))); n < 6 || n > 15 || isAlias(Phone, bare) || t.e.options.Config.keeps(Phone, "phone") {
			return f
		}
		t.found("phone", Value{string(bare), Phone, "phone"})
		put = t.e.replacement(finding{class: Phone, rule: "phone"}, bare)
	}
	return bytes.Replace(f, bare, []byte(put), 1)
}

func (t *tableReader) found(rule string, v Value) {
	t.counts[rule]++
	if t.e.learned != nil {
		t.e.learned.Add(v)
	}
}
