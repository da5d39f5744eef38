package phrase

import (
	"bytes"
	"strings"

	"envask/internal/redact/chars"
	"envask/internal/redact/judge"
)

// How a template is matched with a line: word for word from its anchor, backward and forward.

// token is a word of a line; a text in quotes is one, without them.
type token struct {
	start, end int
	quote      byte
}

// matcher matches one template at one place.
type matcher struct {
	b        []byte
	judge    Judge
	from, to int
	found    []Found
}

func (m *matcher) match(t *template, anchor token) bool {
	word, n := m.b[anchor.start:anchor.end], &t.nodes[t.anchor]
	if !n.fits(word) || n.part && !m.judge.Key(word) {
		return false
	}
	m.found = m.found[:0]
	return m.backward(t.nodes[:t.anchor], anchor) && m.forward(t.nodes[t.anchor+1:], anchor.end)
}

// fits reports whether a word is one of a literal.
func (n *node) fits(word []byte) bool {
	if n.set != nil {
		return n.inSet(word)
	}
	for _, w := range n.words {
		if len(w) != len(word) {
			continue
		}
		if n.exact && string(word) == w || !n.exact && strings.EqualFold(w, string(word)) {
			return true
		}
	}
	return false
}

// inSet reports whether a word is one of the set of a node, or ends with one.
func (n *node) inSet(word []byte) bool {
	lower := bytes.ToLower(word)
	if n.set[string(lower)] {
		return true
	}
	for i := 1; n.suffix && i < len(word); i++ {
		if (word[i-1] == '-' || n.part && meets(word, i)) && n.set[string(lower[i:])] {
			return true
		}
	}
	return false
}

// backward matches nodes from the last to the first before a token.
func (m *matcher) backward(nodes []node, behind token) bool {
	at := behind.start
	for i := len(nodes) - 1; i >= 0; i-- {
		n := &nodes[i]
		switch n.kind {
		case begin:
			return m.begins(at)
		case noArticle:
			if tok, ok := m.before(at); ok && sets["ARTICLE"].HasBytes(bytes.ToLower(bytes.Trim(m.b[tok.start:tok.end], ".,;:()[]\"'"))) {
				return false
			}
			continue
		case lineEnd:
			for at > m.from && chars.IsSpace(m.b[at-1]) {
				at--
			}
			if at == m.from || m.b[at-1] != '\n' {
				return false
			}
			if at--; at > m.from && m.b[at-1] == '\r' {
				at--
			}
			continue
		case gap:
			for range maxGap + 1 {
				mark := len(m.found)
				if m.backward(nodes[:i], token{start: at}) {
					return true
				}
				m.found = m.found[:mark]
				tok, ok := m.before(at)
				if !ok {
					return false
				}
				at = tok.start
			}
			return false
		}
		tok, ok := m.before(at)
		fits := ok && m.fitsToken(n, tok)
		if tok.quote != 0 {
			tok.start--
		}
		if n.optional {
			if fits && m.backward(nodes[:i], tok) {
				return true
			}
			continue
		}
		if !fits {
			return false
		}
		at = tok.start
	}
	return true
}

// begins reports whether a message begins at a place, but for opening signs.
func (m *matcher) begins(at int) bool {
	for at > m.from && bytes.IndexByte([]byte("\"'([<-> \t"), m.b[at-1]) >= 0 {
		if m.judge.Begins(m.b, at) {
			return true
		}
		at--
	}
	return m.judge.Begins(m.b, at) || at > m.from && m.b[at-1] == ':'
}

// forward matches nodes from the first to the last from a place on.
func (m *matcher) forward(nodes []node, at int) bool {
	for i := range nodes {
		n := &nodes[i]
		switch n.kind {
		case end:
			rest := at
			for rest < m.to && bytes.IndexByte([]byte(" \t\r.,;!)]}\"'"), m.b[rest]) >= 0 {
				rest++
			}
			return rest == len(m.b) || m.b[rest] == '\n'
		case lineEnd:
			for at < m.to && (chars.IsSpace(m.b[at]) || m.b[at] == '\r') {
				at++
			}
			if at >= m.to || m.b[at] != '\n' {
				return false
			}
			at++
			continue
		case gap:
			for range maxGap + 1 {
				mark := len(m.found)
				if m.forward(nodes[i+1:], at) {
					return true
				}
				m.found = m.found[:mark]
				tok, ok := m.after(at)
				if !ok {
					return false
				}
				at = tok.past(m.b)
			}
			return false
		}
		tok, ok := m.after(at)
		fits := ok && m.fitsToken(n, tok)
		if n.optional {
			mark := len(m.found)
			if fits && m.forward(nodes[i+1:], tok.past(m.b)) {
				return true
			}
			m.found = m.found[:mark]
			continue
		}
		if !fits {
			return false
		}
		at = tok.past(m.b)
		if n.kind == slots && n.pieces[len(n.pieces)-1].slot.grows() {
			at = max(at, m.found[len(m.found)-1].End)
		}
	}
	return true
}

// past gives the place behind a token and its quote.
func (t token) past(b []byte) int {
	if t.quote != 0 && t.end < len(b) {
		return t.end + 1
	}
	return t.end
}

// after gives the next token of the line.
func (m *matcher) after(at int) (token, bool) { return next(m.b, at, m.to) }

func next(b []byte, at, to int) (token, bool) {
	for at < to && (chars.IsSpace(b[at]) || at+1 < to && chars.IsSpace(b[at+1]) && bytes.IndexByte([]byte(",;:"), b[at]) >= 0) {
		at++
	}
	if at >= to || b[at] == '\n' || b[at] == '\r' {
		return token{}, false
	}
	if q := b[at]; q == '"' || q == '\'' {
		for i := at + 1; i < to && b[i] != '\n'; i++ {
			if b[i] == q && (i+1 >= len(b) || !chars.IsWord(b[i+1])) && i > at+1 {
				if i+1 < to && bytes.IndexByte([]byte(" \t\r\n,;:.)]}|&"), b[i+1]) < 0 { // 'NAME'@'HOST'
					break
				}
				return token{at + 1, i, q}, true
			}
		}
	}
	start := at
	for at < to && !chars.IsSpace(b[at]) && b[at] != '\n' && b[at] != '\r' {
		at++
	}
	return token{start, at, 0}, true
}

// before gives the token that ends before a place of the line.
func (m *matcher) before(at int) (token, bool) {
	for at > m.from && chars.IsSpace(m.b[at-1]) {
		at--
	}
	if at <= m.from || m.b[at-1] == '\n' {
		return token{}, false
	}
	if q := m.b[at-1]; q == '"' || q == '\'' {
		for i := at - 2; i >= m.from && m.b[i] != '\n'; i-- {
			if m.b[i] == q && (i == m.from || chars.IsSpace(m.b[i-1]) || m.b[i-1] == '\n') {
				return token{i + 1, at - 1, q}, true
			}
		}
	}
	last := at
	for at > m.from && !chars.IsSpace(m.b[at-1]) && m.b[at-1] != '\n' {
		at--
	}
	return token{at, last, 0}, true
}

// fitsToken reports whether a token is what a node says, and notes what stands in slots.
func (m *matcher) fitsToken(n *node, t token) bool {
	word := m.b[t.start:t.end]
	switch n.kind {
	case anyWord:
		return true
	case number:
		word = bytes.TrimRight(word, ",.;:)")
		return len(word) > 0 && len(bytes.Trim(word, "0123456789")) == 0
	case address:
		return isAddress(bytes.Trim(word, "[](),;'\""))
	case keyWord:
		return m.judge.Key(word)
	case whoWord:
		return m.judge.Who(bytes.Trim(word, "\"'"))
	case literal:
		return n.fits(word) || n.fits(bytes.Trim(word, ".,;:!?()[]\"'<>"))
	}
	return m.fitsPieces(n.pieces, t)
}

// isAddress reports whether a word can be an address or the name of a host: it has digits, dots or colons.
func isAddress(word []byte) bool {
	return len(word) > 2 && bytes.ContainsAny(word, ".:0123456789") && !bytes.ContainsAny(word, "=\"'")
}

// fitsPieces matches the pieces of a word with slots.
func (m *matcher) fitsPieces(pieces []piece, t token) bool {
	at, stop := m.within(pieces, t)
	for i, p := range pieces {
		if p.text != "" {
			if !hasFold(m.b[at:stop], p.text) {
				return false
			}
			at += len(p.text)
			continue
		}
		end := m.pieceEnd(pieces[i+1:], at, stop)
		if end < at || p.slot != "" && !m.note(p.slot, at, end, t.quote != 0 || i == 0 && at > t.start) {
			return false
		}
		at = end
	}
	return at == stop || pieces[len(pieces)-1].text != ""
}

// within gives the stretch of a token that pieces are matched with: without the signs of a sentence around it, where a slot or a word
// stands at its end.
func (m *matcher) within(pieces []piece, t token) (at, stop int) {
	at, stop = t.start, t.end
	first, last := pieces[0], pieces[len(pieces)-1]
	if t.quote != 0 {
		return at, stop
	}
	if last.slot != "" || last.any || chars.IsWord(last.text[len(last.text)-1]) {
		stop = trimmed(m.b, t)
	}
	if first.slot == "" {
		return at, stop
	}
	for at < stop && (bytes.IndexByte([]byte("([<{"), m.b[at]) >= 0 && stop < t.end || isQuote(m.b[at]) && m.b[stop-1] != m.b[at]) {
		at++
	}
	if stop-at > 2 && (isQuote(m.b[at]) || m.b[at] == '`') && m.b[stop-1] == m.b[at] && len(pieces) == 1 {
		at, stop = at+1, stop-1
	}
	return at, stop
}

// pieceEnd gives where a slot or a run of anything ends that begins at a place: before the text behind it; -1 where that is not there.
// What is left in front of the last text belongs to it.
func (m *matcher) pieceEnd(behind []piece, at, stop int) int {
	if len(behind) == 0 {
		return stop
	}
	text := behind[0].text
	if at < stop && isQuote(m.b[at]) && behind[0].text != "" { // "SECRET@"@HOST
		if n := bytes.IndexByte(m.b[at+1:stop], m.b[at]); n > 0 && hasFold(m.b[at+n+2:stop], text) {
			return at + n + 2
		}
	}
	if len(behind) == 1 {
		if n := stop - len(text); n >= at && hasFold(m.b[n:stop], text) {
			return n
		}
		if bytes.IndexByte([]byte("])>'\"}"), text[0]) < 0 {
			return -1
		}
	}
	n := indexFold(m.b[at:stop], text)
	if n < 0 {
		return -1
	}
	return at + n
}

// note notes what stands in a slot, if it has the signs of what the slot is for.
func (m *matcher) note(slot Slot, at, end int, quoted bool) bool {
	if slot == Account || slot == SureUser || slot == User || slot == QuotedUser || slot == Person {
		if n := bytes.LastIndexByte(m.b[at:end], '\\'); n > 0 && at+n+1 < end { // DOMAIN\NAME
			at += n + 1
		}
	}
	if end == at || (slot == User || slot == SureUser || slot == Account || slot == QuotedUser) && !isName(m.b[at:end]) {
		return false
	}
	f := Found{slot, at, end, quoted}
	if slot == Phone {
		if f.End = phoneEnd(m.b[:m.to], at); at > m.from && m.b[at-1] == '(' && bytes.IndexByte(m.b[at:f.End], ')') > 0 {
			f.Start = at - 1
		}
	} else if slot.grows() {
		f.End = judge.WholeName(m.b[:m.to], at, end)
	}
	m.found = append(m.found, f)
	return true
}

// phoneEnd gives the end of a telephone number: digits in groups.
func phoneEnd(b []byte, at int) int {
	end, last := at, at
	for end < len(b) && end-at < 24 && (b[end] >= '0' && b[end] <= '9' || bytes.IndexByte([]byte("+ ()-./"), b[end]) >= 0) {
		if end++; b[end-1] >= '0' && b[end-1] <= '9' {
			last = end
		}
	}
	return last
}

// isName reports whether a value has the signs of names of accounts alone.
func isName(v []byte) bool {
	for _, c := range v {
		if !chars.IsWord(c) && c < 0x80 && c != '.' && c != '-' && c != '$' && c != '@' && c != '\\' {
			return false
		}
	}
	return true
}

func isQuote(c byte) bool { return c == '"' || c == '\'' }

func hasFold(b []byte, text string) bool {
	return len(b) >= len(text) && strings.EqualFold(string(b[:len(text)]), text)
}

func indexFold(b []byte, text string) int {
	for i := 0; i+len(text) <= len(b); i++ {
		if hasFold(b[i:], text) {
			return i
		}
	}
	return -1
}

// trimmed gives the end of a word without the signs of a sentence behind it, and without brackets and quotes that it does not open.
func trimmed(b []byte, t token) int {
	end := t.end
	if v, ok := bytes.CutSuffix(b[t.start:end], []byte(`\r\n`)); ok && len(v) > 0 { // written by what shows line ends
		end = t.start + len(v)
	}
	for ; end > t.start+1; end-- {
		switch c := b[end-1]; c {
		case ',', ';', '.', ':':
			continue
		case ')', ']', '}', '>', '"', '\'':
			if opener := byte("([{<\"'"[bytes.IndexByte([]byte(")]}>\"'"), c)]); bytes.IndexByte(b[t.start+1:end-1], opener) < 0 &&
				(c == '>' || c == ')' || c == ']' || c == '}' || b[t.start] != opener) {
				continue
			}
		}
		break
	}
	return end
}
