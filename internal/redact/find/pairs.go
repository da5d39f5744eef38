package find

import (
	"bytes"

	"envask/internal/redact/chars"
)

// pairedName gives the name that belongs to a value where both are values of keys of their own, as in
// {"name": "DB_PASSWORD", "value": "…"}, <add key="DbPassword" value="…"/>, <entry key="client.secret">…</entry> and
// <key>password</key><string>…</string>. The key from start to end belongs to the separator at a place.
func pairedName(b []byte, at, start, end int) (int, int) {
	if b[at] == '>' {
		return elementPair(b, at, start)
	}
	if !IsPairValue(b[start:end]) {
		return 0, 0
	}
	inQuotes := start > 0 && (b[start-1] == '"' || b[start-1] == '\'')
	if !inQuotes && isQuotedPair(b[start:end]) {
		return 0, 0
	}
	before := b[max(0, start-chars.MaxPair):start]
	if b[at] == '=' && !inQuotes && bytes.LastIndexByte(before, '<') < 0 {
		if n := bytes.LastIndexByte(before, '\n'); n >= 0 {
			before = before[n+1:]
		}
	}
	// Not beyond the beginning of this pair, nor beyond an earlier value.
	if n := bytes.LastIndexAny(before, "{}<>"); n >= 0 {
		before = before[n+1:]
	}
	if s, e := lastNamed(b, start-len(before), start); s < e {
		return s, e
	}
	if s := start - len(before); s > 0 && b[s-1] == '<' { // <password encrypted="false" value="…"/>
		e := s
		for e < start && chars.IsKeyByte(b[e]) {
			e++
		}
		if KindOf(b[s:e])&KeySecret != 0 {
			return s, e
		}
	}
	// The name may stand behind the value.
	k, ok := keyed{}.readValue(b, at+1)
	if !ok {
		return 0, 0
	}
	behind := b[k.end:min(len(b), k.end+chars.MaxPair)]
	n := bytes.IndexAny(behind, "{}<>\n")
	if n < 0 {
		return 0, 0
	}
	return lastNamed(b, k.end, k.end+n)
}

// IsPairValue says whether a key is one whose value belongs to a name beside it.
func IsPairValue(key []byte) bool {
	return chars.IsOneOf(key, "value", "val", "content", "default", "stringvalue") || isQuotedPair(key)
}

// isQuotedPair says whether a key is one only in quotes, or as an attribute: in logs these are words of their own.
func isQuotedPair(key []byte) bool {
	return chars.IsOneOf(key, "parametervalue", "old", "new", "oldvalue", "newvalue", "command_data")
}

// lastNamed gives the value of the last key called name, key, id or the like between two places.
func lastNamed(b []byte, from, to int) (int, int) {
	for i := to - 1; i > from; i-- {
		if b[i] != '=' && b[i] != ':' {
			continue
		}
		start, end, _ := KeySpan(b, i)
		if start < from || !chars.IsOneOf(b[start:end], "name", "key", "id", "property",
			"param", "header", "command", "field", "option", "setting", "variable", "parameterkey", "attribute", "column") {
			continue
		}
		k, ok := keyed{}.readValue(b[:to], i+1)
		if !ok || k.end-k.start > chars.MaxKey {
			return 0, 0
		}
		return k.start, k.end
	}
	return 0, 0
}

// elementPair gives the name of an element in one of its attributes, or in the element before it.
func elementPair(b []byte, at, start int) (int, int) {
	tag := start
	for tag > 0 && b[tag-1] != '<' {
		tag--
	}
	if s, e := lastNamed(b, tag, at); s < e {
		return s, e
	}
	// <key>password</key><string>
	before := bytes.TrimRight(b[max(0, tag-1-chars.MaxPair):max(0, tag-1)], " \t\r\n")
	closing := bytes.LastIndex(before, []byte("</"))
	if n := bytes.LastIndexByte(before, '<'); n >= 0 && n+1 < len(before) && before[n+1] != '/' && before[len(before)-1] == '>' &&
		(IsPairValue(b[start:at]) || chars.IsOneOf(b[start:at], "string")) {
		base := max(0, tag-1-chars.MaxPair) // <setting name="Password"><value>
		if s, e := lastNamed(b, base+n, base+len(before)-1); s < e {
			return s, e
		}
	}
	if closing < 0 || len(before) == 0 || before[len(before)-1] != '>' || !chars.IsOneOf(before[closing+2:len(before)-1], "key", "name") {
		return 0, 0
	}
	open := bytes.LastIndexByte(before[:closing], '>')
	if open < 0 {
		return 0, 0
	}
	base := max(0, tag-1-chars.MaxPair)
	return base + open + 1, base + closing
}

// KindAt gives the kind of the key that belongs to the separator at a place.
func KindAt(b []byte, at int) KeyKind {
	if b[at] == ':' && InTime(b, at) {
		return 0
	}
	start, end, _ := KeySpan(b, at)
	if start < end && end-start <= 2 && chars.IsAllDigits(b[start:end]) && start > 2 && b[start-1] == ' ' && b[start-2]|0x20 == 'y' {
		end = start - 1 // Unseal Key 1
		start = KeyBegin(b, end)
	}
	if start == end || chars.IsDigit(b[end-1]) && chars.AllDigits(string(b[start:end])) {
		return 0
	}
	own := KindOf(b[start:end])
	if own&^KeyLoose != 0 {
		return own
	}
	if first, ok := WordBeforeKey(b, start); ok { // keys of two or three words: User Id, one-time code
		if kind := KindOfTwo(b[first:end], b[start:end]); kind != 0 {
			return kind
		}
	}
	if string(b[start:end]) == "is" && hasTelling(b[max(chars.LineStart(b, start), start-40):start]) {
		return KeySecret // the password for gate-1 is: …
	}
	first, last := pairedName(b, at, start, end)
	if first < last {
		return KindOf(b[first:last])
	}
	if b[at] == ':' && IsPairValue(b[start:end]) && start > 0 && b[start-1] == '"' { // "db_password": {"sensitive": true, "value": "…"}
		if kind := KindOf(objectAround(b, start-1)); kind&KeySecret != 0 {
			return KeySecret
		}
	}
	return own
}
