package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// A find must not leave the text in quotes in which it begins: what reads the document would stumble, and what stands behind the
// text would be lost to the vendor. The rules see single signs and words, so that each of them would have to know about it; here it
// is made sure for all.

// WithinText gives where a find ends that goes from one place to another, so that it stays within the text in double quotes in
// which it begins, also where that text stands within another (with its quotes escaped), and takes no half of an escape with it.
func WithinText(b []byte, start, end int) int {
	n := bytes.IndexByte(b[start:end], '"')
	if n < 0 && (end == len(b) || b[end] != '"' || b[end-1] != '\\') {
		return end
	}
	if n >= 0 && start > 0 && b[start-1] == '"' && end < len(b) && b[end] == '"' &&
		QuoteDepth(b, end, start) == QuoteDepth(b, start-1, max(0, start-chars.MaxKey)) && bytes.Count(b[start:end], []byte(`"`))%2 == 0 {
		return end // several texts of a list
	}
	for depth := 0; n >= 0 && depth <= maxDepth; depth++ {
		for at := start + n; at < end; at++ {
			if b[at] == '"' && QuoteDepth(b, at, start) == depth && ClosesAt(b, at) {
				if isOpenAt(b, start, depth) {
					end = at
				}
				break
			}
		}
	}
	back := Backslashes(b, end, start)
	if end < len(b) && b[end] == '"' {
		return end - back // they belong to the quote
	}
	return end
}

// LeavesText says whether the text in quotes in which a sign between key and value stands ends before the value: then it is none.
func LeavesText(b []byte, sign, start int) bool {
	if b[sign] != ':' && b[sign] != '=' {
		return false
	}
	for at := sign + 1; at < start; at++ {
		if b[at] == '"' && ClosesAt(b, at) && isOpenAt(b, sign, QuoteDepth(b, at, sign)) {
			return true
		}
	}
	return false
}

// HalfEscape says whether the backslash of an escape of JSON stands before a place: what begins there is no word. As it reads, it is
// looked at elsewhere, see findInTexts.
func HalfEscape(b []byte, at int) bool {
	return Backslashes(b, at, 0)%2 == 1 && escapes(b, at-1) && !onlyBackslash(b, at-1)
}

// onlyBackslash says whether a backslash stands behind capitals, in a line that holds no other and no quotes, so that what looks like an
// escape is none: PIER\tquill.
func onlyBackslash(b []byte, at int) bool {
	if at < 2 || !chars.IsUpper(b[at-1]) || !chars.IsUpper(b[at-2]) {
		return false
	}
	line := chars.LineFrom(b, chars.LineStart(b, at))
	return bytes.Count(line, []byte("\\")) == 1 && !bytes.ContainsAny(line, "\"'`")
}

// maxDepth is how many texts stand within each other, at most, to be told apart.
const maxDepth = 3

// Backslashes says how many backslashes stand before a place, from a first place on.
func Backslashes(b []byte, at, first int) int {
	n := 0
	for at-n > first && n < 64 && b[at-n-1] == '\\' {
		n++
	}
	return n
}

// QuoteDepth says in how many texts a quote stands, each of which is written with escapes within the next one: every one of them
// doubles the backslashes before the quote and adds one.
func QuoteDepth(b []byte, at, first int) int {
	depth := 0
	for n := Backslashes(b, at, first); n%2 == 1; n /= 2 {
		depth++
	}
	return depth
}

// ClosesAt says whether what follows a quote is what follows a text that ends.
func ClosesAt(b []byte, at int) bool {
	for i := at + 1; i < len(b) && i-at < 16; i++ {
		switch b[i] {
		case ' ', '\t':
		case ',', ':', ']', '}', ')', ';', '\n', '\r', '\\':
			return true
		default:
			return false
		}
	}
	return true
}

// isOpenAt says whether a place lies within a text whose quotes have a depth. The quotes of the line tell, or,
// where its beginning is too far away, the signs beside the nearest one.
func isOpenAt(b []byte, at, depth int) bool {
	from := max(0, at-chars.MaxText)
	first := from + bytes.LastIndexByte(b[from:at], '\n') + 1
	if first == 0 || b[first-1] == '\n' {
		open := false
		for i := first; i < at; i++ {
			if b[i] != '"' {
				continue
			}
			switch d := QuoteDepth(b, i, first); {
			case d == depth:
				open = !open
			case d < depth: // of the text around it, in which a new one begins
				open = false
			}
		}
		return open
	}
	for i := at - 1; i >= first; i-- {
		if b[i] == '"' && QuoteDepth(b, i, first) == depth {
			before := bytes.TrimRight(b[first:i-Backslashes(b, i, first)], " \t")
			return len(before) == 0 || bytes.IndexByte([]byte(":,[{(="), before[len(before)-1]) >= 0
		}
	}
	return false
}

// closing gives the place of the closing quote, or the end of the line when there is none.
func closing(b []byte, from int, quote byte) int {
	for i := from; i < len(b); i++ {
		switch b[i] {
		case '\\':
			i++
		case '\n', '\r':
			return i
		case quote:
			return i
		}
	}
	return len(b)
}

// closesText says whether the next sign from a place on is a quote that closes a text which began before, as where a text of
// a JSON document ends in a telling word: what stands behind it is no value then. In JSON one of four signs follows such a
// quote; where the line can be seen from its beginning, the quotes before it tell.
func closesText(b []byte, at int) bool {
	for at < len(b) && chars.IsSpace(b[at]) {
		at++
	}
	if at >= len(b) || b[at] != '"' && b[at] != '\'' {
		return false
	}
	if rest := bytes.TrimLeft(b[at+1:min(len(b), at+16)], " \t\r\n"); len(rest) > 0 && bytes.IndexByte([]byte(":,}]"), rest[0]) < 0 {
		return false
	}
	first := chars.LineStart(b, at)
	if first > 0 && b[first-1] != '\n' {
		return true
	}
	return chars.InsideQuotes(b, first, at, b[at])
}

// escapedQuote gives the length of backslashes and a quote at a place, or 0.
func escapedQuote(b []byte, at int) int {
	end := at
	for end < len(b) && end-at < 16 && b[end] == '\\' {
		end++
	}
	if end == at || end == len(b) || b[end] != '"' {
		return 0
	}
	return end + 1 - at
}
