package alias

import (
	"bufio"
	"errors"
	"io"
	"net/netip"
	"regexp"
	"strings"
	"sync"

	"envask/internal/redact/chars"
)

// Coded turns the aliases in what stands coded in a line back with a function, and gives how many there were.
type Coded func(line string, reveal func(text string) (string, int)) (string, int)

// Reveal copies a text with the aliases of a table turned back into their originals, line by line, and gives how many there
// were. Secrets cannot be turned back: nothing is kept of them. coded looks into what only stands in lines coded.
func Reveal(t *Table, w *bufio.Writer, r io.Reader, coded Coded) (int, error) {
	back := t.back()
	var within func(depth int) func(text string) (string, int)
	within = func(depth int) func(text string) (string, int) {
		return func(text string) (string, int) {
			inside := 0
			if depth < mostWithin {
				text, inside = coded(text, within(depth+1))
			}
			text, numbers := revealNumbers(text, back)
			text, found := revealLine(text, back)
			return text, inside + numbers + found
		}
	}
	reveal := within(0)
	n := 0
	br := bufio.NewReaderSize(r, 64<<10)
	held := ""
	for {
		piece, rest, err := pieceOf(br, held)
		held = rest
		text, found := reveal(piece)
		n += found
		if _, werr := w.WriteString(text); werr != nil {
			return n, werr
		}
		if errors.Is(err, io.EOF) {
			return n, w.Flush()
		}
		if err != nil {
			return n, errors.Join(err, w.Flush())
		}
	}
}

// mostWithin is how many coded texts within each other are looked into, as redaction does.
const mostWithin = 3

// back gives the originals by their aliases; those of cards and accounts without the signs between their groups.
func (t *Table) back() map[string]string {
	back := map[string]string{}
	for _, a := range t.All() {
		switch a.Class {
		case Card:
			back[chars.OnlyDigits(AsCard(a.Alias, a.Original))] = a.Original
		case IBAN:
			back[strings.ReplaceAll(AsIBAN(a.Alias, a.Original), " ", "")] = a.Original
		default:
			back[a.Alias] = a.Original
		}
	}
	return back
}

// maxRevealed is how much of one line is in memory, in bytes; a longer one is taken in pieces that end between words.
const maxRevealed = 1 << 20

// pieceOf gives the next line, or as much of it as goes, and what of it is held back for the next piece.
func pieceOf(br *bufio.Reader, held string) (piece, rest string, err error) {
	line := []byte(held)
	for {
		part, err := br.ReadSlice('\n')
		line = append(line, part...)
		if err != bufio.ErrBufferFull {
			return string(line), "", err
		}
		if len(line) < maxRevealed {
			continue
		}
		cut := len(line)
		for cut > len(line)/2 && (isAliasByte(line[cut-1]) || line[cut-1] == ' ') { // numbers in groups hold blanks
			cut--
		}
		if cut == len(line)/2 { // one endless word
			cut = len(line)
		}
		return string(line[:cut]), string(line[cut:]), nil
	}
}

// numberAliases find the aliases of cards, accounts and telephones, which may stand in groups.
var numberAliases = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(cardHead + `(?:[ -]?[0-9]){9,15}|` + ibanHead + `(?: ?[0-9]){11,30}|` +
		`(?:\+|\b00|\b)9(?:[ ().\-/]{0,3}[0-9]){5,19}`)
})

// revealNumbers turns the aliases of cards, accounts and telephones back, and gives how many there were.
func revealNumbers(line string, back map[string]string) (string, int) {
	n := 0
	return numberAliases().ReplaceAllStringFunc(line, func(text string) string {
		if o, ok := back[onlyNumber(text)]; ok {
			n++
			return inShape(o, text)
		}
		for end := len(text); end >= len(phoneHead); end-- { // digits of something else may stand behind it
			if !chars.IsDigit(text[end-1]) || end < len(text) && chars.IsDigit(text[end]) {
				continue
			}
			if o, ok := revealPhone(text[:end], back); ok {
				n++
				return o + text[end:]
			}
		}
		return text
	}), n
}

// revealPhone gives the telephone number of an alias.
func revealPhone(text string, back map[string]string) (string, bool) {
	head, number := phoneParts(text)
	digits := chars.OnlyDigits(number)
	a, ok := phoneAlias(digits)
	o := back[a]
	switch {
	case !ok || o == "":
		return "", false
	case len(o) == len(digits):
		return head + inShape(o, number), true
	}
	return head + o, digits == a
}

func onlyNumber(text string) string { return strings.NewReplacer(" ", "", "-", "").Replace(text) }

func isAliasByte(c byte) bool { return chars.IsWord(c) || c == '-' || c == '.' || c == ':' || c == '@' }

// revealLine takes the words of a line one by one; signs at their ends are no part of them.
func revealLine(line string, back map[string]string) (string, int) {
	var out strings.Builder
	n := 0
	for i := 0; i < len(line); {
		if !isAliasByte(line[i]) {
			out.WriteByte(line[i])
			i++
			continue
		}
		end := i
		for end < len(line) && isAliasByte(line[end]) {
			end++
		}
		original, length := revealWord(line[i:end], back)
		if length > 0 {
			n++
			out.WriteString(original)
			i += length
			continue
		}
		// What an alias may begin behind: the rest of the word is tried from there.
		next := i + 1
		for next < end && (chars.IsWord(line[next-1]) && chars.IsWord(line[next])) {
			next++
		}
		if head := headBefore(line[:next], line[next:end]); next-head > i { // M1user-2a of passes
			next -= head
		}
		out.WriteString(line[i:next])
		i = next
	}
	return out.String(), n
}

// headBefore gives how much of the beginning of an alias stands before its dash.
func headBefore(before, rest string) int {
	if strings.HasPrefix(rest, "-") {
		for _, head := range aliasHeads {
			if strings.HasSuffix(before, head[:len(head)-1]) {
				return len(head) - 1
			}
		}
	}
	return 0
}

// revealWord gives the original of the alias that a word begins with, and the alias's length.
func revealWord(word string, back map[string]string) (string, int) {
	for n := len(word); n > 3; n-- {
		if n < len(word) && chars.IsWord(word[n]) && chars.IsWord(word[n-1]) {
			continue
		}
		w := word[:n]
		if o, ok := revealAddress(w, back); ok {
			return o, n
		}
		if o, ok := back[strings.ToLower(w)]; ok {
			return o, n
		}
		if o, ok := back[w]; ok {
			return o, n
		}
	}
	return "", 0
}

// revealAddress gives the original of the alias of an address in whatever way it is written, in the same way.
func revealAddress(w string, back map[string]string) (string, bool) {
	if !chars.IsDigit(w[0]) && !isHexLetter(w[0]) {
		return "", false
	}
	if strings.Count(w, ":") == 5 || len(w) == 12 || len(w) == 17 || len(w) == 14 {
		if o, ok := back[plainMAC(w)]; ok {
			return AsMAC(o, w), true
		}
	}
	if strings.IndexByte(w, ':') >= 0 {
		if a, err := netip.ParseAddr(w); err == nil {
			o, ok := back[a.WithZone("").String()]
			return AsIPv6(o, w), ok
		}
		return "", false
	}
	if a, ok := NumberAddress(w); ok {
		o, ok := back[a.String()]
		if !ok {
			return "", false
		}
		return AsNumber(o, w), true
	}
	if a, err := netip.ParseAddr(WithoutZeros(strings.ReplaceAll(w, "-", "."))); err == nil && a.Is4() {
		o, ok := back[a.String()]
		return AsIPv4(o, w), ok
	}
	return "", false
}

func isHexLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'f' }
