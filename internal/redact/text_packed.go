package redact

import (
	"bytes"
	"encoding/base64"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
	"envask/internal/redact/form"
)

// Programs put whole files into a value: in base64, compressed or not. Such a value is opened, redacted by an engine of its own, and packed
// again in the same way.

// Bounds of what such a value may grow to: in bytes, and in bytes for each letter. One within another may grow by less, or a short
// line could keep the program busy for hours.
const (
	maxPacked       = 4 << 20
	maxPackedGrowth = 64
)

// packing is a way in which texts are compressed before they are written in base64, told by the first letters of that.
type packing struct {
	head  string
	name  form.Kind
	open  func(io.Reader) (io.ReadCloser, error)
	close func(io.Writer) io.WriteCloser
}

// gzip (RFC 1952) and zlib (RFC 1950) with its usual windows.
var packings = []packing{
	{"H4sI", form.Gzip, openGzip, closeGzip},
	{"eJ", zlibForm, zlib.NewReader, closeZlib}, {"eN", zlibForm, zlib.NewReader, closeZlib}, {"eA", zlibForm, zlib.NewReader, closeZlib},
}

const (
	zlibForm   form.Kind = "zlib"
	base64Form form.Kind = "base64"
)

// plainPacking is that of texts that are not compressed.
var plainPacking = packing{name: base64Form, close: func(w io.Writer) io.WriteCloser { return notClosed{w} }}

// notClosed is a writer that need not be closed.
type notClosed struct{ io.Writer }

func (notClosed) Close() error { return nil }

func openGzip(r io.Reader) (io.ReadCloser, error) { return gzip.NewReader(r) }
func closeGzip(w io.Writer) io.WriteCloser        { return gzip.NewWriter(w) }
func closeZlib(w io.Writer) io.WriteCloser        { return zlib.NewWriter(w) }

// letterOfBase64 are the letters of both alphabets.
var letterOfBase64 = *chars.BytesThat(func(c byte) bool { return codeBytes[c] || c == '-' })

// packedWord is a word of a text that is base64 of a text, compressed or not.
type packedWord struct {
	start, end int // without what fills it up; where there is none, what need not be looked at again ends there
	packing    *packing
	plain      []byte // nil where there is none
}

// findPacked adds the values of a block from a place on that are texts in base64, compressed or not, of which something goes.
func (e *Engine) findPacked(b []byte, from int) {
	done := from
	for _, place := range e.texts.long {
		if place < done {
			continue
		}
		w := packedAround(b, place, done, e.texts.packedGrowth())
		if done = w.end; w.plain != nil {
			e.repack(b, w)
		}
	}
}

// packedAround gives the word around a letter that is base64 of a text. Dashes are letters of base64 in addresses alone: elsewhere dates
// and names have them.
func packedAround(b []byte, place, from, growth int) (w packedWord) {
	wideStart, wideEnd := wordAround(b, place, from, &letterOfBase64)
	start, end := wordAround(b, place, from, &codeBytes)
	for _, w = range []packedWord{{start: wideStart, end: wideEnd}, {start: start, end: end}} {
		if w.packing, w.plain = unpack(b[w.start:w.end], growth); w.plain != nil || w.end-w.start == end-start {
			break
		}
	}
	if w.plain != nil && (w.end-w.start)&3 == 1 { // the last letter is none of it
		w.end--
	}
	return w
}

// unpack gives the text that a word in base64 holds, of up to so many bytes for each letter, and how it is packed; nil when it is none.
func unpack(word []byte, growth int) (*packing, []byte) {
	if p, plain := openPacked(word, growth); p != nil {
		return p, plain
	}
	return &plainPacking, decodedText(word)
}

// wordAround gives the letters around one.
func wordAround(b []byte, place, from int, letters *chars.ByteSet) (start, end int) {
	start, end = place, place
	for start > from && letters[b[start-1]] {
		start--
	}
	for end < len(b) && letters[b[end]] {
		end++
	}
	return start, end
}

// packedGrowth is how many bytes a letter of a packed text may stand for.
func (t *texts) packedGrowth() int { return maxPackedGrowth >> (3 * t.depth) }

// openPacked gives what a word in base64 holds that is a compressed text, and how it is packed; nil when it is none, or when it holds
// more than so many bytes for each letter.
func openPacked(word []byte, growth int) (*packing, []byte) {
	most := min(maxPacked, growth*len(word))
	for i := range packings {
		p := &packings[i]
		if len(word) < minCode || len(word)&3 == 1 || !bytes.HasPrefix(word, []byte(p.head)) {
			continue
		}
		data := make([]byte, len(word)/4*3+3)
		n, err := chars.DecodeBase64(data, word)
		if err != nil {
			return nil, nil
		}
		rest := bytes.NewReader(data[:n])
		r, err := p.open(rest)
		if err != nil {
			return nil, nil
		}
		plain, err := io.ReadAll(io.LimitReader(r, int64(most)+1))
		if err != nil || rest.Len() > 0 || len(plain) > most || !alias.IsPlainText(string(bytes.Map(noLineEnds, plain))) {
			return nil, nil
		}
		return p, plain
	}
	return nil, nil
}

// eachPacked calls found for the words of a text that are texts in base64, compressed or not, whole ones alone. One that the text may end
// within begins at the place that it gives, else it gives -1.
func eachPacked(b []byte, found func(w packedWord)) (open int) {
	open = -1
	done := 0
	eachLong(b, 0, len(b), func(place int) {
		if place < done {
			return
		}
		if start, end := wordAround(b, place, done, &letterOfBase64); end == len(b) && start > 0 {
			open = start
		}
		w := packedAround(b, place, done, maxPackedGrowth)
		if done = w.end; w.plain != nil {
			found(w)
		}
	})
	return open
}

// repack adds a value as a find if something in what it holds goes.
func (e *Engine) repack(b []byte, w packedWord) {
	var out bytes.Buffer
	counts, err := e.packedEngine().Text(&out, bytes.NewReader(w.plain))
	if err != nil || counts.Total() == 0 || bytes.Equal(out.Bytes(), w.plain) {
		return
	}
	rule := ""
	for name, n := range counts { // the one that hit most speaks for all
		if rule == "" || n > counts[rule] || n == counts[rule] && ruleOrder(name) < ruleOrder(rule) {
			rule = name
		}
	}
	put, end := w.again(b, out.Bytes())
	e.findings = append(e.findings, finding{start: w.start, end: end, trigger: w.start, class: alias.Secret, rule: rule, put: put,
		packed: counts})
}

// again writes a text as that of the word is written, and gives where the word ends with what fills it up.
func (w *packedWord) again(b, text []byte) (put string, end int) {
	word := b[w.start:w.end]
	for end = w.end; end < len(b) && b[end] == '=' && end-w.end < 2; {
		end++
	}
	return w.packing.packed(text, bytes.ContainsAny(word, "-_"), end > w.end || len(word)%4 == 0), end
}

// tellPacked counts, learns and tells what was found within a packed text, which is a find that goes out.
func (e *Engine) tellPacked(b []byte, f *finding) {
	if e.learned != nil || e.tally != nil || e.sampler != nil {
		in := e.packedEngine()
		p, plain := unpack(bytes.TrimRight(b[f.start:f.end], "="), e.texts.packedGrowth())
		in.learned = e.learned
		if place := e.place; place != nil && e.opener.Member() == "" {
			in.place = func(v alias.Value, _ int64) { place(v, -1) }
		}
		if e.tally != nil {
			in.tally = func(t Told) {
				t.Offset = -1
				e.tally(t)
			}
		}
		if e.sampler != nil {
			in.sampler = func(s Sample) {
				if e.counts[s.Rule] < samplesEach {
					s.Form, s.Member, s.Offset = p.name, e.opener.Member(), -1
					e.sampler(s)
				}
			}
		}
		if _, err := in.Text(io.Discard, bytes.NewReader(plain)); err != nil {
			panic(err) // neither side can fail
		}
		in.learned, in.place, in.tally, in.sampler = nil, nil, nil, nil
	}
	for name, n := range f.packed {
		e.counts[name] += n
	}
}

// packed gives a text as it was written.
func (p *packing) packed(text []byte, forURLs, padded bool) string {
	var out bytes.Buffer
	w := p.close(&out)
	if _, err := w.Write(text); err != nil || w.Close() != nil {
		panic("memory does not fail")
	}
	code := base64.StdEncoding
	if forURLs {
		code = base64.URLEncoding
	}
	if !padded {
		code = code.WithPadding(base64.NoPadding)
	}
	return code.EncodeToString(out.Bytes())
}

// packedEngine gives the engine for what is packed.
func (e *Engine) packedEngine() *Engine {
	t := &e.texts
	if t.packed == nil {
		o := e.options
		o.Aliases, o.Learned = e.aliases, nil
		t.packed = e.another(o)
		t.packed.texts.depth, t.packed.gate.Open = t.depth+1, e.gate.Open
	}
	return t.packed
}
