package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// PeopleInRows finds the surname and the given name that stand in two fields of a line beside each other, where no head tells it:
// 0417;OKEKE;MARTHA;14.03.2031. It is for short texts.
func PeopleInRows(b []byte, from, to int, person func(start, end int)) {
	for at := from; at < to; at = chars.NextLine(b[:to], at) {
		line := bytes.TrimRight(chars.LineFrom(b[:to], at), "\r\n")
		for _, sign := range []byte(";|\t,") {
			if n := bytes.Count(line, []byte{sign}); n >= 3 && n < 64 {
				peopleInRow(line, at, sign, person)
				break
			}
		}
	}
}

// peopleInRow looks at the fields of a line.
func peopleInRow(line []byte, at int, sign byte, person func(start, end int)) {
	var before [2]int // the field before, without its quotes
	for start := 0; start <= len(line); {
		end := len(line)
		if n := bytes.IndexByte(line[start:], sign); n >= 0 {
			end = start + n
		}
		from, until := start, end
		for from < until && (line[from] == ' ' || line[from] == '"') {
			from++
		}
		for until > from && (line[until-1] == ' ' || line[until-1] == '"') {
			until--
		}
		field, last := line[from:until], line[before[0]:before[1]]
		if isNamePart(field) && isNamePart(last) && isCapitals(field) == isCapitals(last) &&
			(isGivenInCapitals(field) && !isGivenInCapitals(last) || isGivenInCapitals(last) && !isGivenInCapitals(field)) {
			person(at+before[0], at+before[1])
			person(at+from, at+until)
		}
		before, start = [2]int{from, until}, end+1
	}
}

// isNamePart says whether a field is one word that may be half of a name.
func isNamePart(field []byte) bool {
	return len(field) > 2 && isCapital(field, 0) && nameWordEnd(field, 0) == len(field) && !IsEveryday(bytes.ToLower(field))
}

// isGivenInCapitals says whether a word is a given name, in capitals or not.
func isGivenInCapitals(word []byte) bool {
	lower := bytes.ToLower(word)
	return isGivenAlone(append(bytes.ToUpper(lower[:1]), lower[1:]...))
}
