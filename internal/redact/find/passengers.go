package find

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// Passengers finds who travels in the messages that ports, airlines and authorities send each other: names and numbers in lists of
// passengers (PAXLST of UN/EDIFACT; IATA's passenger name lists), and in records whose fields are parted by bars and carets (as of HL7).
// It is for short texts.
func Passengers(b []byte, from, to int, person, paper func(start, end int)) {
	for at := from; at < to; at = chars.NextLine(b[:to], at) {
		line := chars.LineFrom(b[:to], at)
		if len(line) < 8 {
			continue
		}
		switch {
		case bytes.Contains(line, []byte("DOCS ")) && bytes.Count(line, []byte("/")) > 6:
			travelDocument(line, at, person, paper)
		case bytes.IndexByte(line, '^') > 0 && bytes.IndexByte(line, '|') > 0:
			recordFields(line, at, person, paper)
		case bytes.IndexByte(line, '\'') > 0 && bytes.IndexByte(line, '+') > 0:
			segments(line, at, person, paper)
		case bytes.IndexByte(line, '/') > 1:
			if end := listedPassenger(line); end > 0 {
				person(at+digitsAt(line), at+end)
			}
		}
	}
}

// travelDocument finds the number, the days and the name in what carriers send about the passport of somebody (SSR DOCS):
// /P/NOR/NUMBER/NOR/12JUL88/F/04MAY35/SURNAME/GIVEN.
func travelDocument(line []byte, at int, person, paper func(start, end int)) {
	dated := false
	for start := bytes.IndexByte(line, '/') + 1; start > 0 && start < len(line); {
		end := start + len(bytes.TrimRight(line[start:], "\r\n"))
		if n := bytes.IndexByte(line[start:end], '/'); n >= 0 {
			end = start + n
		}
		switch field := line[start:end]; {
		case len(field) == 7 && IsShortDate(field):
			dated = true
			paper(at+start, at+end)
		case !dated && len(field) > 5 && IsDocumentNumber(field):
			paper(at+start, at+end)
		case dated && len(field) > 1 && isCapitals(field):
			person(at+start, at+end)
		}
		start = end + 1
	}
}

func digitsAt(line []byte) (n int) {
	for n < len(line) && chars.IsDigit(line[n]) {
		n++
	}
	return n
}

// recordFields finds SURNAME^GIVEN in a record, and the dates and numbers in the fields behind it.
func recordFields(line []byte, at int, person, paper func(start, end int)) {
	named := false
	for start := 0; start < len(line); {
		end := start + len(line[start:])
		if n := bytes.IndexByte(line[start:], '|'); n >= 0 {
			end = start + n
		}
		field := line[start:end]
		switch {
		case isJoinedName(field, '^'):
			named = true
			person(at+start, at+end)
		case named && (IsDate(field) || isPaper(field)):
			paper(at+start, at+end)
		}
		start = end + 1
	}
}

// isJoinedName says whether a text is the parts of a name in capitals with a sign between.
func isJoinedName(field []byte, sign byte) bool {
	parts := bytes.Split(bytes.TrimRight(field, string(sign)), []byte{sign})
	if len(parts) < 2 || len(parts) > 4 {
		return false
	}
	for i, p := range parts {
		if len(p) < 2 && i < 2 || !isCapitals(p) || i < 2 && IsEveryday(bytes.ToLower(p)) {
			return false
		}
	}
	return true
}

// isPaper says whether a text can be the number of a passport: a letter or two and six to nine digits.
func isPaper(v []byte) bool {
	letters := 0
	for letters < len(v) && chars.IsUpper(v[letters]) {
		letters++
	}
	digits := len(v) - letters
	return letters > 0 && letters < 3 && digits > 5 && digits < 10 && chars.IsAllDigits(v[letters:])
}

// segments finds the people in the segments of a message of UN/EDIFACT (ISO 9735): names in NAD+FL (a passenger) and NAD+FM (one of the
// crew), days of birth in DTM+329, numbers in DOC+P and other papers.
func segments(line []byte, at int, person, paper func(start, end int)) {
	for start := 0; start < len(line); {
		end := len(line)
		if n := bytes.IndexByte(line[start:], '\''); n >= 0 {
			end = start + n
		}
		segment := line[start:end]
		switch {
		case bytes.HasPrefix(segment, []byte("NAD+FL")), bytes.HasPrefix(segment, []byte("NAD+FM")):
			part(segment, at+start, 4, person)
		case bytes.HasPrefix(segment, []byte("DTM+329:")):
			stop := len("DTM+329:") + digitsAt(segment[len("DTM+329:"):])
			paper(at+start+len("DTM+329:"), at+start+stop)
		case bytes.HasPrefix(segment, []byte("DOC+")):
			part(segment, at+start, 2, paper)
		}
		start = end + 1
	}
}

// part tells of an element of a segment by its number, where there is something in it.
func part(segment []byte, at, number int, found func(start, end int)) {
	start := 0
	for range number {
		n := bytes.IndexByte(segment[start:], '+')
		if n < 0 {
			return
		}
		start += n + 1
	}
	end := len(segment)
	if n := bytes.IndexByte(segment[start:], '+'); n >= 0 {
		end = start + n
	}
	if end > start+2 {
		found(at+start, at+end)
	}
}

// listTitles end the names in passenger name lists.
var listTitles = [][]byte{[]byte("MRS"), []byte("MR"), []byte("MS"), []byte("MISS"), []byte("MSTR"), []byte("CHD"), []byte("INF")}

// listedPassenger gives the end of the name that a line of a passenger name list begins with, behind how many they are: 1RUD/KJERSTIMRS;
// 0 where there is none.
func listedPassenger(line []byte) int {
	start := digitsAt(line)
	if start == 0 || start > 3 {
		return 0
	}
	end := start
	for end < len(line) && (chars.IsUpper(line[end]) || line[end] == '/' || line[end] == '-') {
		end++
	}
	name := line[start:end]
	slash := bytes.IndexByte(name, '/')
	if slash < 2 || len(name)-slash < 4 || end < len(line) && line[end] != ' ' && line[end] != '.' && line[end] != '-' {
		return 0
	}
	for _, title := range listTitles {
		given, ok := bytes.CutSuffix(name[slash+1:], title)
		if word := bytes.ToLower(given); ok && (lexicon.Given(word) || len(given) > 3 && !IsEveryday(word)) {
			return end
		}
	}
	if bytes.Contains(line[end:], []byte(" .L/")) || bytes.Contains(line[end:], []byte(" .R/")) {
		return end
	}
	return 0
}
