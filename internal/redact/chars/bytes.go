package chars

import (
	"bytes"
	"strings"
)

// BytesOf gives the set of the bytes of a text.
func BytesOf(text string) *ByteSet {
	s := new(ByteSet)
	for i := range len(text) {
		s[text[i]] = true
	}
	return s
}

// EqualFold reports whether a text is a word that is given in small letters, whatever its case.
func EqualFold(text []byte, lower string) bool {
	if len(text) != len(lower) {
		return false
	}
	for i := 0; i < len(lower); i++ {
		c := text[i]
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		if c != lower[i] {
			return false
		}
	}
	return true
}

// IsDigit reports whether a byte is a digit.
func IsDigit(c byte) bool { return c >= '0' && c <= '9' }

// IsWord reports whether a byte is a letter of ASCII, a digit or an underscore.
func IsWord(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_'
}

// IsKeyByte says whether a byte can stand in a key. Bytes beyond ASCII can: keys are words of any language.
func IsKeyByte(c byte) bool { return IsWord(c) || c == '-' || c == '.' || c >= 0x80 }

// IsSpace reports whether a byte is a blank within a line.
func IsSpace(c byte) bool { return c == ' ' || c == '\t' }

// IsBlank reports whether a byte is white space, ends of lines among it.
func IsBlank(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' }

// IsAllLetters reports whether a text has letters of ASCII alone.
func IsAllLetters(b []byte) bool {
	for _, c := range b {
		if c|0x20 < 'a' || c|0x20 > 'z' {
			return false
		}
	}
	return true
}

// IsAscii reports whether a text has bytes of ASCII alone.
func IsAscii(text []byte) bool {
	for _, c := range text {
		if c >= 0x80 {
			return false
		}
	}
	return true
}

// AllDigits reports whether a text has digits alone.
func AllDigits(s string) bool {
	for i := 0; i < len(s); i++ {
		if !IsDigit(s[i]) && s[i] != '.' && s[i] != '-' {
			return false
		}
	}
	return true
}

// IsBase64Byte reports whether a byte stands in base64 (RFC 4648), in either alphabet, but for what fills it up.
func IsBase64Byte(c byte) bool { return IsWord(c) || c == '+' || c == '/' || c == '-' }

// OnlyDigits takes everything else out of a number.
func OnlyDigits(s string) string {
	var out strings.Builder
	for i := 0; i < len(s); i++ {
		if IsDigit(s[i]) {
			out.WriteByte(s[i])
		}
	}
	return out.String()
}

// Unhex gives the value of a hexadecimal digit.
func Unhex(c byte) byte {
	if IsDigit(c) {
		return c - '0'
	}
	return c&^0x20 - 'A' + 10
}

// IsSmall says whether a word has small letters alone.
func IsSmall(v []byte) bool {
	for _, c := range v {
		if c < 'a' || c > 'z' {
			return false
		}
	}
	return len(v) > 0
}

// IsUpper reports whether a byte is a capital of ASCII.
func IsUpper(c byte) bool { return c >= 'A' && c <= 'Z' }

// IsLower reports whether a byte is a small letter of ASCII, or part of a letter beyond it.
func IsLower(c byte) bool { return c >= 'a' && c <= 'z' || c >= 0x80 }

// IsNameByte reports whether a byte may stand in the name of an account.
func IsNameByte(c byte) bool { return IsWord(c) || c == '.' || c == '-' || c >= 0x80 }

// IsHex reports whether a byte is a hexadecimal digit.
func IsHex(c byte) bool { return IsDigit(c) || c|0x20 >= 'a' && c|0x20 <= 'f' }

// IsHexes reports whether a text has hexadecimal digits alone.
func IsHexes(b []byte) bool {
	for _, c := range b {
		if !IsHex(c) {
			return false
		}
	}
	return true
}

// ByteSet is a set of bytes.
type ByteSet [256]bool

// Has says whether a byte is in a set; nil is all.
func (s *ByteSet) Has(b int) bool { return s == nil || s[b] }

// IsTokenByte reports whether a byte may stand in a token (RFC 6750).
func IsTokenByte(c byte) bool {
	return IsWord(c) || c == '-' || c == '.' || c == '~' || c == '+' || c == '/' || c == '='
}

// WithoutLineEnds leaves the ends of lines out, for bytes.Map.
func WithoutLineEnds(r rune) rune {
	if r == '\n' || r == '\r' {
		return -1
	}
	return r
}

// IsAllDigits reports whether a text has digits alone.
func IsAllDigits(v []byte) bool {
	for _, c := range v {
		if !IsDigit(c) {
			return false
		}
	}
	return len(v) > 0
}

// Lowered gives a word in small letters, in buf if it is a short one.
func Lowered(buf *[32]byte, word []byte) []byte {
	if len(word) > len(buf) {
		return bytes.ToLower(word)
	}
	for i, c := range word {
		if c >= 0x80 {
			return bytes.ToLower(word)
		}
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		buf[i] = c
	}
	return buf[:len(word)]
}

// BytesThat gives the set of the bytes of which something is true.
func BytesThat(is func(byte) bool) *ByteSet {
	s := new(ByteSet)
	for c := range 256 {
		s[c] = is(byte(c))
	}
	return s
}
