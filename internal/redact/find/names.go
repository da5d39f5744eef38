package find

import (
	"bytes"

	"envask/internal/redact/chars"
	"envask/internal/redact/lexicon"
)

// LooksPersonal says whether a text is two to four words with capitals, as names of people are.
func LooksPersonal(v []byte) bool {
	words := bytes.Fields(v)
	if len(words) < 2 || len(words) > 4 {
		return false
	}
	for i, w := range words {
		w = bytes.TrimRight(w, ",.")
		if i > 0 && i < len(words)-1 && lexicon.Particles.HasBytes(w) {
			continue
		}
		if len(w) == 0 || !chars.IsUpper(w[0]) && w[0] < 0x80 {
			return false
		}
		for _, c := range w[1:] {
			if c < 0x80 && (!chars.IsWord(c) || chars.IsDigit(c)) && c != '\'' && c != '-' {
				return false
			}
		}
	}
	return true
}

// months are the short names of months that follow one which is also a given name.
var months = chars.WordSet("feb mar apr jun jul aug sep sept oct okt nov dec dez february march mon tue wed thu fri sat sun")

// IsGivenName says whether a text is two to four words of which the first is a given name, or the second behind a comma, and none of
// the others a word that everybody uses.
func IsGivenName(v []byte) bool {
	if !LooksPersonal(v) {
		return false
	}
	words := bytes.Fields(v)
	given := 0
	if words[0][len(words[0])-1] == ',' {
		given = 1
	}
	for i, w := range words {
		w = bytes.ToLower(bytes.TrimRight(w, ",."))
		switch {
		case i > 0 && i < len(words)-1 && lexicon.Particles.HasBytes(w):
		case i != given && months.HasBytes(w): // Jan Feb Mar
			return false
		case i == given && !lexicon.Given(w):
			return false
		case i != given && len(w) > 1 && IsEveryday(w) && !lexicon.Given(w):
			return false
		}
	}
	return true
}

// IsAccountWord says whether a word is a name where its place tells, also with an underscore between two parts that are no words of
// everybody.
func IsAccountWord(v []byte) bool {
	first, second, two := bytes.Cut(v, []byte("_"))
	return chars.NameAt(v, 0) == len(v) && (IsLoginWord(v) || two && len(first) > 0 && len(second) > 2 && IsLoginWord(second) &&
		chars.IsAllLetters(first) && !IsEveryday(bytes.ToLower(first)))
}

// IsUncommonName says whether a text looks like the name of a person, and none of its words is one that everybody uses.
func IsUncommonName(v []byte) bool {
	if !LooksPersonal(v) {
		return false
	}
	for _, w := range bytes.Fields(v) {
		if len(w) < 3 || IsEveryday(bytes.ToLower(w)) || chars.HasWord(authorities, w) || chars.IsUpper(w[1]) {
			return false
		}
	}
	return true
}

// personOfElement finds the name in an attribute of an element that is about a person: <user id="7" name="…"/>.
func personOfElement(b []byte, at int) bool {
	tag := bytes.LastIndexByte(b[max(0, at-chars.MaxPair):at], '<')
	if tag < 0 {
		return false
	}
	tag += max(0, at-chars.MaxPair) + 1
	if bytes.IndexByte(b[tag:at], '>') >= 0 {
		return false
	}
	end := tag
	for end < at && (chars.IsKeyByte(b[end]) || b[end] == ':') {
		end++
	}
	if n := bytes.LastIndexByte(b[tag:end], ':'); n >= 0 {
		tag += n + 1
	}
	return KindOf(b[tag:end])&KeyUser != 0
}

// personalKeys are those that only descriptions of people have.
var personalKeys = chars.WordSet(`email mail emailaddress mailaddress phone phonenumber mobile mobilephone mobilenumber gender sex
	samaccountname userprincipalname telephonenumber birthdate birthday dateofbirth dob surname lastname
	nationality passport passportnumber iban pan cardnumber postcode`)

// besidePersonal says whether one of them stands in the same object or element as a place, or in a line beside it.
func besidePersonal(b []byte, at int) bool {
	from, to := max(0, at-chars.MaxPair), min(len(b), at+chars.MaxPair)
	if n := bytes.LastIndexAny(b[from:at], "{}"); n >= 0 {
		from += n
	}
	if n := bytes.IndexAny(b[at:to], "{}"); n >= 0 {
		to = at + n
	}
	around := b[from:to]
	for i, c := range around {
		if (c != ':' && c != '=' && c != '>') || i < 3 {
			continue
		}
		var buf [chars.MaxKey]byte
		start, end, _ := KeySpan(around, i)
		if personalKeys.HasBytes(PlainKey(&buf, around[start:end])) {
			return true
		}
	}
	return false
}

// authorities are words in the names of those who give certificates, and of what they are given to.
var authorities = chars.WordSet("ca root authority issuing intermediate server client service services signing certificate " +
	"timestamp ocsp gateway terminal")
