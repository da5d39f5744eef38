package redact

import (
	"bytes"
	"encoding/base64"
	"io"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
)

// Programs put whole files into a value: compressed, and in base64. Such a value is opened, redacted by an engine of its own, and packed
// again in the same way.

// maxPacked bounds what such a value may grow to, in bytes.
const maxPacked = 4 << 20

// packing is a way in which texts are compressed before they are written in base64, told by the first letters of that.
type packing struct {
	head  string
	open  func(io.Reader) (io.ReadCloser, error)
	close func(io.Writer) io.WriteCloser
}

// gzip (RFC 1952) and zlib (RFC 1950) with its usual windows.
var packings = []packing{
	{"H4sI", openGzip, closeGzip}, {"eJ", zlib.NewReader, closeZlib}, {"eN", zlib.NewReader, closeZlib}, {"eA", zlib.NewReader, closeZlib},
}

func openGzip(r io.Reader) (io.ReadCloser, error) { return gzip.NewReader(r) }
func closeGzip(w io.Writer) io.WriteCloser        { return gzip.NewWriter(w) }
func closeZlib(w io.Writer) io.WriteCloser        { return zlib.NewWriter(w) }

// letterOfBase64 are the letters of both alphabets.
var letterOfBase64 = *chars.BytesThat(func(c byte) bool { return codeBytes[c] || c == '-' })

// findPacked adds the values of a block from a place on that are compressed texts in base64, of which something goes.
func (e *Engine) findPacked(b []byte, from int) {
	done := from
	for _, place := range e.texts.long {
		if place < done {
			continue
		}
		start, end := place, place
		for start > done && letterOfBase64[b[start-1]] {
			start--
		}
		for end < len(b) && letterOfBase64[b[end]] {
			end++
		}
		done = end
		if p, plain := openPacked(b[start:end]); p != nil {
			e.repack(b, start, end, p, plain)
		}
	}
}

// openPacked gives what a word in base64 holds that is a compressed text, and how it is packed; nil when it is none.
func openPacked(word []byte) (*packing, []byte) {
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
		plain, err := io.ReadAll(io.LimitReader(r, maxPacked+1))
		if err != nil || rest.Len() > 0 || len(plain) > maxPacked || !alias.IsPlainText(string(bytes.Map(noLineEnds, plain))) {
			return nil, nil
		}
		return p, plain
	}
	return nil, nil
}

// eachPacked calls found for the words of a text that are compressed texts in base64, whole ones alone. One that the text may end within
// begins at the place that it gives, else it gives -1.
func eachPacked(b []byte, found func(at int, plain []byte)) (open int) {
	open = -1
	for rare, head := range []string{"H4", "eJ"} { // of gzip, and of zlib in its usual way: the first or second letter is rare in logs
		for at := 0; at < len(b); {
			n := bytes.IndexByte(b[at:], head[rare])
			if n < 0 {
				break
			}
			start := at + n - rare
			if at += n + 1; start < 0 || b[start] != head[0] || start+1 >= len(b) || b[start+1] != head[1] ||
				start > 0 && letterOfBase64[b[start-1]] {
				continue
			}
			for at < len(b) && letterOfBase64[b[at]] {
				at++
			}
			if at == len(b) && start > 0 && (open < 0 || start < open) {
				open = start
			}
			if p, plain := openPacked(b[start:at]); p != nil {
				found(start, plain)
			}
		}
	}
	return open
}

// repack adds a value as a find if something in what it holds goes.
func (e *Engine) repack(b []byte, start, end int, p *packing, plain []byte) {
	word := b[start:end]
	var out bytes.Buffer
	counts, err := e.packedEngine(int64(start)).Text(&out, bytes.NewReader(plain))
	if err != nil || counts.Total() == 0 || bytes.Equal(out.Bytes(), plain) {
		return
	}
	rule := ""
	for name, n := range counts { // the one that hit most speaks for all
		if rule == "" || n > counts[rule] || n == counts[rule] && ruleOrder(name) < ruleOrder(rule) {
			rule = name
		}
	}
	for name, n := range counts {
		if e.counts[name] += n; name == rule {
			e.counts[name]-- // it counts as a find
		}
	}
	padded := end
	for padded < len(b) && b[padded] == '=' && padded-end < 2 {
		padded++
	}
	put := p.packed(out.Bytes(), bytes.ContainsAny(word, "-_"), padded > end || len(word)%4 == 0)
	e.findings = append(e.findings, finding{start: start, end: padded, trigger: start, class: alias.Secret, rule: rule, put: put,
		mute: true})
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
	put := code.EncodeToString(out.Bytes())
	if !padded {
		put = strings.TrimRight(put, "=")
	}
	return put
}

// packedEngine gives the engine for what is packed at a place of the block. What it learns stands nowhere as it is.
func (e *Engine) packedEngine(at int64) *Engine {
	t := &e.texts
	if t.packed == nil {
		o := e.options
		o.Aliases = e.aliases
		t.packed = e.another(o)
		t.packed.texts.depth, t.packed.gate.Open = t.depth+1, e.gate.Open
	}
	t.packed.place = nil
	if place, begun := e.place, e.mark+e.base+at; place != nil {
		t.packed.place = func(v alias.Value, _ int64) { place(v, begun) }
	}
	return t.packed
}
