package redact

import (
	"bytes"
	"cmp"
	"slices"
	"strconv"
	"unicode/utf16"
	"unicode/utf8"

	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// Where texts begin and end in a block, and how they read.

// gather finds the texts of a block from a place on and lays them out below each other.
func (t *texts) gather(b []byte, from int) {
	t.found, t.parts, t.laid, t.part, t.listed = t.found[:0], t.parts[:0], append(t.laid[:0], '\n'), 0, 0
	at := from
	if t.carried != 0 {
		start := max(0, from-t.back)
		start += find.Backslashes(b, start, max(0, start-chars.MaxKey)) % 2
		if end := textEnd(b, from, t.carriedIn, t.carried); end > from {
			t.found = append(t.found, quotedText{start: start, end: end, sign: t.carried, quote: t.carriedIn})
			at = min(len(b), end+1)
		}
	}
	t.gatherQuoted(b, at)
	double := len(t.found)
	t.gatherSingle(b, at)
	t.gatherMarkup(b, at)
	if number := bytes.IndexByte(b[at:], '#') >= 0; number || bytes.IndexByte(b[at:], escapeSign) >= 0 {
		t.gatherControl(b, at)
		if number {
			t.gatherComments(b, at)
		}
	}
	if t.hunks {
		t.gatherHunks(b, at)
	} else {
		t.gatherPrefixed(b, at)
	}
	t.gatherCoded(b, at)
	if len(t.found) > double {
		slices.SortStableFunc(t.found, func(a, b quotedText) int { return cmp.Compare(a.start, b.start) })
	}
	kept := t.found[:0]
	for _, q := range t.found {
		if n := len(kept); n > 0 && q.start < kept[n-1].end {
			continue // one in the other
		}
		t.add(b, &q)
		kept = append(kept, q)
	}
	t.found = kept
}

// gatherQuoted finds those in double quotes.
func (t *texts) gatherQuoted(b []byte, at int) {
	for {
		n := bytes.IndexByte(b[at:], '"')
		if n < 0 {
			return
		}
		quote := at + n
		first := at + bytes.LastIndexByte(b[at:quote], '\n') + 1
		end := len(b)
		if n := bytes.IndexByte(b[quote:], '\n'); n >= 0 {
			end = quote + n
		}
		for first < quote && chars.IsSpace(b[first]) {
			first++
		}
		if c := b[first]; c == '{' || c == '[' {
			t.gatherByBlanks(b, first, end)
		} else {
			t.gatherByQuotes(b, quote, end)
		}
		at = end
	}
}

// gatherByBlanks does so in a line of JSON, most texts of which have no blanks and no escapes: where there is one, the text begins with
// the quote before.
func (t *texts) gatherByBlanks(b []byte, at, end int) {
	escape := -1
	for at < end {
		blank := chars.IndexFrom(b, at, end, ' ')
		if escape < at {
			escape = chars.IndexFrom(b, at, end, '\\')
		}
		next := min(blank, escape)
		if next == end {
			return
		}
		quote := next - 1
		for quote >= at && b[quote] != '"' && b[quote] > ' ' {
			quote--
		}
		if quote < at || b[quote] != '"' || !t.take(b, quote, next, opens(b, quote), &at) {
			at = next + 1
			if next == escape {
				at++
			}
		}
	}
}

// gatherSingle finds those in single quotes, as Python, YAML, SQL and shells write them.
func (t *texts) gatherSingle(b []byte, at int) {
	for {
		n := bytes.IndexByte(b[at:], '\'')
		if n < 0 {
			return
		}
		quote := at + n
		at = quote + 1
		sign := opens(b, quote)
		switch {
		case sign == 0:
			continue
		case sign == '-', sign == ':' && !bytes.HasSuffix(b[:quote], []byte("': ")):
			sign = doubling
		}
		if quote > 1 && b[quote-1] == ':' && b[quote-2] == '"' && bytes.IndexByte(b[at:chars.NextLine(b, at)], '\'') < 0 {
			continue // of a key of JSON that begins with a colon
		}
		for ; at < len(b) && b[at] != '\'' && (b[at] == '"' || !endsWord[b[at]]); at++ {
		}
		if at < len(b) && (b[at] == ' ' || b[at] == '\\' || quoteWithin(b, at, '\'', sign)) {
			t.take(b, quote, at, sign, &at)
		}
	}
}

// gatherMarkup finds the contents of elements of XML and HTML: in documents of these, those with blanks or signs that are written as
// entities, elsewhere those with such signs alone, within a line.
func (t *texts) gatherMarkup(b []byte, at int) {
	sign := []byte("&")
	if t.markup {
		sign = []byte("</")
	}
	tag, seen := -1, at // the last sign of a tag so far, and how far that is
	for {
		n := bytes.Index(b[at:], sign)
		if n < 0 {
			return
		}
		at += n
		if n := bytes.LastIndexAny(b[seen:at], "<>"); n >= 0 {
			tag = seen + n
		}
		seen = at
		start, end := tag+1, at
		switch {
		case tag < 0 || b[tag] != '>' || at-tag > chars.MaxText:
			end = start
		case t.markup:
			if v := b[start:end]; len(v) < minText || !bytes.ContainsAny(v, " &\n\t:@") || len(bytes.TrimSpace(v)) < minText {
				end = start
			}
		case entityLen(b[at:]) == 0 || bytes.IndexByte(b[start:at], '\n') >= 0:
			end = start
		default:
			end += max(0, bytes.IndexAny(b[at:min(len(b), at+chars.MaxValue)], "<\n"))
		}
		if end > start {
			t.found = append(t.found, quotedText{start: start, end: end, sign: '>', quote: '>'})
			tag = -1
		}
		at = max(at+1, end)
	}
}

// entities are those of XML.
var entities = []struct {
	name string
	sign rune
}{{"&lt;", '<'}, {"&gt;", '>'}, {"&amp;", '&'}, {"&quot;", '"'}, {"&apos;", '\''}}

// entity gives the sign of ASCII that an entity at the beginning of a text stands for, and how long the entity is, or 0.
func entity(v []byte) (sign rune, size int) {
	for _, e := range entities {
		if bytes.HasPrefix(v, []byte(e.name)) {
			return e.sign, len(e.name)
		}
	}
	end := bytes.IndexByte(v[:min(len(v), 8)], ';')
	if end < 3 || v[1] != '#' {
		return 0, 0
	}
	digits, base := string(v[2:end]), 10
	if digits[0] == 'x' {
		digits, base = digits[1:], 16
	}
	n, err := strconv.ParseUint(digits, base, 7)
	if err != nil || n == 0 {
		return 0, 0
	}
	return rune(n), end + 1
}

func entityLen(v []byte) int {
	_, size := entity(v)
	return size
}

// gatherByQuotes does so in other lines.
func (t *texts) gatherByQuotes(b []byte, at, end int) {
	for at < end {
		quote := chars.IndexFrom(b, at, end, '"')
		for at = quote + 1; at < end && !endsWord[b[at]]; at++ {
		}
		if at < end && (b[at] == ' ' || b[at] == '\\' || quoteWithin(b, at, '"', ',')) {
			t.take(b, quote, at, opens(b, quote), &at)
		}
	}
}

var endsWord = *chars.BytesOf(" \\\"\t\r\n")

// take takes the text that begins with a quote behind a sign and has its first blank or escape at a place, if it is one, and moves on
// behind it.
func (t *texts) take(b []byte, quote, blank int, sign byte, at *int) bool {
	if sign == 0 {
		return false
	}
	end := textEnd(b, blank, b[quote], sign)
	if end < 0 { // nor does another one end in this line
		*at = -end
		return true
	}
	if end < len(b) && !closes(b, end, sign) {
		return false
	}
	*at = min(len(b), end+1)
	if v := b[quote+1 : end]; len(v) >= minText && !find.IsPlaceholder(v) {
		t.found = append(t.found, quotedText{start: quote + 1, end: end, sign: sign, quote: b[quote]})
	}
	return true
}

// textEnd gives the quote that ends a text from a place in it on, the end of the block, or, where the line ends before, minus the place
// of that.
func textEnd(b []byte, from int, quote, sign byte) int {
	for at := from; ; at++ {
		n := bytes.IndexByte(b[at:], quote)
		end := len(b)
		if n >= 0 {
			end = at + n
		}
		if n := bytes.IndexByte(b[at:end], '\n'); n >= 0 {
			return -max(1, at+n)
		}
		switch {
		case n >= 0 && (end == from || b[end-1] != '\\') && quoteWithin(b, end, quote, sign):
			if end++; b[end] == '\\' {
				end += len(shellQuote) - 2
			}
		case n < 0 || find.Backslashes(b, end, from)%2 == 0:
			return end
		}
		at = end
	}
}

// doubling is the sign before a text in single quotes of YAML.
const doubling = '\''

// doubles says whether two quotes within a text with a sign before it stand for one: as in tables with separators (RFC 4180), in SQL,
// and in single quotes of YAML.
func doubles(sign byte) bool { return sign == ',' || sign == '\n' || sign == doubling }

var newLine, hexEscape = []byte("\n"), []byte(`\u00`)

// shellQuote is how a shell writes a single quote between others: the text ends, a quote stands for itself, and the text begins again.
var shellQuote = []byte(`'\''`)

// quoteWithin says whether a text goes on behind a quote in it, which is written as two or as shells do.
func quoteWithin(b []byte, at int, quote, sign byte) bool {
	if sign == '=' && quote == '\'' {
		return bytes.HasPrefix(b[at:], shellQuote)
	}
	return doubles(sign) && at+1 < len(b) && b[at] == quote && b[at+1] == quote
}

// add lays out a text. What is no line of an output has nothing to do with what is before it, unless both are of one list of JSON, as
// programs write the lines of an output, too.
func (t *texts) add(b []byte, q *quotedText) {
	listed := q.sign == '[' || q.sign == ',' && t.listed > 0 && string(bytes.TrimRight(b[t.listed:q.start-1], " \t\r\n")) == ","
	if listed && q.sign == ',' {
		t.laid = bytes.TrimSuffix(t.laid, newLine)
	}
	if t.listed = 0; listed {
		t.listed = q.end + 1
	}
	q.laid = len(t.laid)
	t.lay(b[q.start:q.end], q)
	q.laidEnd = len(t.laid)
	switch same := q.laidEnd-q.laid == q.end-q.start; {
	case q.quote == '#':
		q.sure = bytes.Count(bytes.TrimSuffix(t.laid[q.laid:], newLine), newLine) > 1 // one may be part of a password
	case q.quote == '>': // elsewhere the tag may be none
		q.sure = t.markup
	case q.quote == prefixQuote || isCoded(q): // or it is part of what the line says
	case same || isLine(q.quote):
		q.sure = true
	}
	if t.laid[len(t.laid)-1] != '\n' {
		t.laid = append(t.laid, '\n', '\n')
	}
}

// opens gives the sign before a quote with which a text begins behind it, or 0; it is a line end where nothing stands before it.
func opens(b []byte, quote int) byte {
	i := quote
	for i > 0 && quote-i < chars.MaxKey && chars.IsBlank(b[i-1]) {
		i--
	}
	switch {
	case i == 0 || quote-i < chars.MaxKey && i < quote && bytes.IndexByte(b[i:quote], '\n') >= 0 && b[i-1] != '\\':
		return '\n'
	case b[i-1] == ':' || b[i-1] == ',' || b[i-1] == '[' || b[i-1] == '{' || b[i-1] == '(':
		return b[i-1]
	case b[i-1] == '=' && i == quote:
		return '='
	case b[i-1] == '-' && i < quote && len(bytes.TrimLeft(b[chars.LineStart(b, i-1):i-1], " \t-")) == 0: // in a list of YAML
		return '-'
	}
	return 0
}

// closes says whether a text ends with a quote, by what follows it and by the sign before the text.
func closes(b []byte, quote int, sign byte) bool {
	if find.ClosesAt(b, quote) {
		return true
	}
	return sign == '=' && bytes.IndexByte([]byte(" \t>/"), b[quote+1]) >= 0
}

// lay lays a text out as it reads, with what its escapes stand for (RFC 8259, section 7). A text with a backslash that is none stays as it
// is: a path, most likely.
func (t *texts) lay(v []byte, q *quotedText) {
	t.parts = append(t.parts, stretch{laid: len(t.laid), start: q.start})
	q.plain = q.quote == '>' || isLine(q.quote) || isCoded(q) || q.sign == doubling ||
		q.sign == '=' && bytes.Contains(v, shellQuote) || !allEscapes(v, q.quote)
	q.sure = !q.plain && (q.sign == ':' || q.sign == '[' || q.sign == '{' || bytes.Contains(v, []byte{'\\', q.quote}) ||
		bytes.Contains(v, hexEscape) || bytes.Count(v, lineEscape) > 1)
	var next nextEscape
	for i := 0; i < len(v); {
		n := next.from(v, i, q) - i
		t.laid = append(t.laid, v[i:i+n]...)
		if i += n; i == len(v) {
			return
		}
		r, size := rune(q.quote), 2
		switch v[i] {
		case '\'':
			if q.sign == '=' {
				size, q.sure = len(shellQuote), true
			}
		case '\\':
			r, size = unescape(v[i:], q.quote)
		case '&':
			r, size = entity(v[i:])
		case '#', escapeSign:
			r, size = control(v[i:])
		case '%', '+':
			r, size = percent(v[i:])
		}
		if last := len(t.parts) - 1; t.parts[last].laid == len(t.laid) { // nothing before it
			t.parts = t.parts[:last]
		}
		if r != nothing {
			t.parts = append(t.parts, stretch{len(t.laid), q.start + i, size})
			if v[i] == percentQuote {
				t.laid = append(t.laid, byte(r))
			} else {
				t.laid = utf8.AppendRune(t.laid, r)
			}
		}
		i += size
		if i < len(v) {
			t.parts = append(t.parts, stretch{laid: len(t.laid), start: q.start + i})
		}
	}
}

// lineEscape is how a text in quotes writes the end of a line; one may be part of a password.
var lineEscape = []byte(`\n`)

// nextEscape keeps where the next signs are with which an escape of a text may begin: none is looked for twice.
type nextEscape struct {
	backslash, other int
	control          nextControl
}

// from gives where the next escape begins from a place on, or the end of the text.
func (n *nextEscape) from(v []byte, at int, q *quotedText) int {
	switch {
	case q.plain:
		n.backslash = len(v)
	case n.backslash <= at:
		n.backslash = chars.IndexFrom(v, at, len(v), '\\')
	}
	if n.other > at {
		return min(n.backslash, n.other)
	}
	switch n.other = len(v); {
	case q.quote == percentQuote:
		for n.other = at; n.other < len(v) && (v[n.other] != '%' && v[n.other] != '+' || !isPercent(v[n.other:])); n.other++ {
		}
	case q.quote == escapeSign || q.quote == '#':
		n.other = n.control.from(v, at)
	case q.sign == '>' || q.sign == '=' && q.quote == '"':
		for n.other = chars.IndexFrom(v, at, len(v), '&'); n.other < len(v) && entityLen(v[n.other:]) == 0; {
			n.other = chars.IndexFrom(v, n.other+1, len(v), '&')
		}
	case q.sign == '=' && q.quote == '\'' || doubles(q.sign):
		for n.other = chars.IndexFrom(v, at, len(v), q.quote); n.other < len(v) && !quoteWithin(v, n.other, q.quote, q.sign); {
			n.other = chars.IndexFrom(v, n.other+1, len(v), q.quote)
		}
	}
	return min(n.backslash, n.other)
}

// allEscapes says whether every backslash of a text begins an escape.
func allEscapes(v []byte, quote byte) bool {
	for i := chars.IndexFrom(v, 0, len(v), '\\'); i < len(v); i = chars.IndexFrom(v, i, len(v), '\\') {
		_, size := unescape(v[i:], quote)
		if size == 0 {
			return false
		}
		i += size
	}
	return true
}

// unescape gives the sign that an escape at the beginning of a text stands for, and how long the escape is, or 0.
func unescape(v []byte, quote byte) (r rune, size int) {
	if len(v) < 2 {
		return '\\', len(v)
	}
	if quote == '\'' { // of Python
		switch {
		case v[1] == '\'':
			return '\'', 2
		case v[1] == 'x' && len(v) > 3 && chars.IsHex(v[2]) && chars.IsHex(v[3]) && v[2] < '8':
			return rune(chars.Unhex(v[2])<<4 | chars.Unhex(v[3])), 4
		}
	}
	if n := bytes.IndexByte([]byte(`"\/bfnrt`), v[1]); n >= 0 {
		return rune("\"\\/\b\f\n\r\t"[n]), 2
	}
	r, ok := unit16(v)
	switch {
	case !ok && v[1] == 'u' && len(v) < 6: // cut off with its text
		return utf8.RuneError, len(v)
	case !ok:
		return 0, 0
	case utf16.IsSurrogate(r):
		second, _ := unit16(v[6:])
		if r = utf16.DecodeRune(r, second); r != utf8.RuneError {
			return r, 12
		}
	}
	return r, 6
}

// unit16 reads \u and four digits.
func unit16(v []byte) (rune, bool) {
	if len(v) < 6 || v[0] != '\\' || v[1] != 'u' {
		return 0, false
	}
	r := rune(0)
	for _, c := range v[2:6] {
		if !chars.IsHex(c) {
			return 0, false
		}
		r = r<<4 | rune(chars.Unhex(c))
	}
	return r, true
}

// seesHunks says that a block has hunks. What was gathered before that was known is gathered again.
func (t *texts) seesHunks(b []byte, from int) {
	if !t.hunks {
		if t.hunks = true; t.gathered {
			t.masked = 0
			t.gather(b, from)
		}
	}
}
