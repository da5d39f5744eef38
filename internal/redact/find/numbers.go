package find

import (
	"bytes"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
)

// Numbers that name a person or an account: telephone numbers next to a telling key, payment cards (ISO/IEC 7812, with the
// check digit of Luhn) and IBANs (ISO 13616, with its check digits). Their aliases fail these checks, so that they are never
// taken for an original.

// Phone finds a telephone number next to a telling key.
func Phone(b []byte, at, free int) (int, int, bool) {
	k, ok := keyedAt(b, at)
	if !ok || k.start < free {
		return 0, 0, false
	}
	start, end, digits := k.start, k.start, 0
	if start < len(b) && b[start] != '+' && KindAt(b, at)&KeyPhone == 0 { // from, to: of anything
		return 0, 0, false
	}
	if start < len(b) && !(chars.IsDigit(b[start]) || b[start] == '+' || b[start] == '(') {
		return 0, 0, false
	}
	limit := len(b)
	if k.quoted {
		limit = k.end
	}
	for end < limit && end-start < 24 && (chars.IsDigit(b[end]) || bytes.IndexByte([]byte("+ ()-./"), b[end]) >= 0) {
		if chars.IsDigit(b[end]) {
			digits++
		}
		end++
	}
	for end > start && !chars.IsDigit(b[end-1]) {
		end--
	}
	if digits < 6 || digits > 15 || end < len(b) && chars.IsWord(b[end]) || bytes.Count(b[start:end], []byte(".")) == 3 && digits < 13 {
		return 0, 0, false
	}
	return start, end, true
}

// BareMAC finds a hardware address without separators, which only its key tells.
func BareMAC(b []byte, at, free int) (int, int, bool) {
	k, ok := keyedAt(b, at)
	if ok && k.end-k.start == 14 && b[k.start+4] == '-' && b[k.start+9] == '-' { // 0000-5e00-5301
		digits := bytes.ReplaceAll(b[k.start:k.end], []byte("-"), nil)
		return k.start, k.end, k.start >= free && len(digits) == 12 && chars.IsHexes(digits) && !isZero(digits)
	}
	if !ok || k.start < free || k.end-k.start != 12 {
		return 0, 0, false
	}
	zeros := 0
	for _, c := range b[k.start:k.end] {
		if !chars.IsHex(c) {
			return 0, 0, false
		}
		if c == '0' {
			zeros++
		}
	}
	return k.start, k.end, zeros < 12
}

// CardSpan says which bytes a card number is written with; accountSpan, an IBAN.
var CardSpan, AccountSpan = func() (card, account [256]bool) {
	for c := byte('0'); c <= '9'; c++ {
		card[c], account[c] = true, true
	}
	for c := byte('A'); c <= 'Z'; c++ {
		account[c] = true
	}
	card[' '], card['-'], account[' '] = true, true, true
	return card, account
}()

// spans calls look for each stretch of at least least bytes of a class, from a place on, until it says that it is enough.
// It looks at every least-th byte only: a stretch cannot lie between two of them.
func spans(b []byte, from int, class *[256]bool, least int, look func(start, end int) (enough bool)) {
	for at := from + least - 1; at < len(b); {
		if !class[b[at]] {
			at += least
			continue
		}
		start, end := at, at+1
		for start > from && class[b[start-1]] {
			start--
		}
		for end < len(b) && class[b[end]] {
			end++
		}
		if end-start >= least && look(start, end) {
			return
		}
		at = end + least
	}
}

// NextCard gives the first card number at or behind a place.
func NextCard(b []byte, from int) (start, end int, ok bool) {
	spans(b, from, &CardSpan, 13, func(s, e int) bool {
		for i := s; i < e; i++ {
			if !chars.IsDigit(b[i]) || i > 0 && (chars.IsWord(b[i-1]) || b[i-1] == '.' || b[i-1] == '-' && i > 1 && chars.IsWord(b[i-2])) {
				continue
			}
			if n := cardLen(b[i:e]); n > 0 && (i+n == len(b) || !chars.IsWord(b[i+n]) && !(b[i+n] == '.' || b[i+n] == '-') ||
				i+n+1 < len(b) && !chars.IsWord(b[i+n]) && !chars.IsDigit(b[i+n+1])) {
				start, end, ok = i, i+n, true
				return true
			}
		}
		return false
	})
	return start, end, ok
}

// cardLen gives the length of the card number at the beginning of a text, or 0: 13 to 19 digits in one piece, or in groups
// of four (or 4-6-5) with one and the same sign between, of an issuer that exists and with the right check digit.
func cardLen(text []byte) int {
	var digits [20]byte
	n, i := 0, 0
	sep := byte(0)
	group := 0
	groups := make([]int, 0, 6)
	for i < len(text) && n < len(digits) {
		c := text[i]
		if chars.IsDigit(c) {
			digits[n] = c - '0'
			n++
			group++
			i++
			continue
		}
		if sep == 0 {
			sep = c
		}
		if c != sep || group < 4 || i+1 >= len(text) || !chars.IsDigit(text[i+1]) {
			break
		}
		groups = append(groups, group)
		group = 0
		i++
	}
	if n < 13 || n > 19 || !cardIssuer(digits[:n]) || !alias.Luhn(digits[:n]) {
		return 0
	}
	for j, g := range groups {
		if g != 4 && !(len(groups) == 2 && j == 1 && g == 6) {
			return 0
		}
	}
	same := true
	for _, d := range digits[1:n] {
		same = same && d == digits[0]
	}
	if same {
		return 0
	}
	return i
}

// cardNetworks are the networks of cards (ISO/IEC 7812) by the first four digits of their numbers, with the numbers of digits that they
// have, as bits.
var cardNetworks = []struct{ from, to, digits int }{
	{4000, 4999, 1<<13 | 1<<16 | 1<<19}, {5100, 5599, 1 << 16}, {2221, 2720, 1 << 16}, {3400, 3499, 1 << 15}, {3700, 3799, 1 << 15},
	{6011, 6011, sixteenOrMore}, {6200, 6299, sixteenOrMore}, {6400, 6599, sixteenOrMore}, {8100, 8199, sixteenOrMore},
	{3528, 3589, sixteenOrMore}, {3600, 3699, 1 << 14}, {3800, 3999, 1 << 14}, {3000, 3059, 1 << 14}, {5000, 5099, sixteenOrMore},
	{6700, 6799, sixteenOrMore}, {6300, 6399, sixteenOrMore},
}

const sixteenOrMore = 1<<16 | 1<<17 | 1<<18 | 1<<19

// cardIssuer says whether digits begin like those of a card network and are of its length.
func cardIssuer(d []byte) bool {
	first := int(d[0])*1000 + int(d[1])*100 + int(d[2])*10 + int(d[3])
	for _, network := range cardNetworks {
		if first >= network.from && first <= network.to {
			return network.digits&(1<<len(d)) != 0
		}
	}
	return false
}

// NextIBAN gives the first account number at or behind a place.
func NextIBAN(b []byte, from int) (start, end int, ok bool) {
	spans(b, from, &AccountSpan, 15, func(s, e int) bool {
		for i := s; i+15 <= e; i++ {
			if !chars.IsUpper(b[i]) || !chars.IsUpper(b[i+1]) || !chars.IsDigit(b[i+2]) || !chars.IsDigit(b[i+3]) || i > 0 &&
				chars.IsWord(b[i-1]) {
				continue
			}
			if n := ibanLen(b[i:e]); n > 0 && (i+n >= len(b) || !chars.IsWord(b[i+n])) {
				start, end, ok = i, i+n, true
				return true
			}
		}
		return false
	})
	return start, end, ok
}

// ibanLen gives the length of the IBAN at the beginning of a text, or 0: in one piece, or in groups of four. The check is
// the remainder by 97 (ISO 7064).
func ibanLen(text []byte) int {
	rest, count, last := 0, 0, 0
	head := 0 // the remainder of what comes to the end: country and check digits
	grouped := len(text) > 4 && text[4] == ' '
	for i := 0; i < len(text) && count < 34; i++ {
		c := text[i]
		if c == ' ' {
			if !grouped || count%4 != 0 {
				break
			}
			continue
		}
		v := int(c - '0')
		if !chars.IsDigit(c) {
			v = int(c-'A') + 10
		}
		if count < 4 {
			head = addMod97(head, v)
		} else {
			rest = addMod97(rest, v)
		}
		count++
		if count >= 15 {
			// The head goes behind: six digits, since the two letters are two digits each.
			if (rest*1_000_000+headValue(text[:4]))%97 == 1 && (i+1 >= len(text) || text[i+1] == ' ' || !AccountSpan[text[i+1]]) {
				last = i + 1
			}
		}
	}
	return last
}

func addMod97(r, v int) int {
	if v > 9 {
		return (r*100 + v) % 97
	}
	return (r*10 + v) % 97
}

func headValue(head []byte) int {
	return (int(head[0]-'A')+10)*10_000 + (int(head[1]-'A')+10)*100 + int(head[2]-'0')*10 + int(head[3]-'0')
}
