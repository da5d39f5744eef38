package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Who calls whom, in the messages of telephones (RFC 3261).

// CallNames finds the names that are shown of who calls, before an address of a call (RFC 3261, section 20.10): "NAME NAME" <sip:…>.
// It is for short texts.
func CallNames(b []byte, from, to int, person func(start, end int)) {
	for at := from; ; {
		n := bytes.Index(b[at:to], []byte(`" <sip`))
		if n < 0 {
			return
		}
		end := at + n
		at = end + 1
		start := end
		for start > from && end-start < chars.MaxKey && b[start-1] != '"' && b[start-1] != '\n' {
			start--
		}
		if start > from && b[start-1] == '"' && LooksPersonal(b[start:end]) {
			person(start, end)
		}
	}
}

// mostExtension is how many digits the number of a telephone within a house has at most.
const mostExtension = 15

// numberOfCall finds the number of a telephone in the address of a call.
func numberOfCall(b []byte, at int) (int, int, bool) {
	start := ofCall(b, at)
	return start, at, start < at
}

// ofCall gives where the number of a telephone begins that ends at a place, in the address of a call (RFC 3261): sip:4107@….
func ofCall(b []byte, at int) int {
	start := at
	for start > 0 && at-start < mostExtension && chars.IsDigit(b[start-1]) {
		start--
	}
	if start < at-1 && (bytes.HasSuffix(b[:start], []byte("sip:")) || bytes.HasSuffix(b[:start], []byte("sips:"))) {
		return start
	}
	return at
}
