package redact

import (
	"bytes"
	"cmp"
	"slices"
	"strings"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
	"envask/internal/redact/scan"
)

// Programs write what other programs said as texts in quotes: a container's output is lines of JSON with a line of the program in
// each, a message holds a command, a value the whole of a file. What the rules know of lines, and of what stands at their beginning,
// holds within such texts as well, and so does what they know of quotes and slashes, which are written as escapes there. So texts of
// more than one word are laid out below each other as they read, and an engine of its own looks at them. Texts may hold texts.

// maxTextDepth is how many texts within each other are looked into.
const maxTextDepth = 3

// beginStream says that another document is looked at, which begins with a block.
func (t *texts) beginStream(b []byte) {
	t.inKey, t.hunks, t.inHunk = false, false, false
	t.markup = bytes.HasPrefix(bytes.TrimLeft(b[:min(len(b), chars.MaxKey)], "\xef\xbb\xbf \t\r\n"), []byte("<")) && t.depth == 0
}

// hasTextSigns looks for each by itself, which is several times as fast as for all at once.
func hasTextSigns(b []byte) bool {
	for _, sign := range []byte(scan.TextSigns) {
		if bytes.IndexByte(b, sign) >= 0 {
			return true
		}
	}
	return false
}

// Quotes says that a chunk of a block was looked at, and whether it has any signs of texts.
func (t *texts) Quotes(b []byte, from, to int, any bool) {
	t.signs = t.signs || any || from > t.looked && hasTextSigns(b[t.looked:from])
	t.looked = max(t.looked, to)
}

// before gathers the texts of a block before the rules look, where the block before had some.
func (t *texts) before(b []byte, from int) {
	t.found, t.openKey, t.openHunk = t.found[:0], false, t.inHunk
	t.long, t.longTo = t.long[:0], from
	if t.gathered {
		t.gather(b, from)
	}
	t.signs, t.looked, t.masked = len(t.found) > 0 || t.carried != 0, from, 0
}

// unfinished gives the text in quotes that goes on behind a block, nil where there is none.
func (t *texts) unfinished(b []byte) *quotedText {
	if n := len(t.found) - 1; n >= 0 && t.found[n].end == len(b) && !isLine(t.found[n].quote) {
		return &t.found[n]
	}
	return nil
}

// carry keeps in mind that a block that ends within a line is done up to a place in a text, in which the next block begins then. It
// gives the place, which is not within an escape.
func (t *texts) carry(b []byte, done, least int) int {
	t.carried = 0
	if q := t.unfinished(b); q != nil && q.start <= done {
		t.carried, t.carriedIn, t.back = q.sign, q.quote, min(done-q.start, find.LookBehind)
		if done > max(least, q.start) && find.Backslashes(b, done, q.start)%2 == 1 {
			done, t.back = done-1, t.back-1
		}
	}
	return done
}

// Chunk takes the signs within texts of JSON out of what is looked at in a chunk: they are looked at as they read. It notes long words.
func (t *texts) Chunk(b []byte, m *scan.Marks) {
	t.noteLong(b, m.From(), m.To())
	m.LongWords(minCode, &t.long)
	if !t.gathered {
		return
	}
	for t.masked < len(t.found) && t.found[t.masked].end <= m.From() {
		t.masked++
	}
	for i := t.masked; i < len(t.found) && t.found[i].start < m.To(); i++ {
		if q := t.found[i]; q.sure && !isLine(q.quote) { // what begins in a line may go on in the next one
			m.Clear(q.start+1, q.end)
		}
	}
}

// findInTexts adds what is found in the texts of a block from a place on to the findings, which are those of rules; so many of them
// are in order and apart from each other, and as many as it gives still are.
func (e *Engine) findInTexts(b []byte, from, ruled int) int {
	t := &e.texts
	if t.depth == maxTextDepth {
		return ruled
	}
	t.Quotes(b, len(b), len(b), false)
	if !t.signs && !t.markup && !t.hunks && !t.gathered {
		if start, _ := nextPrefixed(b, lineFromStart(b, from)); start == len(b) {
			return ruled
		}
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
		t.inner = e.another(o)
		t.inner.texts.depth, t.inner.gate.Open = t.depth+1, e.gate.Open
	}
	in := t.inner
	in.short = e.inShort(b, from)
	in.base, in.rows, in.sqlKinds, in.inKey = 1, table{}, nil, false // it is no beginning of a file
	begin, open := 0, false
	if t.inKey {
		begin, open = find.KeyBlockEnd(t.laid, 1, false)
	}
	in.segments = t.segments()
	in.find(t.laid, begin)
	t.openKey = open || in.openKey
	finds := in.findings
	if by := e.named[privateKeyRule]; begin > 1 && by != nil {
		finds = append([]finding{{start: 1, end: begin, trigger: 1, class: alias.Secret, rule: privateKeyRule, by: by}}, finds...)
	}
	t.finds = t.finds[:0]
	next := 0
	for _, f := range finds {
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

// inShort says whether a block is all of a short document, or a text in one.
func (e *Engine) inShort(b []byte, from int) bool {
	return e.short || e.segments == nil && e.base == 0 && from == 0 && len(b) <= mostLines
}

// lineFromStart gives the beginning of the first line that begins at a place or behind it.
func lineFromStart(b []byte, at int) int {
	if at > 0 && b[at-1] != '\n' {
		return chars.NextLine(b, at)
	}
	return at
}

// fromText gives what was found among the texts as a find of the block, so far as it is in one of them: without blanks around it,
// and with no half of an escape.
func (e *Engine) fromText(b []byte, f finding, text int) (findInText, bool) {
	t := &e.texts
	q := t.found[text]
	start, end := max(f.start, q.laid), min(f.end, q.laidEnd)
	for start < end && chars.IsBlank(t.laid[start]) {
		start++
	}
	for start < end && chars.IsBlank(t.laid[end-1]) {
		end--
	}
	if start == end {
		return findInText{}, false
	}
	f.trigger, _ = t.inBlock(min(max(f.trigger, q.laid), q.laidEnd-1))
	f.start, _ = t.inBlock(start)
	_, f.end = t.inBlock(end - 1)
	if v := t.laid[start:end]; f.put == "" && !bytes.Equal(v, b[f.start:f.end]) {
		f.original = string(v)
	}
	if f.by != nil {
		f.by = e.named[f.by.Name]
	}
	switch {
	case f.put != "":
		f.put = q.written(f.put)
	case f.class == alias.Secret && bareJSON(t.laid, start, end):
		f.put = q.written(`"` + Placeholder(f.rule) + `"`)
		if chars.IsAllDigits(t.laid[start:end]) {
			f.put = "0"
		}
	}
	return findInText{f, text}, true
}

// written gives what is put into a text as it is written there.
func (q *quotedText) written(put string) string {
	switch {
	case q.quote == '>':
		return markupEscapes.Replace(put)
	case q.quote == '\'' || q.plain && !doubles(q.sign):
		return put
	case q.plain:
		return strings.ReplaceAll(put, `"`, `""`)
	}
	return jsonEscapes.Replace(put)
}

var (
	jsonEscapes   = strings.NewReplacer(`"`, `\"`, `\`, `\\`)
	markupEscapes = strings.NewReplacer("&", "&amp;", `"`, "&quot;")
)

// prefer takes those out of some findings that something within a text gave away that was surely looked at as it reads, and leaves
// out what is found in texts that are found as a whole, or found already.
func (t *texts) prefer(rules []finding) []finding {
	kept := rules[:0]
	for _, f := range rules {
		if q := t.at(f.trigger); q != nil && q.sure {
			if !isLine(q.quote) && f.trigger > q.start || isLine(q.quote) && f.start >= q.start && f.end <= q.end {
				continue
			}
		}
		// The sign before the line.
		if q := t.at(f.trigger + 1); q != nil && q.quote == hunkQuote && q.start == f.start+1 && f.end <= q.end {
			continue
		}
		if q := t.at(f.start); q != nil && !isLine(q.quote) && !isCoded(q) && f.rule != privateKeyRule { // what it begins in is its own
			f.end = min(f.end, q.end)
		}
		kept = append(kept, f)
	}
	rules = kept
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
