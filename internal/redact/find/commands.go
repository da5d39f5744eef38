package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// Secrets that stand before what tells them, and in the parts of forms.

// quotedBefore gives the quoted text before an option.
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

// formField finds the secret in a part of a form.
func formField(b []byte, at, free int) (int, int, bool) {
	if !bytes.HasSuffix(b[:at], formData) {
		return 0, 0, false
	}
	name, start, end := formPart(b, at)
	return start, end, start < end && start >= free && KindOf(name)&KeySecret != 0 && IsValue(b[start:end])
}

// formData says that a part of what is sent is a field of a form.
var formData = []byte("form-data")

// formPart gives the name and the content of a part of a form (RFC 7578): its head ends in the semicolon at a place and names the field,
// and the content follows behind an empty line. Line ends may be written as escapes.
func formPart(b []byte, at int) (name []byte, start, end int) {
	rest := b[at:min(len(b), at+2*chars.MaxPair)]
	head, ok := bytes.CutPrefix(bytes.TrimLeft(rest[1:], " "), []byte("name="))
	if head = bytes.TrimLeft(head, `\`); !ok || len(head) == 0 || head[0] != '"' {
		return nil, 0, 0
	}
	quote := bytes.IndexAny(head[1:], `"\`)
	if quote < 1 {
		return nil, 0, 0
	}
	name = head[1 : 1+quote]
	for _, line := range []string{"\r\n", "\n", `\r\n`, `\n`, `\\r\\n`} {
		n := bytes.Index(rest, []byte(line+line))
		if n < 0 || bytes.Contains(rest[:n], []byte("filename")) {
			continue
		}
		start = at + n + 2*len(line)
		most := min(len(b), start+maxElement)
		length := bytes.Index(b[start:most], []byte(line))
		if length < 0 { // the end of the text
			length = bytes.IndexAny(b[start:most], "\r\n\"")
		}
		if length < 0 {
			length = most - start
		}
		return name, start, start + length
	}
	return nil, 0, 0
}

// accountOfForm gives the account in the part of a form before the one of its secret.
func accountOfForm(b []byte, secret, _ int) (from, to int) {
	if secret < 2 || b[secret-1] != '\n' && b[secret-1] != 'n' { // behind an empty line, also in escapes
		return 0, 0
	}
	before := b[max(0, secret-2*chars.MaxPair):secret]
	own := bytes.LastIndex(before, formData)
	if own < 0 {
		return 0, 0
	}
	if own = bytes.LastIndex(before[:own], formData); own < 0 {
		return 0, 0
	}
	name, from, to := formPart(b[:secret], secret-len(before)+own+len(formData))
	if from == to || KindOf(name)&KeyUser == 0 || !IsPerson(b[from:to]) || chars.NameAt(b, from) != to {
		return 0, 0
	}
	return from, to
}
