package find

import (
	"bytes"
	"unicode"
	"unicode/utf8"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// besideNames are signs around a name.
var besideNames = *chars.BytesOf(" (),;|=>\"'\t")

// mostGiven bounds the words of a name.
const mostGiven = 4

// GivenNames finds whole names of people that begin with a given name: behind a word that people are named behind, before a mail address,
// and between the signs of a cell, a value or parentheses. It looks at each word with a capital, which is for short texts only: in a log
// hardly any is a person.
//
// A text of a program with a licence names its authors, who are known to everybody: there only what surely is a place of a name counts.
func GivenNames(b []byte, from, to int, person func(start, end int)) {
	licensed := ofProgram(b[from:to])
	for at := from; at < to; at++ {
		first := at == 0 || b[at-1] == '\n'
		if !isCapital(b[:to], at) || !first && !besideNames[b[at-1]] {
			continue
		}
		end := givenName(b[:to], at)
		short := end == 0
		if short {
			end = shortName(b[:to], from, at)
		}
		if end == 0 {
			continue
		}
		speaks := short && end < to && b[end] == ':' && at > 1 && b[at-2] == ']' // [06:12] Sorley, Maire: …
		if chat := speaks || !short && ofChat(b[:to], at, end, first); !chat && (isCredit(chars.LineFrom(b[:to], chars.LineStart(b, at))) ||
			!short && (first || !isNamed(b[:to], from, at, end)) && !acts(b[:to], end) &&
				(licensed || !namedFreely(b[:to], at, end)) || !short && ofShip(b, at)) {
			continue
		}
		person(at, end)
		for next := nextOfList(b[:to], end); next > 0 && behindKey(b, at); next = nextOfList(b[:to], end) {
			end = givenName(b[:to], next)
			person(next, end)
		}
		at = end
	}
}

// leastNational is how many digits a telephone number has at least without its country.
const leastNational = 8

// PhoneOfNamed finds the number of a telephone right behind the name of somebody: NAME (912 00 713), NAME, 912 345 679.
func PhoneOfNamed(b []byte, end int) (first, last int) {
	rest := b[end:]
	bracket := bytes.HasPrefix(rest, []byte(" ("))
	bare := bytes.HasPrefix(rest, []byte(" 0")) || bytes.HasPrefix(rest, []byte(" +"))
	if !bracket && !bare && !bytes.HasPrefix(rest, []byte(", ")) || len(rest) < leastNational+2 {
		return 0, 0
	}
	if first = end + 2; bare {
		first--
	}
	digits, blanks := 0, 0
	for last = first; last < len(b) && last-first < 20 && (chars.IsDigit(b[last]) || b[last] == '+' && last == first || b[last] == ' ' ||
		b[last] == '-'); last++ {
		if chars.IsDigit(b[last]) {
			digits++
		} else {
			blanks++
		}
	}
	closed := last == len(b) || b[last] == '\n' || b[last] == '\r' || b[last] == '.' || b[last] == ',' || bracket && b[last] == ')'
	if digits < leastNational || digits > 11 || blanks == 0 || !closed || IsDate(b[first:last]) {
		return 0, 0
	}
	return first, last
}

// ofProgram reports whether a text speaks of the rights on a program, or of its changes.
func ofProgram(text []byte) bool {
	for _, word := range []string{"opyright", "icense", "icence", "urgency=", "Changelog", "CHANGES", "AUTHORS"} {
		if bytes.Contains(text, []byte(word)) {
			return true
		}
	}
	return false
}

// ofChat says whether a name stands over or before what somebody wrote: "Ilvar Tostrund: …" and "Ilvar Tostrund [06:12]".
func ofChat(b []byte, at, end int, first bool) bool {
	if !first && !bytes.HasSuffix(b[:at], []byte("- ")) && !bytes.HasSuffix(b[:at], []byte("] ")) {
		return false
	}
	rest := b[end:]
	return bytes.HasPrefix(rest, []byte(": ")) || len(rest) > 3 && rest[0] == ' ' && rest[1] == '[' && chars.IsDigit(rest[2])
}

// isNamed says whether the place of a name is one at which people are named.
func isNamed(b []byte, from, at, end int) bool {
	ends := end == len(b) || b[end] == '\n'
	switch {
	case b[at-1] == '(' && end+1 < len(b) && b[end] == ')' && b[end+1] == '\n':
		return false
	case b[at-1] != ' ' && (ends || besideNames[b[end]] && b[end] != ' '): // a cell
		return true
	case bytes.HasPrefix(b[end:], []byte(" <")) && bytes.IndexByte(chars.LineFrom(b, end), '@') > 0:
		return true
	case bytes.HasPrefix(b[end:], []byte(" (")) && !shouted(b, at): // Rina Okafor (passport …)
		return true
	case behindKey(b, at) && (ends || b[end] == ',' || nextOfList(b, end) > 0 || beforeKey(b, end)): // the whole value, or a list
		return true
	case (b[at-1] == '"' || b[at-1] == '\'') && !ends && b[end] == b[at-1] && beforeMail(b, end+1): // ('NAME', 'ilvar@pier.example')
		return true
	case shouted(b, at), b[at-1] != ' ':
		return false
	}
	return lexicon.NotedBeforePeople.Has(lastWord(b[max(from, at-16):at]))
}

// beforeKey says whether the next word is a key with a colon.
func beforeKey(b []byte, end int) bool {
	if end+1 >= len(b) || b[end] != ' ' {
		return false
	}
	colon := wordEnd(b, end+1)
	return colon > end+2 && colon < len(b) && b[colon] == ':'
}

// beforeMail says whether the next text in quotes is a mail address.
func beforeMail(b []byte, at int) bool {
	next := bytes.TrimLeft(b[at:min(len(b), at+80)], ", ")
	if len(next) < 6 || next[0] != '"' && next[0] != '\'' {
		return false
	}
	end := bytes.IndexByte(next[1:], next[0])
	return end > 0 && bytes.IndexByte(next[1:1+end], '@') > 0
}

// acts says whether what follows a whole name tells what somebody does: … confirmed, … is inviting.
func acts(b []byte, at int) bool {
	for _, is := range []string{" is ", " was "} {
		if from := at + len(is); bytes.HasPrefix(b[at:], []byte(is)) {
			return bytes.HasSuffix(b[from:wordEnd(b, from)], []byte("ing"))
		}
	}
	return doesSomething(b, at)
}

// nextOfList gives the place of the next name behind a comma, where there is one; else 0.
func nextOfList(b []byte, end int) int {
	if at := end + 2; at+3 < len(b) && b[end] == ',' && b[end+1] == ' ' && isCapital(b, at) && givenName(b, at) > 0 {
		return at
	}
	return 0
}

// creditWords are those of the lines in which programs and their changes name who made them, who is known to everybody. A part of a word
// is none: reported, authorized, six.
var creditWords = chars.WordSet(`copyright author authors authored patch patches bug contributed contributions contributor maintainer
	maintained written thanks suggested suggestion discovered developed derived revised adapted based original originally ported
	committed license licence credits translated translation book algorithm published upstream debian fix fixes bugs
	documentation`)

// isCredit says whether a line is one of these.
func isCredit(line []byte) bool {
	line = bytes.TrimLeft(line, " \t")
	if bytes.HasPrefix(line, []byte("# ")) && IsGivenName(bytes.TrimRight(line[2:], " \r\n")) { // whose the next lines are
		return false
	}
	if bytes.HasPrefix(line, []byte("#")) || bytes.HasPrefix(line, []byte("//")) ||
		bytes.HasPrefix(line, []byte("* ")) { // a remark of a program
		return true
	}
	if bytes.Contains(line, []byte("©")) || bytes.Contains(line, []byte("(c)")) || bytes.Contains(line, []byte("(C)")) {
		return true
	}
	if bytes.Contains(line, []byte("](http")) || bytes.Contains(line, []byte(" -- ")) {
		return true
	}
	for _, w := range bytes.FieldsFunc(line, func(r rune) bool { return r < utf8.RuneSelf && !chars.IsWord(byte(r)) }) {
		if creditWords.HasBytes(bytes.ToLower(w)) {
			return true
		}
	}
	return false
}

// givenName gives the end of the longest name at a place that begins with a given name; 0 where there is none.
func givenName(b []byte, at int) (end int) {
	for word, words := at, 0; words < mostGiven && word < len(b); words++ {
		for words > 0 { // van der Berg
			to := bytes.IndexByte(b[word:min(len(b), word+8)], ' ')
			if to < 0 || !lexicon.Particles.HasBytes(b[word:word+to]) {
				break
			}
			word += to + 1
		}
		if word >= len(b) || !isCapital(b, word) {
			break
		}
		to := nameWordEnd(b, word)
		if words > 0 && to < len(b) && b[to] == ':' && bytes.ContainsFunc(b[min(to, word+3):to], unicode.IsUpper) { // CustomerUser: x
			break
		}
		if words > 1 && isLabel(b, word) { // Helga Vik TEL
			break
		}
		if words > 0 && ofOrganisation(b, to) && IsGivenName(b[at:to]) {
			return to
		}
		if to-word < 2 || to < len(b) && bytes.IndexByte([]byte("_/=(\\@0123456789"), b[to]) >= 0 {
			break
		}
		if words > 0 && IsGivenName(b[at:to]) {
			end = to
		}
		if to >= len(b) || b[to] != ' ' {
			break
		}
		word = to + 1
	}
	return end
}

// nameWordEnd gives the end of a word of a name: letters, with a dash or an apostrophe within.
func nameWordEnd(b []byte, at int) int {
	for at < len(b) && (chars.IsWord(b[at]) && !chars.IsDigit(b[at]) && b[at] != '_' || b[at] >= utf8.RuneSelf ||
		(b[at] == '-' || b[at] == '\'') && at+1 < len(b) && chars.IsWord(b[at+1])) {
		at++
	}
	return at
}
