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
	start, end, _ := keySpan(b, at)
	return kindOf(b[start:end])
}

// kindOf gives the kind of a key as it is written.
func kindOf(raw []byte) keyKind {
	if len(raw) < 2 {
		return 0
	}
	var buf [maxKey]byte
	key := plainKey(&buf, raw)
	if len(key) < 3 {
		return 0
	}
	kind := wholeKeys[string(key)]
	if holdsTelling(key) {
		if !isHarmless(key) {
			kind |= keySecret
		}
		return kind
	}
	switch string(key[len(key)-3:]) { // the ends of the words in tellingLast and weaklyTelling
	case "ass", "pin", "psk", "otp", "uth", "sid", "ion", "ess", "key", "ure", "sig", "nce":
		last := lastWord(raw)
		if tellingLast[last] || tellingLast[string(key)] {
			kind |= keySecret
		} else if weaklyTelling[last] {
			kind |= keyWeak
		}
	}
	return kind
}

// isHarmless says whether a key speaks about a secret without holding it.
func isHarmless(key []byte) bool {
	for _, h := range harmless {
		if bytes.HasSuffix(key, []byte(h)) {
			return true
		}
	}
	return false
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

// keySpan gives the key before the separator at a place: in key=value and key: value, also quoted (closed says so), and the
// name of an XML element before its >.
func keySpan(b []byte, at int) (start, end int, closed bool) {
	if b[at] == '>' {
		start, end = elementName(b, at)
		return start, end, false
	}
	end = at
	for n := 0; end > 0 && isSpace(b[end-1]) && n < 8; n++ {
		end--
	}
	if closed = end > 0 && (b[end-1] == '"' || b[end-1] == '\''); closed {
		end--
		if end > 0 && b[end-1] == '\\' {
			end--
		}
	}
	start = end
	for start > 0 && end-start < maxKey && isKeyByte(b[start-1]) {
		start--
	}
	return start, end, closed
}

// elementName gives the name of the XML element whose start tag ends at a place, without its prefix. <key/> holds nothing,
// and what stands behind </key> is no value of it: both have none.
func elementName(b []byte, at int) (start, end int) {
	start = at
	for n := 0; start > 0 && n < 4*maxKey && b[start-1] != '<' && b[start-1] != '\n' && b[start-1] != '>'; n++ {
		start--
	}
	if start == 0 || b[start-1] != '<' || start == at || b[at-1] == '/' {
		return 0, 0
	}
	for end = start; end < at && !isSpace(b[end]); end++ {
		if !isKeyByte(b[end]) && b[end] != ':' {
			return 0, 0 // no name of an element
		}
	}
	if n := bytes.LastIndexByte(b[start:end], ':'); n >= 0 {
		start += n + 1
	}
	return start, min(end, start+maxKey)
}
