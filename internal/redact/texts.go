package redact

import (
	"bytes"
	"cmp"
	"slices"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Programs write what other programs said as texts in quotes: a container's output is lines of JSON with a line of the program in
// each, a message holds a command, a value the whole of a file. What the rules know of lines, and of what stands at their beginning,
// holds within such texts as well, and so does what they know of quotes and slashes, which are written as escapes there. So texts of
// more than one word are laid out below each other as they read, and an engine of its own looks at them. Texts may hold texts.

// maxTextDepth is how many texts within each other are looked into.
const maxTextDepth = 3

// minText is how long a text is that is worth it.
const minText = 6

// quotedText is a text of a block.
type quotedText struct {
	start, end int  // in the block, without its quotes
	sign       byte // before it, see opens
	laid       int  // where it begins among the texts that are laid out
	laidEnd    int
	escapes    bool // it has some
}

// stretch is a part of a text that is laid out as it stands, or an escape.
type stretch struct {
	laid, start int // where it begins, laid out and in the block
	escape      int // how long the escape is, or 0
}

// texts is what an engine keeps to look into texts.
type texts struct {
	found    []quotedText
	finds    []findInText
	laid     []byte
	parts    []stretch
	inner    *Engine
	depth    int  // in how many texts what this engine looks at stands
	gathered bool // before the rules looked; whether there were any is taken for a sign that there will be
	masked   int  // the first text that may go on behind the last chunk
	quotes   bool
	looked   int  // so far quotes are known of
	part     int  // the one that was asked for last
	carried  byte // the sign of a text in which the block begins, which is too long for one
	back     int  // how much of it stands before
}

// noteQuotes says that a chunk of a block was looked at, and whether it has any quotes.
func (t *texts) noteQuotes(b []byte, from, to int, any bool) {
	t.quotes = t.quotes || any || from > t.looked && bytes.IndexByte(b[t.looked:from], '"') >= 0
	t.looked = max(t.looked, to)
}

// before gathers the texts of a block before the rules look, where the block before had some.
func (t *texts) before(b []byte, from int) {
	t.found = t.found[:0]
	if t.gathered {
		t.gather(b, from)
	}
	t.quotes, t.looked, t.masked = len(t.found) > 0 || t.carried != 0, from, 0
}

// unfinished gives the text that goes on behind a block, nil where there is none.
func (t *texts) unfinished(b []byte) *quotedText {
	if n := len(t.found) - 1; n >= 0 && t.found[n].end == len(b) {
		return &t.found[n]
	}
	return nil
}

// carry keeps in mind that a block that ends within a line is done up to a place in a text, in which the next block begins then. It
// gives the place, which is not within an escape.
func (t *texts) carry(b []byte, done, least int) int {
	t.carried = 0
	if q := t.unfinished(b); q != nil && q.start <= done {
		t.carried, t.back = q.sign, min(done-q.start, lookBehind)
		if done > max(least, q.start) && backslashes(b, done, q.start)%2 == 1 {
			done, t.back = done-1, t.back-1
		}
	}
	return done
}

// mask takes the signs within texts of JSON out of what is looked at in a chunk: they are looked at as they read.
func (t *texts) mask(m *marks) {
	if !t.gathered {
		return
	}
	for t.masked < len(t.found) && t.found[t.masked].end <= m.from {
		t.masked++
	}
	for i := t.masked; i < len(t.found) && t.found[i].start < m.to; i++ {
		if q := t.found[i]; q.isJSON() {
			m.clear(max(q.start+1, m.from)-m.from, min(q.end, m.to)-m.from)
		}
	}
}

// clear takes all signs from one place of the chunk to another out of what is looked at.
func (m *marks) clear(from, to int) {
	for w := from >> 6; w <= (to-1)>>6; w++ {
		keep := uint64(0)
		if w == from>>6 {
			keep |= 1<<(from&63) - 1
		}
		if w == to>>6 {
			keep |= ^uint64(0) << (to & 63)
		}
		m.spaces[w] &= keep
		m.classes[equalsClass][1+w] &= keep
		for c := range cardSifted {
			m.sifted[c][w] &= keep
		}
	}
}

// isJSON says whether a text is one of JSON, by the sign before it.
func (q *quotedText) isJSON() bool { return q.sign != '=' && q.sign != '(' }

// findInTexts adds what is found in the texts of a block from a place on to the findings, which are those of rules; so many of them
// are in order and apart from each other, and as many as it gives still are.
func (e *Engine) findInTexts(b []byte, from, ruled int) int {
	t := &e.texts
	t.noteQuotes(b, len(b), len(b), false)
	if !t.quotes || t.depth == maxTextDepth {
		return ruled
	}
	if !t.gathered {
		t.gather(b, from)
	}
	if t.gathered = len(t.found) > 0; !t.gathered {
		return ruled
	}
	if t.inner == nil {
		o := e.options
		o.Aliases, o.Matcher, o.Learned = e.aliases, nil, nil
		t.inner = NewEngine(o)
		t.inner.texts.depth, t.inner.ungated = t.depth+1, e.ungated
	}
	in := t.inner
	in.base, in.rows, in.sqlKinds, in.inKey = 1, table{}, nil, false // it is no beginning of a file
	in.find(t.laid, 0)
	t.finds = t.finds[:0]
	next := 0
	for _, f := range in.findings {
		for next < len(t.found) && t.found[next].laidEnd <= f.start {
			next++
		}
		for i := next; i < len(t.found) && t.found[i].laid < f.end; i++ { // a key block may go over several
			if g, ok := e.fromText(b, f, i); ok && g.start >= from {
				t.finds = append(t.finds, g)
			}
		}
	}
	byStart := func(a, b finding) int { return cmp.Compare(a.start, b.start) }
	slices.SortStableFunc(e.findings[ruled:], byStart)
	others := slices.Clone(e.findings[ruled:])
	others = t.prefer(others)
	e.findings = t.prefer(e.findings[:ruled])
	ruled = len(e.findings)
	e.findings = append(e.findings, others...)
	for _, f := range t.finds {
		if f.end > f.start {
			e.findings = append(e.findings, f.finding)
		}
	}
	return ruled
}

// findInText is one in a text.
type findInText struct {
	finding
	text int
}

// fromText gives what was found among the texts as a find of the block, so far as it is in one of them: without blanks around it,
// and with no half of an escape.
func (e *Engine) fromText(b []byte, f finding, text int) (findInText, bool) {
	t := &e.texts
	q := t.found[text]
	start, end := max(f.start, q.laid), min(f.end, q.laidEnd)
	for start < end && isBlank(t.laid[start]) {
		start++
	}
	for start < end && isBlank(t.laid[end-1]) {
		end--
	}
	if start == end {
		return findInText{}, false
	}
	f.trigger, _ = t.inBlock(min(max(f.trigger, q.laid), q.laidEnd-1))
	f.start, _ = t.inBlock(start)
	_, f.end = t.inBlock(end - 1)
	if v := t.laid[start:end]; f.class != Secret && f.put == "" && !bytes.Equal(v, b[f.start:f.end]) {
		f.original = string(v)
	}
	if f.by != nil {
		f.by = e.named[f.by.Name]
	}
	switch {
	case f.put != "" && f.put[0] != '"' && f.put[0] != '\\':
	case f.put != "":
		f.put = strings.NewReplacer(`"`, `\"`, `\`, `\\`).Replace(f.put)
	case f.class == Secret && bareJSON(t.laid, start, end):
		f.put = `\"` + Placeholder(f.rule) + `\"`
		if isAllDigits(t.laid[start:end]) {
			f.put = "0"
		}
	}
	return findInText{f, text}, true
}

// inBlock gives the first byte of the block that a byte laid out stands for, and the one behind the last. It is quick where one asks
// from the beginning to the end.
func (t *texts) inBlock(at int) (start, end int) {
	n := t.part
	if t.parts[n].laid > at {
		n = 0
	}
	for n+1 < len(t.parts) && t.parts[n+1].laid <= at {
		if n++; n > t.part+maxPartSteps {
			last, exact := slices.BinarySearchFunc(t.parts, at, func(p stretch, at int) int { return cmp.Compare(p.laid, at) })
			if n = last; !exact {
				n--
			}
			break
		}
	}
	t.part = n
	p := t.parts[n]
	if p.escape > 0 {
		return p.start, p.start + p.escape
	}
	start = p.start + at - p.laid
	return start, start + 1
}

// maxPartSteps is how many parts are gone through one by one before the rest is searched.
const maxPartSteps = 16

// prefer takes those out of some findings that something within a text of JSON gave away, since it was looked at as it reads, and leaves out what is found in texts that are found as a whole, or found already.
func (t *texts) prefer(rules []finding) []finding {
	text := 0
	rules = slices.DeleteFunc(rules, func(f finding) bool {
		for text < len(t.found) && t.found[text].end <= f.start {
			text++
		}
		if text == len(t.found) {
			return false
		}
		q := t.found[text]
		return f.trigger > q.start && f.start >= q.start && q.isJSON()
	})
	next := 0
	for i := range t.finds {
		f := &t.finds[i]
		q := t.found[f.text]
		for next < len(rules) && rules[next].end <= f.start {
			next++
		}
		for j := next; j < len(rules) && rules[j].start < f.end; j++ {
			if r := rules[j]; r.start <= q.start && r.end >= q.end || r.start == f.start && r.end == f.end {
				f.end = f.start
			}
		}
	}
	return rules
}

// gather finds the texts of a block from a place on and lays them out below each other.
func (t *texts) gather(b []byte, from int) {
	t.found, t.parts, t.laid, t.part = t.found[:0], t.parts[:0], append(t.laid[:0], '\n'), 0
	at := from
	if t.carried != 0 {
		start := max(0, from-t.back)
		start += backslashes(b, start, max(0, start-maxKey)) % 2
		if end := textEnd(b, from); end > from {
			t.add(b[start:end], start, t.carried)
			at = min(len(b), end+1)
		}
	}
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
		for first < quote && isSpace(b[first]) {
			first++
		}
		if c := b[first]; c == '{' || c == '[' || c == '"' {
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
		blank := indexFrom(b, at, end, ' ')
		if escape < at {
			escape = indexFrom(b, at, end, '\\')
		}
		next := min(blank, escape)
		if next == end {
			return
		}
		quote := next - 1
		for quote >= at && b[quote] != '"' && b[quote] > ' ' {
			quote--
		}
		if quote < at || b[quote] != '"' || !t.take(b, quote, next, &at) {
			at = next + 1
			if next == escape {
				at++
			}
		}
	}
}

// indexFrom gives the next place of a sign before an end, or the end.
func indexFrom(b []byte, at, end int, sign byte) int {
	if n := bytes.IndexByte(b[at:end], sign); n >= 0 {
		return at + n
	}
	return end
}

// gatherByQuotes does so in other lines.
func (t *texts) gatherByQuotes(b []byte, at, end int) {
	for at < end {
		quote := indexFrom(b, at, end, '"')
		for at = quote + 1; at < end && !endsWord[b[at]]; at++ {
		}
		if at < end && (b[at] == ' ' || b[at] == '\\') {
			t.take(b, quote, at, &at)
		}
	}
}

var endsWord = *bytesOf(" \\\"\t\r\n")

// take takes the text that begins with a quote and has its first blank or escape at a place, if it is one, and moves on behind it.
func (t *texts) take(b []byte, quote, blank int, at *int) bool {
	sign := opens(b, quote)
	if sign == 0 {
		return false
	}
	end := textEnd(b, blank)
	if end < 0 || end < len(b) && !closes(b, end, sign) {
		return false
	}
	*at = min(len(b), end+1)
	if v := b[quote+1 : end]; len(v) >= minText && !isPlaceholder(v) {
		t.add(v, quote+1, sign)
	}
	return true
}

// textEnd gives the quote that ends a text from a place in it on, the end of the block, or -1 where the line ends before.
func textEnd(b []byte, from int) int {
	for at := from; ; at++ {
		n := bytes.IndexByte(b[at:], '"')
		end := len(b)
		if n >= 0 {
			end = at + n
		}
		switch {
		case bytes.IndexByte(b[at:end], '\n') >= 0:
			return -1
		case n < 0 || backslashes(b, end, from)%2 == 0:
			return end
		}
		at = end
	}
}

// add lays out a text from a place on. What is no line of an output has nothing to do with what is before it.
func (t *texts) add(v []byte, start int, sign byte) {
	first := len(t.laid)
	t.lay(v, start)
	t.found = append(t.found, quotedText{start, start + len(v), sign, first, len(t.laid), len(t.laid)-first != len(v)})
	if t.laid[len(t.laid)-1] != '\n' {
		t.laid = append(t.laid, '\n', '\n')
	}
}

// opens gives the sign before a quote with which a text begins behind it, or 0; it is a line end where nothing stands before it.
func opens(b []byte, quote int) byte {
	i := quote
	for i > 0 && quote-i < maxKey && isBlank(b[i-1]) {
		i--
	}
	switch {
	case i == 0 || quote-i < maxKey && i < quote && bytes.IndexByte(b[i:quote], '\n') >= 0 && b[i-1] != '\\':
		return '\n'
	case b[i-1] == ':' || b[i-1] == ',' || b[i-1] == '[' || b[i-1] == '{' || b[i-1] == '(':
		return b[i-1]
	case b[i-1] == '=' && i == quote:
		return '='
	}
	return 0
}

// closes says whether a text ends with a quote, by what follows it and by the sign before the text.
func closes(b []byte, quote int, sign byte) bool {
	if closesAt(b, quote) {
		return true
	}
	return sign == '=' && bytes.IndexByte([]byte(" \t>/"), b[quote+1]) >= 0
}

// lay lays a text that stands at a place out as it reads, with what its escapes stand for (RFC 8259, section 7). What is no escape stays
// as it is.
func (t *texts) lay(v []byte, start int) {
	t.parts = append(t.parts, stretch{laid: len(t.laid), start: start})
	for i := 0; i < len(v); {
		n := bytes.IndexByte(v[i:], '\\')
		if n < 0 {
			n = len(v) - i
		}
		t.laid = append(t.laid, v[i:i+n]...)
		if i += n; i == len(v) {
			return
		}
		r, size := unescape(v[i:])
		if size == 0 {
			t.laid = append(t.laid, v[i])
			i++
			continue
		}
		if last := len(t.parts) - 1; t.parts[last].laid == len(t.laid) { // nothing before it
			t.parts = t.parts[:last]
		}
		t.parts = append(t.parts, stretch{len(t.laid), start + i, size})
		t.laid = utf8.AppendRune(t.laid, r)
		i += size
		if i < len(v) {
			t.parts = append(t.parts, stretch{laid: len(t.laid), start: start + i})
		}
	}
}

// unescape gives the sign that an escape at the beginning of a text stands for, and how long the escape is, or 0.
func unescape(v []byte) (r rune, size int) {
	if len(v) < 2 {
		return 0, 0
	}
	if n := bytes.IndexByte([]byte(`"\/bfnrt`), v[1]); n >= 0 {
		return rune("\"\\/\b\f\n\r\t"[n]), 2
	}
	r, ok := unit16(v)
	if !ok {
		return 0, 0
	}
	if utf16.IsSurrogate(r) {
		second, ok := unit16(v[6:])
		if r = utf16.DecodeRune(r, second); !ok || r == utf8.RuneError {
			return 0, 0
		}
		return r, 12
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
		if !isHex(c) {
			return 0, false
		}
		r = r<<4 | rune(unhex(c))
	}
	return r, true
}
