package alias

import (
	"bytes"
	"net/netip"
	"strings"
	"unicode/utf8"

	jsonv1 "github.com/go-json-experiment/json/v1"

	"envask/internal/redact/chars"
)

// canonical gives the form under which spellings of the same thing are one, where the alias is written as its original is; spellings of
// names, hosts and addresses of mail stay apart.
func canonical(class Class, text string) string {
	text = AsUTF8(text)
	switch class {
	case User:
		if t, ok := FromJSON(text); ok && strings.Contains(text, `\u`) {
			return t
		}
	case IPv4, IPv6:
		if class == IPv4 {
			if a, ok := NumberAddress(text); ok {
				return a.String()
			}
			text = WithoutZeros(strings.ReplaceAll(text, "-", "."))
		}
		if a, err := netip.ParseAddr(WrittenColons.Replace(text)); err == nil {
			return a.WithZone("").String()
		}
	case Mail:
		return plainAt.Replace(text)
	case MAC:
		return plainMAC(text)
	case Phone:
		_, number := phoneParts(text)
		return chars.OnlyDigits(number)
	case Card:
		return chars.OnlyDigits(text)
	case IBAN:
		return strings.ReplaceAll(text, " ", "")
	}
	return text
}

const (
	codeDigits  = "23456789"
	codeLetters = "abcdefghjkmnpqrstvwxyz"
	CodePair    = len(codeDigits) * len(codeLetters)
)

// Code writes a number as pairs of a digit and a letter, such as 4k or 4k2a: short, easy to read out, no words.
func code(n int) string {
	pair := func(n int) string {
		return string([]byte{codeDigits[n/len(codeLetters)], codeLetters[n%len(codeLetters)]})
	}
	s := pair(n % CodePair)
	for n /= CodePair; n > 0; n = n / CodePair {
		n--
		s = pair(n%CodePair) + s
	}
	return s
}

// aliasHeads are what the aliases that are words begin with.
var aliasHeads = map[Class]string{Mail: "mail-", Host: "host-", User: "user-", ID: "id-"}

// cutCode takes the code of an alias off the beginning of a text, with the letters behind it; ok is false when there is none.
func cutCode(text []byte) (rest []byte, ok bool) {
	n := CodeLen(text)
	return text[n:], n > 0
}

// mostLetters is how many letters stand behind a code at most: one of an account that is made of a name, one of its spelling.
const mostLetters = 2

// CodeLen gives how long the code is that a text begins with, with the letters behind it; 0 is none.
func CodeLen(text []byte) int {
	n := 0
	for n+1 < len(text) && text[n] >= '2' && text[n] <= '9' && chars.IsLower(text[n+1]) {
		n += 2
	}
	if n == 0 {
		return 0
	}
	end := n
	for end < len(text) && chars.IsLower(text[end]) {
		end++
	}
	if end-n > mostLetters || end < len(text) && chars.IsWord(text[end]) {
		return n
	}
	return end
}

// isWordAlias says whether a text is an alias of a class whose aliases are words.
func isWordAlias(class Class, text []byte) bool {
	head := aliasHeads[class]
	rest, ok := bytes.CutPrefix(text, []byte(head))
	if class == Mail && !ok {
		head = aliasHeads[User]
		rest, ok = bytes.CutPrefix(text, []byte(head))
	}
	if !ok || head == "" {
		return false
	}
	if rest, ok = cutCode(rest); !ok {
		return false
	}
	switch class {
	case Mail:
		rest, ok = bytes.CutPrefix(rest, []byte("@"))
		return ok && isWordAlias(Host, rest)
	case Host:
		return len(rest) == 0 || string(rest) == hostDomain
	}
	return len(rest) == 0
}

// IsAlias says whether text has the form of an alias; such text is left as it is, so that redacting twice changes nothing.
func IsAlias(class Class, text []byte) bool {
	switch class {
	case IPv4, IPv6:
		a, err := netip.ParseAddr(WrittenColons.Replace(string(text)))
		if err != nil && class == IPv4 {
			a, err = netip.ParseAddr(strings.ReplaceAll(string(text), "-", "."))
		}
		if err != nil && class == IPv4 {
			number, ok := NumberAddress(string(text))
			return ok && aliasV4.Contains(number)
		}
		return err == nil && (aliasV4.Contains(a) || AliasV6.Contains(a.WithZone("")))
	case MAC:
		return strings.HasPrefix(plainMAC(string(text)), macHead)
	case Phone:
		_, number := phoneParts(string(text))
		return strings.HasPrefix(chars.OnlyDigits(number), phoneHead)
	case Card:
		return strings.HasPrefix(chars.OnlyDigits(string(text)), cardHead)
	}
	return isWordAlias(class, text)
}

// plainAt writes it as it is.
var plainAt = strings.NewReplacer("%40", "@", "\\u0040", "@", "&#64;", "@", "&#x40;", "@", "&commat;", "@")

// Luhn checks the last of some digits (ISO/IEC 7812-1, annex B).
func Luhn(d []byte) bool {
	sum := 0
	for i, c := range d {
		v := int(c)
		if (len(d)-i)%2 == 0 {
			if v *= 2; v > 9 {
				v -= 9
			}
		}
		sum += v
	}
	return sum%10 == 0
}

// LuhnDigits checks the last of some digits that are written as a text.
func LuhnDigits(text []byte) bool {
	d := make([]byte, len(text))
	for i, c := range text {
		d[i] = c - '0'
	}
	return Luhn(d)
}

// The beginnings of the aliases of numbers, none of which can be an original: +999 is a country code that is not assigned
// (ITU-T E.164), 9999 no card network, ZZ a country code for users (ISO 3166-1) with check digits that never are 00.
const (
	phoneHead = "99900"
	cardHead  = "9999"
	ibanHead  = "ZZ00"
)

// AsCard writes the number of an alias as a card number with the digits and signs of its original and a wrong check digit.
func AsCard(number, original string) string {
	n := len(chars.OnlyDigits(original))
	digits := []byte(cardHead + strings.Repeat("0", max(0, n-len(cardHead)-len(number)-1)) + number + "0")
	values := make([]byte, len(digits))
	for i, c := range digits {
		values[i] = c - '0'
	}
	if Luhn(values) {
		digits[len(digits)-1] = '1'
	}
	return inShape(string(digits), original)
}

// AsIBAN does the same for an account number.
func AsIBAN(number, original string) string {
	n := len(strings.ReplaceAll(original, " ", ""))
	return inShape(ibanHead+strings.Repeat("0", max(0, n-len(ibanHead)-len(number)))+number, original)
}

// inShape puts signs between digits where an original has them.
func inShape(digits, original string) string {
	var out strings.Builder
	for i := 0; i < len(original) && digits != ""; i++ {
		if chars.IsWord(original[i]) {
			out.WriteByte(digits[0])
			digits = digits[1:]
		} else {
			out.WriteByte(original[i])
		}
	}
	out.WriteString(digits)
	return out.String()
}

// FromJSON gives what a text stands for within the quotes of JSON (RFC 8259, section 7).
func FromJSON(text string) (t string, ok bool) {
	err := jsonv1.Unmarshal([]byte(`"`+text+`"`), &t)
	return t, err == nil && IsPlainText(t)
}

// AsUTF8 reads what is no UTF-8 as Latin-1 (ISO 8859-1), in which every byte is the character of its number.
func AsUTF8(text string) string {
	if utf8.ValidString(text) {
		return text
	}
	runes := make([]rune, len(text))
	for i := range runes {
		runes[i] = rune(text[i])
	}
	return string(runes)
}

// IsPlainText reports whether a text can stand in a line as it is.
func IsPlainText(s string) bool {
	for _, r := range s {
		if r < 0x20 || r == 0xfffd {
			return false
		}
	}
	return true
}
