package stamp

import "bytes"

// Plain words before a stamp that a head of a line may hold; a sentence holds more.
const (
	headWords    = 2
	bracketWords = 4 // where the stamp stands in brackets of its own
)

// The sets of words by which a place is judged, made by setupWords.
var (
	// levels are words that heads of lines hold, beside those in capitals.
	levels map[string]bool
	// functionWords make a sentence of what stands before a stamp.
	functionWords map[string]bool
	// denied are words that say that a moment is not the line's own.
	denied map[string]bool
	// telling are words of a line that is a label and a time, and nothing else.
	telling map[string]bool
	// durations are words behind a clock that make it a length of time.
	durations map[string]bool
)

func setupWords() {
	levels = set("info warn warning error err debug trace fatal notice crit critical alert emerg emergency severe fine finer finest " +
		"config verbose information " +
		"informational audit success failure panic dbg inf wrn ftl vrb stdout stderr main note system user kern kernel daemon")
	functionWords = set("a an the at on in of for from to by since until till before after between and or is was were be been are has " +
		"have had will would can when while " +
		"as with that this dated ist am um vom bis seit der die das und le la les du des au depuis el los desde hasta il " +
		"dal alla de do da em")
	denied = set("expire expires expired expiry expiration expiring valid validity until till next previous prior schedule scheduled " +
		"planned due deadline modify modified " +
		"change changed access accessed birth built build compiled released release effective renewed renewal maintenance departure " +
		"departs departed arrival arrives not version " +
		"validfrom validto validuntil notbefore notafter expiresat expiry_date lastmodified duration elapsed uptime remaining eta " +
		"timeout interval cron match last seen")
	telling = set("log logfile date time timestamp started start opened open begin began created session")
	durations = set("elapsed remaining ago hours hour hrs h hh:mm:ss duration left long total until per")
	inner = set("$date seconds sec $numberlong epochsecond value")
	nanoKeys = set("nanoofsecond nanos nanoseconds nsec")
	setupKeys()
}

func set(words string) map[string]bool {
	t := map[string]bool{}
	for _, w := range bytes.Fields([]byte(words)) {
		t[string(w)] = true
	}
	return t
}

// known says whether a word in any case is in a set. No word of a set is longer than 20 bytes.
func known(t map[string]bool, word []byte) bool {
	if len(word) == 0 || len(word) > 20 {
		return false
	}
	var low [20]byte
	for i, b := range word {
		if isUpper(b) {
			b |= 0x20
		}
		low[i] = b
	}
	return t[string(low[:len(word)])]
}

// placeOf judges by what stands around a stamp whether it is the line's own.
func placeOf(line []byte, s *Stamp) place {
	head := stepBackDay(line[:s.Start])
	open := bytes.TrimRight(head, " \t\"'[(<{")
	p := s.placeBehind(line, head, open)
	switch {
	case p <= unsure:
	case s.style == noDate:
		p = s.clockPlace(line, head, p)
	case s.style == epoch:
		p = s.epochPlace(line, head, p)
	case s.style == compact && s.sep == 1: // one run of digits
		p = s.runPlace(line, p)
	case s.style == monthDay, s.style == glued, s.style == shortYMD:
		if p == inside && plainWords(open) > 0 {
			p = elsewhere
		}
	case s.coarse && p == inside && !enclosed(line, s, head) && !inColumn(line, s, open):
		p = unsure
	}
	return p
}

// stepBackDay takes a day of the week off the end of what stands before a stamp.
func stepBackDay(head []byte) []byte {
	trimmed := bytes.TrimRight(head, " ")
	if len(trimmed) == 0 || len(head) == len(trimmed) && trimmed[len(trimmed)-1] != ',' {
		return head
	}
	i := len(trimmed)
	for i > 0 && trimmed[i-1] != ' ' && trimmed[i-1] != '\t' && trimmed[i-1] != '[' && trimmed[i-1] != '"' && trimmed[i-1] != '<' &&
		trimmed[i-1] != '(' && trimmed[i-1] != '>' && trimmed[i-1] != '=' && trimmed[i-1] != ';' && trimmed[i-1] != '|' {
		i--
	}
	if isDay(trimmed[i:]) {
		return trimmed[:i]
	}
	return head
}

// placeBehind judges by what stands before a stamp. head is all of it, open the same without opening signs at its end.
func (s *Stamp) placeBehind(line, head, open []byte) place {
	if nothing(open) {
		return atStart
	}
	last := open[len(open)-1]
	if last == '=' || last == ':' && !bytes.HasSuffix(open, []byte("::")) || last == '>' && len(head) == len(open) {
		if p, ok := s.keyPlace(line, open, last); ok {
			return p
		}
	} else if looksXML(bytes.TrimLeft(line, " \t")) {
		return elsewhere
	}
	if inCode(head, open) || quotedInText(head) {
		return elsewhere
	}
	if inColumn(line, s, open) {
		return inside
	}
	if bytes.HasPrefix(line, []byte("Started ")) && bytes.HasSuffix(open, []byte(" at")) && bytes.Contains(open, []byte(" for ")) {
		return inside // "Started GET "/" for 192.0.2.1 at 2026-03-14 06:12:00 +0000"
	}
	limit := headWords
	if s.boxed = enclosed(line, s, head); s.boxed {
		limit = bracketWords
	}
	if plainWords(open) > limit {
		return unsure
	}
	return inside
}

// quotedInText says whether a stamp stands in a quote that is no column of a table, such as in a statement.
func quotedInText(head []byte) bool {
	n := len(head)
	if n < 2 || head[n-1] != '\'' && head[n-1] != '"' {
		return false
	}
	return bytes.IndexByte([]byte(",;|\t"), head[n-2]) < 0
}

// inCode says whether a stamp is an argument of a call, a comment behind an assignment, or a revision's mark.
func inCode(head, open []byte) bool {
	if bytes.Contains(open, []byte(" = ")) || bytes.Contains(open, []byte(",v 1.")) {
		return true
	}
	i := bytes.LastIndexByte(head, '(')
	return i > 0 && i >= len(head)-2 && (isLetter(head[i-1]) || head[i-1] == '_') && !bytes.HasSuffix(head, []byte("audit("))
}

// nothing says whether what stands before a stamp are only signs, or a syslog priority such as "<34>1".
func nothing(b []byte) bool {
	b = bytes.TrimLeft(b, " \t#*-=>|;%!.:~")
	if len(b) > 2 && b[0] == '<' {
		n := digits(b[1:])
		if n >= 1 && n <= 3 && len(b) > n+1 && b[n+1] == '>' {
			b = b[n+2:]
			if len(b) == 1 && isDigit(b[0]) { // the version of RFC 5424
				b = nil
			}
		}
	}
	return len(bytes.Trim(b, " \t#*-=>|;%!.:[(<\"'{")) == 0
}

// enclosed says whether a stamp has brackets of its own.
func enclosed(line []byte, s *Stamp, head []byte) bool {
	if len(head) == 0 || s.End >= len(line) {
		return false
	}
	o, c := head[len(head)-1], line[s.End]
	return o == '[' && (c == ']' || c == ' ' || c == ',') || o == '(' && c == ')' || o == '<' && c == '>'
}

// inColumn says whether a stamp fills a column of a table.
func inColumn(line []byte, s *Stamp, open []byte) bool {
	sep := open[len(open)-1]
	if sep != ',' && sep != ';' && sep != '|' && sep != '\t' {
		if b := line[:s.Start]; len(b) == 0 || b[len(b)-1] != '\t' {
			return false
		}
		sep = '\t'
	}
	rest := bytes.TrimLeft(line[s.End:], " \"'")
	return len(rest) == 0 || rest[0] == sep
}

// plainWords counts the words that are no part of a head of a line; a function word or a denied one counts as many.
func plainWords(b []byte) int {
	n := 0
	for len(b) > 0 {
		b = bytes.TrimLeft(b, " ")
		if len(b) == 0 {
			break
		}
		if end := closing(b); end > 0 {
			b = b[end:]
			continue
		}
		i := 0
		for i < len(b) && b[i] != ' ' && b[i] != '\t' && b[i] != '|' {
			i++
		}
		word := bytes.TrimRight(b[:i], ",;:.!")
		switch {
		case !plain(word):
		case known(denied, word):
			return 100
		case allUpper(word) || known(levels, word) || isDay(word):
		case known(functionWords, word):
			return 100
		default:
			n++
		}
		if i < len(b) && b[i] != ' ' { // a column ends
			n = 0
			i++
		}
		b = b[i:]
	}
	return n
}

// closing gives where the bracket or quote that b begins with ends; 0 when it does not.
func closing(b []byte) int {
	var c byte
	switch b[0] {
	case '[':
		c = ']'
	case '(':
		c = ')'
	case '{':
		c = '}'
	case '<':
		c = '>'
	case '"':
		c = '"'
	default:
		return 0
	}
	if i := bytes.IndexByte(b[1:], c); i >= 0 {
		return i + 2
	}
	return 0
}

// plain says whether a word has nothing but letters.
func plain(w []byte) bool {
	for _, b := range w {
		if !wordByte(b) && b != '\'' {
			return false
		}
	}
	return len(w) > 1
}

func allUpper(w []byte) bool {
	for _, b := range w {
		if !isUpper(b) {
			return false
		}
	}
	return true
}

// clockPlace judges a clock without a date: at the head of the line, and no length of time.
func (s *Stamp) clockPlace(line, head []byte, p place) place {
	next := bytes.TrimLeft(line[s.End:], " ])>,")
	if i := bytes.IndexAny(next, " \t,.;)"); i >= 0 {
		next = next[:i]
	}
	if known(durations, next) {
		return elsewhere
	}
	if bytes.Contains(line[:s.Start], []byte("-->")) || endsInMonth(head) {
		return elsewhere
	}
	switch p {
	case atStart:
		if s.coarse && !s.half && !enclosed(line, s, head) {
			return elsewhere
		}
		return p
	case keyed:
		if n := len(head); n > 0 && (head[n-1] == '=' || head[n-1] == '"' && n > 1 && head[n-2] == '=') {
			return p
		}
	case inside:
		if !s.coarse && plainWords(head) == 0 && len(head) <= 60 && !bytes.ContainsAny(head, "=/") && s.Start <= 60 {
			return p
		}
	}
	return elsewhere
}

// endsInMonth says whether a month's name stands in the last two words: then the clock belongs to a date that is none.
func endsInMonth(head []byte) bool {
	f := bytes.Fields(head)
	for _, w := range f[max(0, len(f)-2):] {
		if m, used := monthName(w); m > 0 && used == len(w) {
			return true
		}
	}
	return false
}

// epochPlace judges a number of seconds: after a key, in brackets, or first in the line; a whole number first in the line
// is an amount when a plain word follows it.
func (s *Stamp) epochPlace(line, head []byte, p place) place {
	rest := line[s.End:]
	switch p {
	case keyed:
		return p
	case atStart:
		trimmed := bytes.TrimSpace(rest)
		switch {
		case len(trimmed) == 0:
			if len(head) > 0 && head[len(head)-1] == '#' { // a shell's history
				return p
			}
			return unsure
		case s.sep == '.', bytes.HasPrefix(rest, []byte("]")):
			return p
		case bytes.IndexByte([]byte(",;|\t"), rest[0]) >= 0: // the first column of a table
			return p
		case len(rest) > 0 && bytes.IndexByte([]byte(" \t,;|:"), rest[0]) < 0:
			return elsewhere
		}
		word := trimmed
		if i := bytes.IndexAny(word, " \t,;|"); i >= 0 {
			word = word[:i]
		}
		if plain(word) && !allUpper(word) && !known(levels, word) {
			return unsure
		}
		return p
	case inside:
		if s.fraction && (enclosed(line, s, head) || bytes.HasSuffix(head, []byte("audit("))) {
			return p
		}
	}
	return elsewhere
}

// runPlace judges a date and clock in one run of digits.
func (s *Stamp) runPlace(line []byte, p place) place {
	rest := bytes.TrimLeft(line[s.End:], " \t,;|]\"'")
	switch {
	case p == keyed, s.zone != zoneNone, s.fraction:
		return p
	case p == atStart && len(rest) > 0, bytes.HasPrefix(line, []byte("MSH|")):
		return p
	}
	return elsewhere
}

// isHexDump says whether a line is an offset and bytes in hex, as dumps of memory and packets are.
func isHexDump(b []byte) bool {
	n := 0
	for n < len(b) && isHex(b[n]) {
		n++
	}
	if n < 4 || n > 16 || n >= len(b) {
		if !bytes.HasPrefix(b, []byte("0x")) || len(b) < 8 {
			return false
		}
		n = 2
		for n < len(b) && isHex(b[n]) {
			n++
		}
	}
	if n < len(b) && b[n] == ':' {
		n++
	}
	groups := 0
	for n < len(b) && b[n] == ' ' {
		n += spaces(b[n:], 3)
		k := 0
		for n+k < len(b) && isHex(b[n+k]) {
			k++
		}
		if k != 2 && k != 4 && k != 8 || n+k < len(b) && b[n+k] != ' ' {
			break
		}
		groups++
		n += k
	}
	return groups >= 4
}
