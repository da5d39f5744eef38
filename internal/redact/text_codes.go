package redact

import (
	"bytes"
	"slices"
	"strings"
	"unicode/utf8"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
)

// Some texts are written in a code: as percent escapes within addresses and forms (RFC 3986), as sections of XML in which nothing is
// escaped, and between the backticks of notes.

// The quotes of such texts.
const (
	percentQuote = '%'
	sectionQuote = '['
	tickQuote    = '`'
)

// minCode is from how many letters on a word is looked at as base64.
const minCode = 20

// gatherCoded finds texts in codes.
func (t *texts) gatherCoded(b []byte, at int) {
	t.gatherSections(b, at)
	t.gatherTicks(b, at)
	t.gatherPercent(b, at)
}

// sections are the heads of sections in which signs are no escapes, and what closes them: those of XML, and the messages of logs that look
// like it.
var sections = []struct{ head, end []byte }{{[]byte("<![CDATA["), []byte("]]>")}, {[]byte("<![LOG["), []byte("]LOG]!>")}}

// gatherSections finds such sections.
func (t *texts) gatherSections(b []byte, at int) {
	for {
		n := bytes.Index(b[at:], sections[0].head[:3])
		if n < 0 {
			return
		}
		at += n
		kind := slices.IndexFunc(sections, func(s struct{ head, end []byte }) bool { return bytes.HasPrefix(b[at:], s.head) })
		if kind < 0 {
			at++
			continue
		}
		start := at + len(sections[kind].head)
		n = bytes.Index(b[start:min(len(b), start+chars.MaxValue)], sections[kind].end)
		if n < 0 {
			return
		}
		at = start + n
		if n >= minText && bytes.ContainsAny(b[start:at], " \t:=,;|{<") {
			t.found = append(t.found, quotedText{start: start, end: at, sign: '[', quote: sectionQuote})
		}
	}
}

// gatherTicks finds commands and lines within backticks.
func (t *texts) gatherTicks(b []byte, at int) {
	for {
		n := bytes.IndexByte(b[at:], '`')
		if n < 0 {
			return
		}
		start := at + n + 1
		if start > 1 && bytes.IndexByte([]byte(" \t\n(\"'"), b[start-2]) < 0 {
			at = start
			continue
		}
		end := start + bytes.IndexAny(b[start:min(len(b), start+chars.MaxText)], "`\n")
		if end < start {
			return
		}
		if at = end; b[end] == '`' {
			at++
			if end-start >= minText && bytes.ContainsAny(b[start:end], " :/") {
				t.found = append(t.found, quotedText{start: start, end: end, sign: '`', quote: tickQuote})
			}
		}
	}
}

// formBytes are those of values in addresses and forms.
var formBytes = *chars.BytesThat(func(c byte) bool { return chars.IsWord(c) || strings.IndexByte("%+-.~*!/:", c) >= 0 })

// gatherPercent finds values with percent escapes, and those of forms that read as several words.
func (t *texts) gatherPercent(b []byte, at int) {
	for sign := nextForm(b, at); sign < len(b); sign = nextForm(b, at) {
		start, end := sign, sign
		for start > at && sign-start < chars.MaxText && formBytes[b[start-1]] {
			start--
		}
		for end < len(b) && end-sign < chars.MaxValue && formBytes[b[end]] {
			end++
		}
		at = end
		if end-start >= 12 {
			t.found = append(t.found, quotedText{start: start, end: end, sign: '%', quote: percentQuote})
		}
	}
}

// nextForm gives the next percent escape, or the next plus sign between words of the value of a form, or the end.
func nextForm(b []byte, at int) int {
	escape := at
	for ; ; escape++ {
		if escape = chars.IndexFrom(b, escape, len(b), '%'); escape+2 >= len(b) {
			escape = len(b)
			break
		}
		if chars.IsHex(b[escape+1]) && chars.IsHex(b[escape+2]) {
			break
		}
	}
	for plus := at; ; plus++ {
		if plus = chars.IndexFrom(b, plus, escape, '+'); plus == escape {
			return escape
		}
		// Of a time, mostly.
		if plus == at || chars.IsBlank(b[plus-1]) || chars.IsDigit(b[plus-1]) && plus+1 < len(b) && chars.IsDigit(b[plus+1]) {
			continue
		}
		start := plus
		for start > at && plus-start < chars.MaxKey && (formBytes[b[start-1]] && b[start-1] != '/') {
			start--
		}
		if start > at+1 && b[start-1] == '=' && chars.IsWord(b[start-2]) && plus+1 < len(b) && (chars.IsWord(b[plus+1]) ||
			b[plus+1] == '+') {
			return plus
		}
	}
}

// percent gives the sign that an escape of a form stands for, and how long it is, or 0.
func percent(v []byte) (r rune, size int) {
	if v[0] == '+' {
		return ' ', 1
	}
	if len(v) < 3 || !chars.IsHex(v[1]) || !chars.IsHex(v[2]) {
		return 0, 0
	}
	return rune(chars.Unhex(v[1])<<4 | chars.Unhex(v[2])), 3
}

// codeBytes are those of base64, besides dashes, which dates and names have too.
var codeBytes = *chars.BytesThat(func(c byte) bool { return chars.IsWord(c) || c == '+' || c == '/' })

// noteLong says that the words from one place of a block to another are looked through by someone else; those up to there are looked
// through now.
func (t *texts) noteLong(b []byte, from, to int) {
	eachLong(b, t.longTo, from, func(place int) { t.long = append(t.long, place) })
	t.longTo = max(t.longTo, to)
}

// eachLong gives a place in each word of a text that begins between two places and is so long that it may be base64.
func eachLong(b []byte, at, to int, each func(place int)) {
	for at < to && at+minCode <= len(b) {
		last := at + minCode - 1 // each word of that length covers one of these places
		if !codeBytes[b[last]] {
			at = last + 1
			continue
		}
		if middle := last - minCode/2; !codeBytes[b[middle]] {
			at = middle + 1
			continue
		}
		start, end := last, last
		for start > at && codeBytes[b[start-1]] {
			start--
		}
		for end < len(b) && codeBytes[b[end]] {
			end++
		}
		if at = end; end-start >= minCode {
			each(last)
		}
	}
}

// decodedText gives the text with more than one word in it that a word is in base64; nil when it is none.
func decodedText(word []byte) []byte {
	if len(word) < minCode {
		return nil
	}
	var room [minCode * 3 / 4]byte
	n, err := chars.DecodeBase64(room[:], word[:minCode])
	if err != nil || !alias.IsPlainText(string(bytes.Map(noLineEnds, cutRune(room[:n])))) {
		return nil
	}
	plain := make([]byte, len(word)/4*3+3)
	n, err = chars.DecodeBase64(plain, word)
	if err != nil {
		return nil
	}
	plain = plain[:n]
	if !utf8.Valid(plain) || !alias.IsPlainText(string(bytes.Map(noLineEnds, plain))) ||
		!bytes.ContainsFunc(plain, func(r rune) bool { return r < 0x80 && !chars.IsWord(byte(r)) }) {
		return nil
	}
	return plain
}

// cutRune takes half a character from the end of a text.
func cutRune(b []byte) []byte {
	for n := 1; n <= 3 && n <= len(b); n++ {
		if c := b[len(b)-n]; c < 0x80 {
			return b
		} else if utf8.RuneStart(c) {
			return b[:len(b)-n]
		}
	}
	return b
}

func noLineEnds(r rune) rune {
	if r == '\n' || r == '\r' || r == '\t' {
		return ' '
	}
	return r
}

// isCoded reports whether a text is written in a code.
func isCoded(q *quotedText) bool {
	return q.quote == percentQuote || q.quote == sectionQuote || q.quote == tickQuote
}

func isPercent(v []byte) bool {
	_, size := percent(v)
	return size > 0
}
