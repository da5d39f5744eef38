package term

import (
	"bytes"
	"crypto/rand"
	"envask/internal/late"
	"fmt"
	"io"
	"math/big"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// All that is printed goes through here, last of all: whatever a system, a vendor or a file holds, no byte of it steers the terminal.
// Our own colours are told from those in foreign text by a number of this run in them, which is taken out before they are shown.

// mine is that number. Terminals know no such colour, and whoever writes a file cannot know it.
var mine = ownNumber()

func ownNumber() string {
	n, err := rand.Int(rand.Reader, big.NewInt(900_000_000))
	if err != nil {
		panic(err) // it never fails
	}
	return strconv.FormatInt(n.Int64()+100_000_000, 10)
}

var colour = late.Pattern("^\x1b\\[([0-9;]{1,40})m")

// paint puts a colour around text.
func paint(color, text string) string {
	return "\x1b[" + color + ";" + mine + "m" + text + "\x1b[0m"
}

// ours gives a colour of ours at the beginning of a text as the terminal is to see it, and how long it is here; 0 is none.
func ours(s string) (shown string, n int) {
	m := colour().FindStringSubmatch(s)
	if m == nil {
		return "", 0
	}
	if m[1] == "0" {
		return m[0], len(m[0])
	}
	var rest []string
	own := false
	for _, code := range strings.Split(m[1], ";") {
		if code == mine {
			own = true
		} else {
			rest = append(rest, code)
		}
	}
	if !own {
		return "", 0
	}
	return "\x1b[" + strings.Join(rest, ";") + "m", len(m[0])
}

// steers says whether a character could steer a terminal, or hide what is written.
func steers(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Zl, r) || unicode.Is(unicode.Zp, r)
}

// safe gives lines of ours with every foreign byte that could steer a terminal shown escaped. Line ends stay.
func safe(s string) string {
	if !strings.ContainsFunc(s, func(r rune) bool { return r != '\n' && (steers(r) || r == utf8.RuneError) }) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		if s[i] == '\n' {
			b.WriteByte('\n')
			i++
			continue
		}
		if shown, n := ours(s[i:]); n > 0 {
			b.WriteString(shown)
			i += n
			continue
		}
		_, n := utf8.DecodeRuneInString(s[i:])
		b.WriteString(Clean(s[i : i+n]))
		i += n
	}
	return b.String()
}

// SafeWriter gives a writer for whole lines of ours, such as a table's.
func SafeWriter(w io.Writer) io.Writer { return safeWriter{w} }

type safeWriter struct{ w io.Writer }

func (s safeWriter) Write(b []byte) (int, error) {
	if _, err := io.WriteString(s.w, safe(string(b))); err != nil {
		return 0, err
	}
	return len(b), nil
}

// Foreign gives a writer for content that is not ours and is read on a terminal: a file, a reply. Line ends and tabs stay.
func Foreign(w io.Writer) io.WriteCloser { return &foreign{w: w} }

type foreign struct {
	w    io.Writer
	held []byte // the beginning of a character that was cut in two
}

func (f *foreign) Write(b []byte) (int, error) {
	given := len(b)
	b = append(f.held, b...)
	f.held = nil
	if k := cutRune(b); k > 0 {
		b, f.held = b[:len(b)-k], bytes.Clone(b[len(b)-k:])
	}
	return given, f.put(b)
}

func (f *foreign) put(b []byte) error {
	var out bytes.Buffer
	for len(b) > 0 {
		r, n := utf8.DecodeRune(b)
		if r == '\n' || r == '\t' || !steers(r) && (r != utf8.RuneError || n > 1) {
			out.Write(b[:n])
		} else {
			out.WriteString(Clean(string(b[:n])))
		}
		b = b[n:]
	}
	_, err := f.w.Write(out.Bytes())
	return err
}

// Close writes what was held back.
func (f *foreign) Close() error {
	held := f.held
	f.held = nil
	return f.put(held)
}

// cutRune gives how many bytes at the end are the beginning of a character.
func cutRune(b []byte) int {
	for k := 1; k <= min(len(b), utf8.UTFMax-1); k++ {
		if utf8.RuneStart(b[len(b)-k]) {
			if !utf8.FullRune(b[len(b)-k:]) {
				return k
			}
			return 0
		}
	}
	return 0
}

// JSON gives a writer for JSON: characters that could steer a terminal are written as \u escapes, which only strings can hold.
func JSON(w io.Writer) io.Writer { return jsonWriter{w} }

type jsonWriter struct{ w io.Writer }

func (j jsonWriter) Write(b []byte) (int, error) {
	var out bytes.Buffer
	for rest := b; len(rest) > 0; {
		r, n := utf8.DecodeRune(rest)
		if r != '\n' && r != utf8.RuneError && steers(r) {
			if r > 0xffff {
				r1, r2 := utf16(r)
				fmt.Fprintf(&out, `\u%04x\u%04x`, r1, r2)
			} else {
				fmt.Fprintf(&out, `\u%04x`, r)
			}
		} else {
			out.Write(rest[:n])
		}
		rest = rest[n:]
	}
	if _, err := j.w.Write(out.Bytes()); err != nil {
		return 0, err
	}
	return len(b), nil
}

// utf16 gives the two halves of a character beyond the first plane.
func utf16(r rune) (high, low rune) {
	r -= 0x10000
	return 0xd800 + r>>10, 0xdc00 + r&0x3ff
}
