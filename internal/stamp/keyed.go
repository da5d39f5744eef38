package stamp

import (
	"bytes"
	"strconv"
	"time"
)

// timeKeys are the keys whose value is the time of the record, with their rank: of several in one record the lowest
// counts. They are compared in small letters and without signs.
var timeKeys map[string]int

func setupKeys() {
	timeKeys = map[string]int{}
	for rank, words := range []string{
		"timestamp realtimetimestamp time ts datetime dateandtime t asctime eventtime logtime logtimestamp systemtime timecreated " +
			"timegenerated timereported eventtimestamp rt devtime",
		"when timemillis timems tsms timestampms timens timestampns timestampus timeus tsns epoch epochms epochtime epochseconds " +
			"unixtime epochsecond timelocal timeiso8601 timeutc utctime localtime msec millis requestreceivedtimestamp",
		"date datum zeit zeitstempel uhrzeit heure horodatage fecha hora data logged loggedat logdate occurred occurredat occurredon " +
			"startdate enddate timewritten syslogtimestamp",
		"starttime requesttime receivedat received eventcreated",
	} {
		for _, w := range bytes.Fields([]byte(words)) {
			timeKeys[string(w)] = rank + 1
		}
	}
}

// inner are keys that carry a time in parts below a key that names it.
var inner map[string]bool

// keyRank gives the rank of a key; 0 when its value is not the record's time.
func keyRank(key []byte) int {
	if len(key) == 0 || len(key) > 40 {
		return 0
	}
	var low [40]byte
	n := 0
	for _, b := range key {
		switch {
		case isUpper(b):
			b |= 0x20
		case !isLetter(b) && !isDigit(b):
			continue
		}
		low[n] = b
		n++
	}
	return timeKeys[string(low[:n])]
}

// keyPlace judges a stamp by the key that stands before it. ok is false when there is no key but a head of a line.
func (s *Stamp) keyPlace(line, open []byte, sep byte) (place, bool) {
	body := bytes.TrimRight(open[:len(open)-1], " \t")
	if sep == '>' {
		if i := bytes.LastIndexByte(body, '<'); i >= 0 && looksXML(body[i:]) || i >= 0 && looksXML(bytes.TrimLeft(line, " \t")) {
			name := body[i+1:]
			if j := bytes.IndexAny(name, " \t"); j > 0 {
				name = name[:j]
			}
			if keyRank(local(name)) > 0 {
				return keyed, true
			}
			return elsewhere, true
		}
		return elsewhere, false
	}
	quoted := len(body) > 0 && (body[len(body)-1] == '"' || body[len(body)-1] == '\'')
	body = bytes.TrimRight(body, `"'`)
	i := len(body)
	for i > 0 && (isLetter(body[i-1]) || isDigit(body[i-1]) || bytes.IndexByte([]byte("_-@.$"), body[i-1]) >= 0) {
		i--
	}
	key := body[i:]
	switch {
	case len(key) == 0 && !quoted: // a row of signs
		return elsewhere, false
	case sep == ':' && i > 0 && body[i-1] == '/' && len(open) == s.Start: // "registry.example/gate:2026-03-14T06-12-00"
		return elsewhere, true
	case keyRank(key) > 0 || keyRank(local(key)) > 0 && sep == '=':
		return keyed, true
	case sep == '=' || quoted:
		return elsewhere, true
	}
	return s.labelPlace(line, body, key)
}

// local takes the name space off a name.
func local(name []byte) []byte {
	return name[bytes.LastIndexByte(name, ':')+1:]
}

// labelPlace judges a stamp behind "words:".
func (s *Stamp) labelPlace(line, body, key []byte) (place, bool) {
	label := bytes.TrimLeft(body, " \t#*-=[(<\"'")
	short := !bytes.ContainsAny(label, "[]{}|=")
	told := false
	for _, w := range bytes.Fields(bytes.ReplaceAll(label, []byte("-"), []byte(" "))) {
		if known(denied, w) && short {
			return elsewhere, true
		}
		told = told || known(telling, w)
	}
	rest := bytes.TrimLeft(line[s.End:], " \t\"'])>.,;*=-#")
	if len(rest) > 0 || known(levels, key) || digits(key) == len(key) {
		return elsewhere, false // the head of a line: "gate-agent: 2026-03-14 06:12:00 up"
	}
	if told && short {
		return keyed, true
	}
	if len(bytes.Fields(label)) == 1 { // "maintenance: 2026-03-14 06:12:00" is a setting
		return elsewhere, true
	}
	return elsewhere, false
}

func looksJSON(b []byte) bool {
	if len(b) < 5 || b[0] != '{' {
		return false
	}
	b = bytes.TrimLeft(b[1:], " \t")
	return len(b) > 2 && (b[0] == '"' || b[0] == '\'')
}

func looksXML(b []byte) bool {
	if len(b) < 4 || b[0] != '<' {
		return false
	}
	if b[1] == '?' || b[1] == '!' || b[1] == '/' {
		return true
	}
	if !isLetter(b[1]) {
		return false
	}
	i := 1
	for i < len(b) && inElementName(b[i]) {
		i++
	}
	if i >= len(b) || b[i] != '>' && b[i] != ' ' && b[i] != '/' && b[i] != '\t' {
		return false
	}
	if m, used := monthName(b[1:]); m > 0 && used == i-1 || isDay(b[1:i]) {
		return false // "<Mar 14, 2026 6:12:00 AM CET> <Error>"
	}
	return bytes.Contains(b, []byte("</")) || bytes.Contains(b, []byte("/>")) || bytes.Contains(b[i:min(len(b), i+200)], []byte(`="`)) ||
		bytes.Contains(b[i:min(len(b), i+200)], []byte(`='`)) || b[i] == '>' && i == len(b)-1
}

// inElementName says that a sign may stand in the name of an XML element.
func inElementName(c byte) bool {
	return isLetter(c) || isDigit(c) || c == ':' || c == '-' || c == '_' || c == '.'
}

// object reads one line of JSON. It is forgiving: a torn or odd line gives what it gives.
type object struct {
	line   []byte
	rank   int
	found  Stamp
	keys   [6][]byte // the key at each depth
	depth  int
	day    Stamp // a date in a field of its own
	hasDay bool
}

// scanJSON finds the time of a JSON object by its keys, outermost first.
func scanJSON(line []byte, at int) (Stamp, bool) {
	if len(line) > KeyedLimit {
		line = line[:KeyedLimit]
	}
	o := object{line: line, rank: 1000}
	o.walk(at)
	o.found.place = keyed
	return o.found, o.rank < 1000
}

func (o *object) walk(i int) {
	line := o.line
	wantKey := false
	for i < len(line) {
		switch b := line[i]; {
		case b == '{' || b == '[':
			o.depth++
			wantKey = b == '{'
			i++
		case b == '}' || b == ']':
			o.depth--
			wantKey = false
			if i++; o.depth <= 0 {
				return
			}
		case b == ',':
			wantKey = true
			i++
		case b == '"':
			end := stringEnd(line, i)
			next := end + spaces(line[min(end, len(line)):], 4)
			if wantKey && next < len(line) && line[next] == ':' {
				if o.depth < len(o.keys) && o.depth > 0 {
					o.keys[o.depth] = line[i+1 : end-1]
				}
				wantKey = false
				i = next + 1
				continue
			}
			o.value(i+1, end-1)
			i = end
		case isDigit(b) || b == '-':
			end := i + 1
			for end < len(line) && (isDigit(line[end]) || line[end] == '.' || line[end]|0x20 == 'e' ||
				line[end] == '+' || line[end] == '-') {
				end++
			}
			o.value(i, end)
			i = end
		default:
			i++
		}
		if o.rank == 1 && !o.hasDay { // nothing ranks before a first key of the outermost object
			return
		}
	}
}

// stringEnd gives the position behind the closing quote of the string that begins at i.
func stringEnd(line []byte, i int) int {
	for i++; i < len(line); i++ {
		n := bytes.IndexAny(line[i:], `"\`)
		if n < 0 {
			return len(line)
		}
		if i += n; line[i] == '"' {
			return i + 1
		}
		i++
	}
	return len(line)
}

// value looks at one value, from..to, whose key is the innermost one.
func (o *object) value(from, to int) {
	if o.depth < 1 || o.depth >= len(o.keys) || to <= from || to-from > 80 {
		return
	}
	key := o.keys[o.depth]
	if known(nanoKeys, key) && o.found.style == epoch && o.found.moment.Nanosecond() == 0 && o.rank < 1000 {
		o.nanoseconds(from, to)
		return
	}
	rank := o.rankOf(key)
	if rank == 0 {
		return
	}
	if rank += 10 * (o.depth - 1); rank >= o.rank && o.found.style != noDate {
		return
	}
	s, ok := valueStamp(o.line, from, to)
	if !ok {
		if d := (&Stamp{}); d.bareDate(o.line[from:to]) == to-from {
			o.day, o.hasDay = *d, true
			if o.rank < 1000 && o.found.style == noDate {
				o.join()
			}
		}
		return
	}
	if o.rank < 1000 && s.style == noDate {
		return
	}
	o.found, o.rank = s, rank
	if s.style == noDate && o.hasDay {
		o.join()
	}
}

// nanoseconds adds the value of a key beside the seconds.
func (o *object) nanoseconds(from, to int) {
	if ns, err := strconv.Atoi(string(o.line[from:to])); err == nil && ns >= 0 && ns < 1e9 {
		o.found.moment = o.found.moment.Add(time.Duration(ns))
		o.found.fraction = true
	}
}

// rankOf is the rank of the innermost key, or of the key around it when the inner one only says how the time is written.
func (o *object) rankOf(key []byte) int {
	rank := keyRank(key)
	if known(inner, key) && o.depth > 1 {
		up := o.depth - 1
		if known(inner, o.keys[up]) && up > 1 {
			up--
		}
		if r := keyRank(o.keys[up]); r > 0 || rank == 0 {
			return r
		}
	}
	return rank
}

// join puts a date and a clock from two fields together.
func (o *object) join() {
	f, d := &o.found, &o.day
	f.takeDate(d)
	o.hasDay = false
}

// nanoKeys hold the nanoseconds that belong to seconds in a key beside them.
var nanoKeys map[string]bool

// valueStamp reads a value that is a time and nothing else.
func valueStamp(line []byte, from, to int) (Stamp, bool) {
	text := line[from:to]
	if i := bytes.IndexByte(text, ' '); i > 1 && i < 12 && isDay(text[:i]) {
		from += i + 1
		text = text[i+1:]
	}
	if len(text) == 0 || !begins[text[0]] {
		return Stamp{}, false
	}
	if bytes.IndexByte(text, 'e') > 0 && isDigit(text[0]) { // 1.773468720123e+09
		if v, err := strconv.ParseFloat(string(text), 64); err == nil && v >= firstEpoch && v < lastEpoch {
			text = strconv.AppendFloat(nil, v, 'f', 6, 64)
			s, ok := candidate(text, 0)
			s.Start, s.End = from, to
			return s, ok
		}
	}
	s, ok := candidate(text, 0)
	if !ok || len(bytes.TrimSpace(text[s.End:])) > 0 || s.style == uptime {
		return Stamp{}, false
	}
	s.Start, s.End = s.Start+from, s.End+from
	return s, true
}
