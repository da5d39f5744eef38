package collect

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// maxElement is the longest element of a name that every file system takes, in bytes.
const maxElement = 200

// SafePath gives a form of a source path that every file system, tar and checksum list can hold and every terminal can
// show, and from which the original can be told: control characters, bytes that are no UTF-8, and characters that are
// not allowed everywhere become %XX, as does a % that would look like one. Elements that are too long are shortened and
// end in a piece of their own hash. Two different paths never become the same.
func SafePath(name string) string {
	parts := strings.Split(name, "/")
	for i, p := range parts {
		parts[i] = safeElement(p)
	}
	return strings.Join(parts, "/")
}

func safeElement(p string) string {
	var b strings.Builder
	for i := 0; i < len(p); {
		r, n := utf8.DecodeRuneInString(p[i:])
		if unsafeRune(p, i, r, n) {
			for _, c := range []byte(p[i : i+n]) {
				fmt.Fprintf(&b, "%%%02X", c)
			}
		} else {
			b.WriteString(p[i : i+n])
		}
		i += n
	}
	s := b.String()
	if strings.HasSuffix(s, ".") || strings.HasSuffix(s, " ") { // Windows drops these
		s = fmt.Sprintf("%s%%%02X", s[:len(s)-1], s[len(s)-1])
	}
	if len(s) <= maxElement {
		return s
	}
	cut := maxElement - 20
	for cut > 0 && (!utf8.RuneStart(s[cut]) || s[cut-1] == '%' || cut > 1 && s[cut-2] == '%') {
		cut--
	}
	return s[:cut] + "%~" + hashPiece(p)
}

// hashPiece gives a piece of the hash of a name.
func hashPiece(name string) string {
	sum := sha256.Sum256([]byte(name))
	return hex.EncodeToString(sum[:8])
}

func unsafeRune(p string, i int, r rune, n int) bool {
	switch {
	case r == utf8.RuneError && n <= 1, unicode.IsControl(r), r == utf8.RuneError:
		return true
	case strings.ContainsRune(`\:*?"<>|`, r):
		return true
	case unicode.Is(unicode.Cf, r), unicode.Is(unicode.Zl, r), unicode.Is(unicode.Zp, r):
		return true // invisible characters and those that turn the writing direction round
	case r == '%':
		return i+2 < len(p) && isHex(p[i+1]) && isHex(p[i+2]) || i+1 < len(p) && p[i+1] == '~'
	}
	return false
}

func isHex(b byte) bool {
	return b >= '0' && b <= '9' || b >= 'A' && b <= 'F' || b >= 'a' && b <= 'f'
}
