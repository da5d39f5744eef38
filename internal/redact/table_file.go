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
	_, telling := columnKinds(line, delimiter(line))
	return telling
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

// columnKinds gives what each column holds, and whether any of them matters.
func columnKinds(line []byte, by byte) ([]cellKind, bool) {
	names := tableFields(bytes.TrimRight(bytes.TrimPrefix(line, []byte("\xef\xbb\xbf")), "\r\n"), by)
	for i := range names {
		names[i] = bytes.Trim(names[i], "\" ")
	}
	return kindsOfHeads(names)
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
	kinds  []cellKind
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
		t.kinds, _ = columnKinds(row, t.by)
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
func (t *tableReader) field(f []byte, kind cellKind) []byte {
	bare := bytes.Trim(f, "\" ")
	rule, class := kind.rule()
	if !kind.takes(bare) || isAlias(class, bare) || bytes.Contains(bare, placeholderHead) || t.e.ignore[string(bare)] || t.e.options.Config.keeps(class, rule) {
		return f
	}
	t.found(rule, Value{string(bare), class, rule})
	put := Placeholder(rule)
	if class != Secret {
		put = t.e.replacement(finding{class: class, rule: rule}, bare)
	}
	return bytes.Replace(f, bare, []byte(put), 1)
}

func (t *tableReader) found(rule string, v Value) {
	t.counts[rule]++
	if t.e.learned != nil {
		t.e.learned.Add(v)
	}
}
