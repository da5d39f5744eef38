package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Secrets that stand before what tells them, and in the parts of forms.

// quotedBefore gives the quoted text before an option that says that it is a secret: ConvertTo-SecureString "…" -AsPlainText.
func quotedBefore(b []byte, at, free int) (int, int, bool) {
	end := at
	for end > free && chars.IsSpace(b[end-1]) {
		end--
	}
	if end == free || b[end-1] != '"' && b[end-1] != '\'' {
		return 0, 0, false
	}
	quote := b[end-1]
	end--
	start := end
	for start > free && end-start < chars.MaxPair && b[start-1] != quote && b[start-1] != '\n' {
		start--
	}
	if start == free || b[start-1] != quote {
		return 0, 0, false
	}
	return start, end, IsValue(b[start:end])
}

// formField finds the secret in a part of a form (RFC 7578): its head names the field, and the content follows behind an
// empty line. Line ends may be written as escapes.
func formField(b []byte, at, free int) (int, int, bool) {
	if !bytes.HasSuffix(b[:at], []byte("form-data")) {
		return 0, 0, false
	}
	rest := b[at:min(len(b), at+2*chars.MaxPair)]
	head := bytes.TrimLeft(rest[1:], " ")
	if !bytes.HasPrefix(head, []byte("name=")) {
		return 0, 0, false
	}
	head = bytes.TrimLeft(head[len("name="):], `\`)
	if len(head) == 0 || head[0] != '"' {
		return 0, 0, false
	}
	end := bytes.IndexAny(head[1:], `"\`)
	if end < 1 || KindOf(head[1:1+end])&KeySecret == 0 {
		return 0, 0, false
	}
	for _, line := range []string{"\r\n", "\n", `\r\n`, `\n`, `\\r\\n`} {
		n := bytes.Index(rest, []byte(line+line))
		if n < 0 || bytes.Contains(rest[:n], []byte("filename")) {
			continue
		}
		start := at + n + 2*len(line)
		length := bytes.Index(b[start:min(len(b), start+maxElement)], []byte(line))
		if length < 0 { // the end of the text
			length = bytes.IndexAny(b[start:min(len(b), start+maxElement)], "\r\n\"")
		}
		if length < 0 {
			length = min(len(b), start+maxElement) - start
		}
		return start, start + length, length > 0 && start >= free && IsValue(b[start:start+length])
	}
	return 0, 0, false
}
