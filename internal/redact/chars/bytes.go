package chars

import (
	"bytes"
	"strings"
)

func BytesOf(text string) *ByteSet {
	s := new(ByteSet)
	for i := range len(text) {
		s[text[i]] = true
	}
	return s
}

func EqualFold(text []byte, lower string) bool {
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

func IsDigit(c byte) bool { return c >= '0' && c <= '9' }

func IsWord(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_'
}

// IsKeyByte says whether a byte can stand in a key. Bytes beyond ASCII can: keys are words of any language.
func IsKeyByte(c byte) bool { return IsWord(c) || c == '-' || c == '.' || c >= 0x80 }

func IsSpace(c byte) bool { return c == ' ' || c == '\t' }

func IsBlank(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' }

func IsAllLetters(b []byte) bool {
	for _, c := range b {
		if c|0x20 < 'a' || c|0x20 > 'z' {
			return false
		}
	}
	return true
}

func IsAscii(text []byte) bool {
	for _, c := range text {
		if c >= 0x80 {
			return false
		}
	}
	return true
}

func AllDigits(s string) bool {
	for i := 0; i < len(s); i++ {
		if !IsDigit(s[i]) && s[i] != '.' && s[i] != '-' {
			return false
		}
	}
	return true
}

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

func IsUpper(c byte) bool { return c >= 'A' && c <= 'Z' }

func IsLower(c byte) bool { return c >= 'a' && c <= 'z' || c >= 0x80 }

func IsNameByte(c byte) bool { return IsWord(c) || c == '.' || c == '-' || c >= 0x80 }

func IsHex(c byte) bool { return IsDigit(c) || c|0x20 >= 'a' && c|0x20 <= 'f' }

func IsHexes(b []byte) bool {
	for _, c := range b {
		if !IsHex(c) {
			return false
		}
	}
	return true
}

type ByteSet [256]bool

// Has says whether a byte is in a set; nil is all.
func (s *ByteSet) Has(b int) bool { return s == nil || s[b] }

func IsTokenByte(c byte) bool {
	return IsWord(c) || c == '-' || c == '.' || c == '~' || c == '+' || c == '/' || c == '='
}

func WithoutLineEnds(r rune) rune {
	if r == '\n' || r == '\r' {
		return -1
	}
	return r
}

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
