package find

import (
	"bytes"

	"envask/internal/redact/alias"
	"envask/internal/redact/chars"
)

// NumberIPv4 finds an address that is written as one number next to a telling key: "ip": 3221225991, src_ip=0xc0000207.
func NumberIPv4(b []byte, at, free int) (int, int, bool) {
	k, ok := keyedAt(b, at)
	if !ok || k.start < free || k.end-k.start > len("0xffffffff") {
		return 0, 0, false
	}
	a, ok := alias.NumberAddress(string(b[k.start:k.end]))
	if !ok || StaysIPv4(a) || a.As4()[0] == 255 {
		return 0, 0, false
	}
	if start, end, _ := KeySpan(b, at); end-start == 2 && b[k.start+1]|0x20 == 'x' {
		line := bytes.ToLower(b[chars.LineStart(b, start):min(len(b), k.end+chars.MaxKey)])
		for _, register := range []string{"sp", "pc", "lr", "fp", "bp"} {
			if bytes.Contains(line, []byte(register)) {
				return 0, 0, false // it is a register, too
			}
		}
	}
	return k.start, k.end, true
}
