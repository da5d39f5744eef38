package redact

import "bytes"

// keyKind says what a key announces. It is told from the key alone and cheaply, since most separators in a log stand
// behind a key that announces nothing.
type keyKind uint8

const (
	keySecret keyKind = 1 << iota // its value is a secret
	keyWeak                       // its value is a secret if it looks like one
	keyAuthorization
	keyCookie
	keyUser
)

// wholeKeys are keys that announce something as a whole.
var wholeKeys = func() map[string]keyKind {
	m := map[string]keyKind{"authorization": keyAuthorization, "proxyauthorization": keyAuthorization, "xauthorization": keyAuthorization,
		"cookie": keyCookie, "setcookie": keyCookie}
	for k := range tellingUser {
		m[k] = keyUser
	}
	return m
}()

// kindAt gives the kind of the key before the separator at a place.
func kindAt(b []byte, at int) keyKind {
	start, end := keySpan(b, at)
	if end-start < 2 {
		return 0
	}
	var buf [maxKey]byte
	n := 0
	for _, c := range b[start:end] {
		if c >= 'A' && c <= 'Z' {
			c |= 0x20
		}
		if c >= 'a' && c <= 'z' || isDigit(c) {
			buf[n] = c
			n++
		}
	}
	for n > 0 && isDigit(buf[n-1]) {
		n--
	}
	key := buf[:n]
	if n < 3 {
		return 0
	}
	kind := wholeKeys[string(key)]
	if holdsTelling(key) {
		if isTelling(string(key), "") {
			kind |= keySecret
		}
		return kind
	}
	switch string(key[n-3:]) { // the ends of the words in tellingLast and weaklyTelling
	case "ass", "pin", "psk", "otp", "uth", "sid", "ion", "ess", "key", "ure", "sig", "nce":
		last := lastWord(b[start:end])
		if tellingLast[last] || tellingLast[string(key)] {
			kind |= keySecret
		} else if weaklyTelling[last] {
			kind |= keyWeak
		}
	}
	return kind
}

// holdsTelling says whether one of the telling pieces stands in a key.
func holdsTelling(key []byte) bool {
	for i, c := range key {
		switch c {
		case 'p', 's', 't', 'a', 'c', 'e': // what the pieces begin with
			for _, t := range telling {
				if t[0] == c && bytes.HasPrefix(key[i:], []byte(t)) {
					return true
				}
			}
		}
	}
	return false
}

// keySpan gives the key before the separator at a place: in key=value and key: value, also quoted, and the name of an
// XML element before its >.
func keySpan(b []byte, at int) (start, end int) {
	end = at
	if b[at] == '>' {
		start = at
		for n := 0; start > 0 && n < 4*maxKey && b[start-1] != '<' && b[start-1] != '\n' && b[start-1] != '>'; n++ {
			start--
		}
		if start == 0 || b[start-1] != '<' {
			return 0, 0
		}
		if n := bytes.IndexAny(b[start:end], " \t"); n >= 0 {
			end = start + n
		}
		if n := bytes.LastIndexByte(b[start:end], ':'); n >= 0 {
			start += n + 1
		}
		return start, min(end, start+maxKey)
	}
	for n := 0; end > 0 && isSpace(b[end-1]) && n < 8; n++ {
		end--
	}
	if end > 0 && (b[end-1] == '"' || b[end-1] == '\'') {
		end--
		if end > 0 && b[end-1] == '\\' {
			end--
		}
	}
	start = end
	for start > 0 && end-start < maxKey && isKeyByte(b[start-1]) {
		start--
	}
	return start, end
}
