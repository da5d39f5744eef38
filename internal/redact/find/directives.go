package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// typeNames stand behind the names of fields in programs.
var typeNames = chars.WordSet(`uint8 uint16 uint32 uint64 int8 int16 int32 int64 float32 float64 uintptr string bool byte rune error int
	uint char double float long short void size_t`)

// Directives finds the settings of configurations that have nothing but a blank between key and value, one in a line of its own:
// remote_username NAME, remote_password SECRET. The key is of several words, as no word of a sentence is. It is for short texts.
func Directives(b []byte, from, to int, secret, account func(start, end int)) {
	for at := from; at < to; at = chars.NextLine(b[:to], at) {
		line := bytes.TrimRight(chars.LineFrom(b[:to], at), " \t")
		start := at + len(line)
		line = bytes.TrimLeft(line, " \t")
		start -= len(line)
		blank := bytes.IndexAny(line, " \t")
		if blank < 4 || len(line) > chars.MaxPair || bytes.IndexByte(line[1:blank-1], '_') < 0 &&
			bytes.IndexByte(line[1:blank-1], '-') < 0 ||
			chars.NameAt(line, 0) != blank || line[0] == '-' {
			continue
		}
		kind := KindOf(line[:blank])
		if last := chars.LastWord(line[:blank]); last == "auth" || last == "pass" && bytes.HasSuffix(line, []byte(";")) { // what goes where
			kind &^= KeySecret
		}
		if kind&(KeySecret|KeyUser) == 0 {
			continue
		}
		line = bytes.TrimRight(line, ";")
		value := bytes.TrimLeft(line[blank:], " \t")
		first := start + len(line) - len(value)
		if n := len(value); n > 2 && isQuote(value[0]) && value[n-1] == value[0] {
			value, first = value[1:n-1], first+1
		} else if bytes.ContainsAny(value, " \t") {
			continue
		}
		switch {
		case IsEveryday(bytes.ToLower(value)) || NotValues.Has(bytes.ToLower(value)):
		case kind&KeySecret != 0:
			if isListedSecret(value) && !typeNames.HasBytes(value) && value[0] != '_' && !bytes.HasPrefix(value, []byte("unix:")) {
				secret(first, first+len(value))
			}
		case chars.NameAt(value, 0) == len(value) && IsPerson(value) && KindOf(value) == 0:
			account(first, first+len(value))
		}
	}
}
