package redact

import (
	"bufio"
	"bytes"
	"io"
	"strings"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/find"
)

// Sizes of the engine, in bytes. A line longer than maxBlock is looked at in pieces; each piece but the first sees
// lookBehind bytes of what stood before it, and keepBack bytes of each piece wait for the next one.
const (
	blockSize = 256 << 10
	maxBlock  = 1 << 20
	keepBack  = 8 << 10
)

// Counts is how many findings each rule had.
type Counts map[string]int

// Add adds the counts of another.
func (c Counts) Add(other Counts) {
	for k, n := range other {
		c[k] += n
	}
}

// Total gives the sum.
func (c Counts) Total() int {
	sum := 0
	for _, n := range c {
		sum += n
	}
	return sum
}

// Engine redacts streams, one at a time. Its memory does not depend on the length of the input or of its lines.
type Engine struct {
	rules   []Rule
	table   [256][]*Rule
	trigger [256]bool // bytes at which a rule is asked
	nexts   []*Rule   // those that look for themselves
	matcher *Matcher
	learned *Learned
	aliases *alias.Table
	cache   map[alias.Class]*known // the aliases of originals; the rules hold those of their class
	ignore  map[string]bool

	buf, out      []byte
	readers       []*bufio.Reader // for looking at the head of a file, one for each depth; kept, since there may be very many files
	formats       []format
	bare          style // how the document writes values without quotes
	options       Options
	base          int64  // offset of the block in its text
	mark          int64  // the length of a byte order mark before the text
	opened        Form   // of the file that is looked at, when it is no plain text
	member        string // of a container, that is looked at
	place         func(alias.Value, int64)
	sampler       func(Sample)
	tally         func(Told)
	ungated       bool // for the test that holds the gate against the rules
	keys          keyCache
	idleKeys      wordTable // keys that announce nothing
	idleWords     wordTable // words behind which, with a space between, nothing stands
	sieve         *sieve
	announced     *announced
	signs         [256]bool // that may fit a context
	marks         marks     // of the chunk that is looked at
	hots          []hotPlaces
	numbered      int              // so far hots are gathered
	nextAt        []int            // where each of nexts goes on
	sqlRows       []int            // where rows of SQL open
	sqlKinds      []cellKind       // of those with which a block begins, if it does
	sqlNext       []cellKind       // and the next one
	ownerEnd      int              // where the last owner of a file ends
	named         map[string]*Rule // the rules that are on
	rows          table            // whose rows are read where the block begins
	rowsNext      table            // and where it ends
	betweenDigits []*Rule          // those of a dot
	heads         []int            // places in lines that may be heads of tables
	lineAt        lineAt
	texts         texts
	growth        *growth   // of what is compressed; nil outside of it
	domainFirst   [256]bool // letters that domains of the site begin with
	digitDomain   bool      // one of them begins with a digit
	scan          *leakScan // when set, nothing is redacted, but learned values are searched for
	child         *Engine   // for short texts while this one is at work
	counts        Counts
	inKey         bool // within a private key block, from the block before
	openKey       bool // the block looked at ends within a private key block
	findings      []finding
	keyFacts      map[string]keyFact // of the keys of documents
	phrased       []phrased          // what phrases gave away in the block
	called        called
	segments      []span    // of texts within texts, which are documents of their own; nil is the whole block
	nuls          []int     // where NUL characters stood in the buffer, which are line ends while it is looked at
	merged        []finding // what findings are merged into, and the other way round
}

type finding struct {
	start, end int
	trigger    int // the byte at which it was found; it may stand before the start
	class      alias.Class
	rule       string
	by         *Rule  // nil for a learned value
	alias      bool   // it is an alias already
	original   string // of a learned value, which may be written otherwise here
	put        string // the alias, when the original had one before
	weak       bool   // one such find alone teaches nothing
	coded      *coded // of a find in base64; nil elsewhere
}

// Options is what an engine works with. The zero value finds by the rules alone and gives aliases of its own.
type Options struct {
	Aliases *alias.Table // nil: a table for this engine only
	Matcher *Matcher     // learned values, which are removed everywhere; may be nil
	Learned *Learned     // where findings are added; may be nil
	Keep    []string     // originals that are disclosed on purpose
	Config  Config       // what differs from the rules as they are
	TempDir string       // for members of containers that are too long for memory; "" keeps short ones only
}

// NewEngine makes an engine.
func NewEngine(o Options) *Engine {
	e := &Engine{rules: o.Config.rules(), matcher: o.Matcher, learned: o.Learned, aliases: o.Aliases, cache: map[alias.Class]*known{},
		ignore: map[string]bool{}, named: map[string]*Rule{}, formats: formats(), options: o, announced: announcedWords()}
	if e.aliases == nil {
		e.aliases = alias.NewTable()
	}
	for _, k := range append(append([]string{}, o.Keep...), o.Config.Never...) {
		e.ignore[k] = true
	}
	for _, d := range o.Config.Domains {
		e.domainFirst[d[0]|0x20], e.domainFirst[d[0]&^0x20] = true, true
		e.domainFirst[d[0]] = true
		e.digitDomain = e.digitDomain || chars.IsDigit(d[0])
	}
	defer func() {
		for _, r := range e.table['.'] { // neither most tokens nor a private domain have a dot between digits
			if e.digitDomain || r.Name != serviceTokenRule && r.Name != "host" {
				e.betweenDigits = append(e.betweenDigits, r)
			}
		}
	}()
	e.sieve = sieveFor(e.rules, o.Config.Domains)
	for c, fit := range e.sieve.exact[contextBehind] {
		e.signs[c] = fit != 0
	}
	for _, c := range Classes {
		e.cache[c] = &known{all: map[string]string{}}
	}
	for i := range e.rules {
		r := &e.rules[i]
		r.known = e.cache[r.Class]
		e.named[r.Name] = r
		if r.Next != nil {
			e.nexts, e.nextAt = append(e.nexts, r), append(e.nextAt, 0)
		}
		for _, c := range []byte(r.Triggers) {
			e.table[c] = append(e.table[c], r)
			e.trigger[c] = true
		}
	}
	return e
}

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
	for i, f := range e.findings {
		if len(e.ignore) > 0 && (e.ignore[string(b[f.start:f.end])] || e.ignore[f.original]) {
			continue
		}
		if f.by != nil {
			f.by.hits++
		} else {
			e.counts[f.rule]++
		}
		if e.learned != nil {
			if f.coded != nil {
				e.learn(f, []byte(f.original))
			} else {
				e.learn(f, b[f.start:f.end])
			}
		}
		if w == nil || f.start < at {
			continue
		}
		e.out = append(e.out, b[at:f.start]...)
		put := f.put
		if put == "" || e.options.Config.Classes[f.class] == Remove {
			put = e.replacement(f, b[f.start:f.end])
		}
		if f.coded != nil {
			put = f.coded.inBase64(put)
		}
		if e.bare != asIs && put[0] == '[' {
			f.end, put = e.asBare(b, f, put)
		}
		if put[0] != '"' && bareJSON(b, f.start, f.end) {
			switch {
			case !chars.AllDigits(string(b[f.start:f.end])):
				put = `"` + put + `"`
			case f.class == alias.Secret: // a number stays a number, or what reads the document would stumble
				put = "0"
			}
		}
		if e.tally != nil {
			e.tell(b, f)
		}
		if e.sampler != nil && e.found(f) <= samplesEach {
			e.sample(b, i, put)
		}
		e.out = append(e.out, put...)
		at = f.end
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

func (e *Engine) replacement(f finding, text []byte) string {
	if f.class == alias.Secret || e.options.Config.Classes[f.class] == Remove {
		return Placeholder(f.rule)
	}
	original := f.original
	if original == "" {
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
			if _, ok := alias.NumberAddress(original); ok {
				a = alias.AsNumber(a, original)
			} else if strings.IndexByte(original, '-') >= 0 {
				a = strings.ReplaceAll(a, ".", "-")
			}
		case alias.IPv6:
			if n := strings.Index(original, "%3"); n >= 0 && n+3 <= len(original) {
				a = strings.ReplaceAll(a, ":", original[n:n+3])
			}
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
		e.child = NewEngine(o)
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
	if e.ignore[text] || e.options.Config.keeps(class, rule) {
		return "", false
	}
	if e.learned != nil {
		e.learned.Add(alias.Value{Text: text, Class: class, Rule: rule})
	}
	return e.aliases.Alias(class, text), true
}
