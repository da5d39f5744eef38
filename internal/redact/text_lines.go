package redact

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/envelope"
	"envask/internal/redact/find"
)

// Some texts are whole lines. Programs colour what they write for a terminal, the keys of pairs, too; servers of logs make one line of
// the lines of a message; comments and differences between files have a sign before what they say. Such lines are looked at without
// the colours and signs, and as the lines that they stand for.

// nextPrefixed gives the first line from the beginning of one on that has something before it, with where its own text begins; start is the
// end where there is none.
func nextPrefixed(b []byte, at int) (start, end int) {
	for at < len(b) {
		end = chars.NextLine(b, at)
		line := b[at:end]
		if n := envelope.Of(line[:min(len(line), maxPrefix)]); n > 0 && n+minText < len(line) {
			return at + n, end
		}
		at = end
	}
	return len(b), len(b)
}

// maxPrefix is how far into a line it is looked for what stands before its text, in bytes.
const maxPrefix = 256

// gatherPrefixed finds the texts of lines with something before them. Those one after the other stay so when they are laid out.
func (t *texts) gatherPrefixed(b []byte, at int) {
	if at > 0 && b[at-1] != '\n' {
		at = chars.NextLine(b, at)
	}
	for at < len(b) {
		start, end := nextPrefixed(b, at)
		if start < len(b) {
			t.found = append(t.found, quotedText{start: start, end: end, quote: prefixQuote})
		}
		at = end
	}
}

// nothing is what a control sequence stands for.
const nothing = -1

// maxControl is how long a control sequence is at most that is taken for one, in bytes.
const maxControl = 32

// gatherControl finds the lines of a block that have control sequences, or control characters written as #012. Lines one after
// the other stay so when they are laid out.
func (t *texts) gatherControl(b []byte, at int) {
	var next nextControl
	for {
		n := next.from(b, at)
		if n == len(b) {
			return
		}
		back := max(0, at-find.LookBehind) // a line that began before tells what stands in it now
		q := quotedText{start: back + bytes.LastIndexByte(b[back:n], '\n') + 1, end: chars.NextLine(b, n), quote: escapeSign}
		if next.number < q.end {
			q.quote = '#'
		}
		t.found = append(t.found, q)
		at = q.end
	}
}

// gatherComments finds what lines say that are commented out.
func (t *texts) gatherComments(b []byte, at int) {
	for at < len(b) {
		sign := chars.IndexFrom(b, at, len(b), '#')
		back := max(0, at-find.LookBehind)
		start := back + bytes.LastIndexByte(b[back:sign], '\n') + 1
		if at = chars.NextLine(b, sign); sign == len(b) || len(bytes.TrimLeft(b[start:sign], " \t")) > 0 {
			continue
		}
		for start = sign + 1; start < at && b[start] == '#'; start++ {
		}
		if start+1 < at && b[start] == ' ' {
			start++
		}
		if start < at {
			t.found = append(t.found, quotedText{start: start, end: at, quote: commentQuote})
		}
	}
}

// opensHunk says whether a sign begins the head of a hunk of differences in the unified form (POSIX, diff -u).
func opensHunk(b []byte, at int) bool {
	return bytes.HasPrefix(b[at:], []byte("@@ -")) && (at == 0 || b[at-1] == '\n')
}

// gatherHunks finds the lines of hunks of differences, without the sign before each.
func (t *texts) gatherHunks(b []byte, at int) {
	t.openHunk = t.inHunk
	for at < len(b) {
		end := chars.NextLine(b, at)
		switch sign := b[at]; {
		case sign == '@' && opensHunk(b, at):
			t.openHunk = true
		case t.openHunk && (sign == '+' || sign == '-' || sign == ' '):
			t.found = append(t.found, quotedText{start: at + 1, end: end, quote: hunkQuote})
		case sign != '\\':
			t.openHunk = false
		}
		at = end
	}
}

// nextControl keeps where the next ones of both kinds are: none is looked for twice.
type nextControl struct{ escape, number int }

// from gives the first place from one on at which control has something, or the end.
func (n *nextControl) from(v []byte, at int) int {
	next := func(known int, sign byte) int {
		if known > at || known == at && at > 0 {
			return known
		}
		for known = chars.IndexFrom(v, at, len(v), sign); known < len(v); known = chars.IndexFrom(v, known+1, len(v), sign) {
			if _, size := control(v[known:]); size > 0 {
				break
			}
		}
		return known
	}
	n.escape, n.number = next(n.escape, escapeSign), next(n.number, '#')
	return min(n.escape, n.number)
}

// control gives what stands at the beginning of a text as a number sign and three octal digits, as servers of logs write what parts
// lines and words and colours them, or the control sequence there (ECMA-48, section 5.4), which stands for nothing; and how long
// it is, or 0.
func control(v []byte) (r rune, size int) {
	if len(v) < 3 {
		return 0, 0
	}
	if v[0] == '#' {
		switch string(v[1:min(len(v), 4)]) {
		case "011":
			return '\t', 4
		case "012":
			return '\n', 4
		case "015":
			return '\r', 4
		case "033":
			return nothing, 4 + sequence(v[4:])
		}
		return 0, 0
	}
	if v[0] != escapeSign {
		return 0, 0
	}
	if n := sequence(v[1:]); n > 0 {
		return nothing, 1 + n
	}
	return 0, 0
}

// sequence says how long the rest of a control sequence is behind its escape sign, or 0.
func sequence(v []byte) int {
	switch {
	case len(v) > 1 && (v[0] == '(' || v[0] == ')'): // a set of characters
		return 2
	case len(v) < 2 || v[0] != '[':
		return 0
	}
	for i, c := range v[1:min(len(v), maxControl)] {
		switch {
		case c >= 0x40 && c <= 0x7e:
			return i + 2
		case c < 0x20 || c > 0x3f:
			return 0
		}
	}
	return 0
}

// separators of lists that are written for programs: environments and arguments of processes, and the output of find -print0.
const listSeparator = 0

// asLines puts line ends in the place of the NUL characters of a text from a place on, so that each entry of a list is a line of its own,
// and adds where they stood.
func asLines(b []byte, from int, at []int) []int {
	for i := from; ; i++ {
		n := bytes.IndexByte(b[i:], listSeparator)
		if n < 0 {
			return at
		}
		i += n
		b[i] = '\n'
		at = append(at, i)
	}
}
