package redact

import (
	"bytes"
	"io"
	"strings"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
	"envask/internal/redact/learn"
)

// Text redacts one stream of text and gives the number of findings by rule. A nil w only learns.
func (e *Engine) Text(w io.Writer, r io.Reader) (Counts, error) {
	if e.scan != nil {
		return Counts{}, e.scan.stream(e, r)
	}
	e.counts, e.inKey, e.rows, e.sqlKinds, e.texts.carried = Counts{}, false, table{}, nil, 0
	buf := e.buf[:0]
	defer func() { e.buf = buf }()
	e.base, e.mark = 0, 0
	defer e.countHits()
	nuls := e.nuls[:0]
	defer func() { e.nuls = nuls[:0] }()
	seen := 0 // bytes at the beginning of buf that are done and only looked back at
	for {
		var err error
		had := len(buf)
		buf, err = fill(buf, r, max(blockSize, min(2*(len(buf)-seen), maxBlock))+seen)
		atEnd := err == io.EOF
		if err != nil && !atEnd {
			return e.counts, err
		}
		nuls = asLines(buf, had, nuls)
		e.nuls = nuls
		if e.base == 0 && seen == 0 && bytes.HasPrefix(buf, byteOrderMark) { // the text begins behind it
			if w != nil {
				if _, err := w.Write(byteOrderMark); err != nil {
					return e.counts, err
				}
			}
			e.mark = int64(len(byteOrderMark))
			buf = append(buf[:0], buf[len(byteOrderMark):]...)
			for i := range nuls {
				nuls[i] -= len(byteOrderMark)
			}
		}
		cut := e.cut(buf, seen, atEnd)
		if cut < 0 {
			continue // no line end yet, and room for more
		}
		done, err := e.block(w, buf[:cut], seen, atEnd || cut > 0 && buf[cut-1] == '\n')
		if err != nil {
			return e.counts, err
		}
		if atEnd && done == len(buf) {
			return e.counts, nil
		}
		keep := max(0, done-find.LookBehind) // a value may have its name on the line before
		buf = append(buf[:0], buf[keep:]...)
		e.base += int64(keep)
		seen = done - keep
		kept := nuls[:0]
		for _, at := range nuls {
			if at >= keep {
				kept = append(kept, at-keep)
			}
		}
		nuls = kept
	}
}

// byteOrderMark stands at the beginning of some texts (The Unicode Standard, section 23.8).
var byteOrderMark = []byte("\xef\xbb\xbf")

// found says how many findings there were of the rule of one.
func (e *Engine) found(f finding) int {
	n := e.counts[f.rule]
	if f.by != nil {
		n += f.by.hits
	}
	return n
}

// countHits brings the hits of the rules, which are counted there since it is quicker, to the counts.
func (e *Engine) countHits() {
	for i := range e.rules {
		if r := &e.rules[i]; r.hits > 0 {
			e.counts[r.Name] += r.hits
			r.hits = 0
		}
	}
}

// fill reads until buf has want bytes or the input ends.
func fill(buf []byte, r io.Reader, want int) ([]byte, error) {
	if cap(buf) < want {
		buf = append(make([]byte, 0, want), buf...)
	}
	have := len(buf)
	n, err := io.ReadFull(r, buf[have:want])
	if err == io.ErrUnexpectedEOF {
		err = io.EOF
	}
	return buf[:have+n], err
}

// cut says how much of buf is looked at now: up to the last line end, all at the end, or all of a piece of a line that
// is too long. -1 means that more should be read first.
func (e *Engine) cut(buf []byte, seen int, atEnd bool) int {
	if atEnd {
		return len(buf)
	}
	if n := bytes.LastIndexByte(buf[seen:], '\n'); n >= 0 {
		return seen + n + 1
	}
	if len(buf)-seen < maxBlock {
		return -1
	}
	return len(buf)
}

// block redacts b from a place on and writes the result. Unless whole is set, b ends in the middle of a line, and its
// last bytes are left for the next call. It gives the place up to which b is done.
func (e *Engine) block(w io.Writer, b []byte, from int, whole bool) (int, error) {
	at := from
	if e.inKey {
		at, e.inKey = find.KeyBlockEnd(b, from, false)
	}
	e.find(b, at)
	done := len(b)
	if !whole {
		done = max(at, len(b)-keepBack)
		// Not within a word: what stands there may be the beginning of something.
		for done > at && len(b)-done < 2*keepBack && chars.IsKeyByte(b[done-1]) {
			done--
		}
		if len(b)-done >= 2*keepBack {
			done = max(at, len(b)-keepBack)
		}
		if row := e.rowBefore(done); e.sqlNext != nil && row > at { // nor within a row
			done = row
		}
		if q := e.texts.unfinished(b); q != nil && q.start-1 > at { // nor within a text, unless there is nothing else
			done = min(done, q.start-1)
		}
		for i, f := range e.findings {
			if f.end > done {
				// It waits for the next piece, which must begin with what gives it away.
				done = max(at, min(done, f.start, f.trigger))
				if i > 0 {
					done = max(done, e.findings[i-1].end)
				}
				e.findings = e.findings[:i]
				break
			}
		}
		if done == at { // one finding fills it all: it goes as it is
			e.find(b, at)
			done = len(b)
		}
		least := at + 1
		if n := len(e.findings); n > 0 {
			least = max(least, e.findings[n-1].end)
		}
		done = e.texts.carry(b, done, least)
	} else {
		e.texts.carried = 0
	}
	if done == len(b) && e.openKey {
		e.inKey = true
	}
	e.rows, e.sqlKinds, e.texts.inKey, e.texts.inHunk = e.rowsNext, e.sqlNext, whole && e.texts.openKey, e.texts.openHunk
	return done, e.write(w, b[:done], at)
}

// write writes b from a place on, with every finding replaced: in one go, since what comes behind costs much for each piece.
func (e *Engine) write(w io.Writer, b []byte, at int) error {
	e.out = e.out[:0]
	if len(e.nuls) > 0 {
		defer e.restore(b, at)()
	}
	for i := range e.findings {
		f := &e.findings[i] // they are large, and many
		if len(e.ignore) > 0 && (e.ignore[string(b[f.start:f.end])] || e.ignore[f.original]) {
			continue
		}
		e.count(b, f)
		if w == nil || f.start < at {
			continue
		}
		e.out = append(e.out, b[at:f.start]...)
		put, end := f.put, f.end
		if put == "" || e.options.Config.Classes[f.class] == Remove {
			put = e.replacement(f, b[f.start:f.end])
		}
		if e.bare != asIs && (put[0] == '[' || f.class == alias.ID) {
			end, put = e.asBare(b, f, put)
		}
		if put[0] != '"' && bareJSON(b, f.start, end) {
			put = inJSON(put, f.class, b[f.start:end])
		}
		if f.packed == nil && (e.tally != nil || e.sampler != nil) {
			e.show(b, i, put)
		}
		e.out = append(e.out, put...)
		at = end
	}
	if w == nil {
		return nil
	}
	rest := b[at:]
	if len(e.out) > 0 {
		e.out = append(e.out, rest...)
		rest = e.out
	}
	_, err := w.Write(rest)
	return err
}

// count counts a find that goes, and learns it.
func (e *Engine) count(b []byte, f *finding) {
	switch {
	case f.packed != nil:
		e.tellPacked(b, f)
		return
	case f.by != nil:
		f.by.hits++
	default:
		e.counts[f.rule]++
	}
	switch {
	case e.learned == nil:
	case f.original != "": // as it reads: it may be written in escapes here, and stands nowhere then
		place := e.place
		if place != nil && f.original != string(b[f.start:f.end]) {
			e.place = func(v alias.Value, _ int64) { place(v, -1) }
		}
		e.learn(f, []byte(f.original))
		e.place = place
	default:
		e.learn(f, b[f.start:f.end])
	}
}

// show tells a find with what stands in its place to those who count finds and collect samples.
func (e *Engine) show(b []byte, i int, put string) {
	if e.tally != nil {
		e.tell(b, e.findings[i])
	}
	if e.sampler != nil && e.found(e.findings[i]) <= samplesEach {
		e.sample(b, i, put)
	}
}

// inJSON gives what stands in the place of a value without quotes in JSON.
func inJSON(put string, class alias.Class, text []byte) string {
	switch {
	case !chars.IsAllDigits(text):
		return `"` + put + `"`
	case class == alias.Secret || class == alias.ID: // a number stays a number, or what reads the document would stumble
		return "0"
	}
	return put
}

// restore puts the NUL characters of what is written back into their places, until the function that it gives is called.
func (e *Engine) restore(b []byte, from int) func() {
	put := func(c byte) {
		for _, at := range e.nuls {
			if at >= from && at < len(b) {
				b[at] = c
			}
		}
	}
	put(listSeparator)
	return func() { put('\n') }
}

func (e *Engine) replacement(f *finding, text []byte) string {
	if f.class == alias.Secret || e.options.Config.Classes[f.class] == Remove {
		return Placeholder(f.rule)
	}
	original := f.original
	if original == "" || f.class == alias.MAC || len(original) == len(text) && strings.EqualFold(original, string(text)) {
		original = string(text)
	}
	known := e.cache[f.class].all
	if len(known) > 100_000 {
		clear(known)
	}
	a, ok := known[original]
	if !ok {
		a = e.aliases.Alias(f.class, original)
		switch f.class {
		case alias.IPv4:
			a = alias.AsIPv4(a, original)
		case alias.IPv6:
			a = alias.AsIPv6(a, original)
		case alias.MAC:
			a = alias.AsMAC(a, original)
		case alias.Phone:
			a = alias.AsPhone(a, original)
		case alias.Card:
			a = alias.AsCard(a, original)
		case alias.IBAN:
			a = alias.AsIBAN(a, original)
		}
		known[original] = a
	}
	return a
}

// clean redacts a short text in the middle of the work on a file.
func (e *Engine) clean(s string) (string, Counts) {
	if e.scan != nil {
		e.scan.text(e, s)
		return s, nil
	}
	if e.child == nil {
		o := e.options
		o.Aliases = e.aliases
		e.child = e.another(o)
	}
	var out bytes.Buffer
	counts, err := e.child.Text(&out, strings.NewReader(s))
	if err != nil {
		panic(err) // neither side can fail
	}
	return out.String(), counts
}

// String redacts one short text, such as a name or a reason.
func (e *Engine) String(s string) string {
	var out bytes.Buffer
	if _, err := e.Text(&out, bytes.NewReader([]byte(s))); err != nil {
		panic(err) // neither side can fail
	}
	return out.String()
}

// identity gives the alias of an identity that was found other than in text, or learns it; replaced is false when nothing is
// to be put in its place.
func (e *Engine) identity(class alias.Class, rule, text string) (instead string, replaced bool) {
	if e.scan != nil {
		e.scan.leaked(e, text)
		return "", false
	}
	if e.ignore[text] || e.options.Config.Keeps(class, rule) {
		return "", false
	}
	if e.learned != nil {
		e.learned.Add(alias.Value{Text: text, Class: class, Rule: rule})
	}
	return e.aliases.Alias(class, text), true
}

// learn learns what was found, or the parts of it that stand alone elsewhere.
func (e *Engine) learn(f *finding, text []byte) {
	if f.rule == "cookie" && text[0] == '{' {
		find.TextsOf(text, func(v []byte, at int) {
			if len(v) >= 12 {
				e.learnValue(alias.Value{Text: string(v), Class: f.class, Rule: f.rule}, f.start+at)
			}
		})
		return
	}
	if f.rule == "cookie" { // its parts stand alone elsewhere
		for at := 0; at < len(text); {
			end := at
			for end < len(text) && text[end] != ';' && text[end] != ' ' {
				end++
			}
			if name, value, ok := bytes.Cut(text[at:end], []byte("=")); ok && len(value) >= 12 {
				e.learnValue(alias.Value{Text: string(value), Class: f.class, Rule: f.rule}, f.start+at+len(name)+1)
			}
			at = end + 1
		}
	}
	if f.rule == "keyed-secret" && find.EachOf(text, func(v []byte, at int) {
		e.learnValue(alias.Value{Text: string(v), Class: f.class, Rule: f.rule}, f.start+at)
	}) {
		return
	}
	if f.rule == wordedSecretRule && find.BothOf(text, func(v []byte, at int) {
		e.learnValue(alias.Value{Text: string(v), Class: f.class, Rule: f.rule}, f.start+at)
	}) {
		return
	}
	v := alias.Value{Text: string(text), Class: f.class, Rule: f.rule}
	if f.mute || (f.weak || learn.Short(v)) && !e.learned.SeenBefore(v) {
		if v.Class == alias.Secret {
			return
		}
		v.Rule = learn.NamedRule
	}
	e.learnValue(v, f.start)
}

// learnValue learns a value that stands at a place in the block.
func (e *Engine) learnValue(v alias.Value, at int) {
	e.learned.Add(v)
	if e.place != nil && e.opener.Member() == "" && (v.Class != alias.Secret || learn.Learnable(v)) {
		e.place(v, e.mark+e.base+int64(at))
	}
}

// sample hands a finding to whoever collects samples.
func (e *Engine) sample(b []byte, i int, put string) {
	f := e.findings[i]
	from, to := max(0, f.start-around), min(len(b), f.end+around)
	for j := f.start; j > from; j-- {
		if b[j-1] == '\n' {
			from = j
		}
	}
	for j := f.end; j < to; j++ {
		if b[j] == '\n' || b[j] == '\r' {
			to = j
		}
	}
	e.sampler(Sample{Rule: f.rule, Class: f.class, Form: e.opener.Opened(), Member: e.opener.Member(),
		Offset: e.mark + e.base + int64(f.start), Length: f.end - f.start,
		Left: e.rendered(b, from, f.start), Put: put, Right: e.rendered(b, f.end, to)})
}

// rendered gives a stretch of text as it goes out. A finding that begins before it or ends behind it is shown whole.
func (e *Engine) rendered(b []byte, from, to int) string {
	var out []byte
	at := from
	for _, f := range e.findings {
		if f.end <= from || f.start >= to || e.ignore[string(b[f.start:f.end])] {
			continue
		}
		if f.start > at {
			out = append(out, b[at:f.start]...)
		}
		out = append(out, e.replacement(&f, b[f.start:f.end])...)
		at = f.end
	}
	if at < to {
		out = append(out, b[at:to]...)
	}
	return string(out)
}
