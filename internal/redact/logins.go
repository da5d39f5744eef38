package redact

import (
	"bytes"
	"strings"
)

// Names in what servers of mail, files and networks say of a login, and behind titles.

// mailServices are the parts of a mail server that write whom they work for: imap(NAME): Logged out.
var mailServices = []string{"imap", "pop3", "lmtp", "lda", "submission", "managesieve"}

// userOfMailService finds that name, at the bracket behind it.
func userOfMailService(b []byte, at int) (int, int, bool) {
	for n := 0; n < 2 && b[at] == '>'; n++ { // imap(NAME)<811><aB3dE>:
		open := bytes.LastIndexByte(b[max(0, at-40):at], '<')
		if open < 0 || max(0, at-40)+open < 1 {
			return 0, 0, false
		}
		at = max(0, at-40) + open - 1
	}
	start := nameBefore(b, at)
	ws := start - 1
	if ws < 0 || b[ws] != '(' {
		return 0, 0, false
	}
	for ws > 0 && start-ws < 16 && isWord(b[ws-1]) {
		ws--
	}
	return start, at, isOneOf(b[ws:start-1], mailServices...)
}

// userOfLogin finds the name behind the word "login", as servers for dial-in write it: Login OK: [NAME].
func userOfLogin(b []byte, at int) (int, int, bool) {
	for _, result := range []string{" OK: [", " incorrect: [", " incorrect (", " invalid: ["} {
		if bytes.HasPrefix(b[at:], []byte(result)) {
			start := at + len(result)
			if result[len(result)-1] == '(' { // the reason
				n := bytes.Index(b[start:min(len(b), start+maxPair)], []byte("): ["))
				if n < 0 {
					continue
				}
				start += n + len("): [")
			}
			end := nameAt(b, start)
			return start, end, end < len(b) && (b[end] == ']' || b[end] == '/')
		}
	}
	return 0, 0, false
}

// userOfGroup finds the name in what useradd and the like write down: add 'NAME' to group 'wheel'.
func userOfGroup(b []byte, at int) (int, int, bool) {
	if at+2 >= len(b) || b[at+1] != '\'' {
		return 0, 0, false
	}
	start := at + 2
	end := nameAt(b, start)
	rest := b[end:min(len(b), end+24)]
	return start, end, bytes.HasPrefix(rest, []byte("' to group")) || bytes.HasPrefix(rest, []byte("' to shadow group")) || bytes.HasPrefix(rest, []byte("' from group")) || bytes.HasPrefix(rest, []byte("' from shadow group"))
}

// results are what is said of a login before "for NAME".
var results = []string{"authentication", "authenticated", "login", "logon", "sign-in", "password", "credentials", "access", "auth"}

// outcomes stand with one of them, on either side.
var outcomes = wordSet("failed failure succeeded success successful denied granted rejected accepted attempt attempts invalid incorrect wrong bad mismatch expired")

// isResultFor says whether the text before "for NAME" says how a login went.
func isResultFor(before []byte) bool {
	tail := before[max(0, len(before)-48):]
	if n := bytes.LastIndexAny(tail, "\n.;,"); n >= 0 {
		tail = tail[n+1:]
	}
	var last, told, access, outcome, granted bool
	words := bytes.Fields(tail)
	for _, w := range words[max(0, len(words)-3):] {
		w = bytes.ToLower(bytes.Trim(w, ":()[]-\"'"))
		result := isOneOf(w, results...)
		last = result || outcomes[string(w)]
		told = told || result
		access = access || string(w) == "access"
		outcome = outcome || outcomes[string(w)]
		granted = granted || isOneOf(w, "denied", "granted")
	}
	if access { // most that is invalid or wrong there is not about anybody
		outcome = granted
	}
	return last && told && outcome
}

// afterSubject are words behind the name of whom something is said.
var afterSubject = wordSet("from at on via by after with using because due in against and has is")

// endsSubject says whether what is said of a name ends behind it, or goes on as it does behind names; after is the next word.
func endsSubject(b []byte, end int, after string) bool {
	return end == len(b) || bytes.IndexByte([]byte(".,;:)(]['\"\r\n"), b[end]) >= 0 || b[end] == ' ' && (end+1 == len(b) || bytes.IndexByte([]byte("([-"), b[end+1]) >= 0 || afterSubject[after])
}

// isDeviceName says whether a name is one word, a dash and a number, as devices have them.
func isDeviceName(v []byte) bool {
	n := bytes.LastIndexByte(v, '-')
	return n > 0 && isAllDigits(v[n+1:]) && len(v) > n+1
}

// noSubjects are words before "logged in" that name nobody.
var noSubjects = wordSet(`successfully already not last currently never still being been was were is are just newly first automatically remotely he she they it who you we i nobody someone anyone everyone
	gate terminal kiosk device lane controller connection socket node peer instance process application app browser machine computer station panel display entry event message error warning
	errors events messages entries requests changes all both again properly get got be have had having when while if after before once until and or then time times date`)

// userBeforeLogin finds who logged in or out, at the beginning of what a log says: NAME logged in from …, NAME has signed out.
func userBeforeLogin(b []byte, ws, at int) (int, int, bool) {
	rest := b[at:min(len(b), at+8)]
	in := 0
	for _, w := range []string{" in", " out", " off", " on"} {
		if bytes.HasPrefix(rest, []byte(w)) {
			in = len(w)
		}
	}
	if in == 0 || in < len(rest) && isKeyByte(rest[in]) && rest[in] != '.' {
		return 0, 0, false
	}
	end := ws
	for range 2 { // has successfully logged in, is now logged in
		for _, w := range []string{" now ", " has ", " was ", " is ", " successfully ", " just ", " have "} {
			if before, ok := bytes.CutSuffix(b[:end], []byte(w)); ok {
				end = len(before) + 1
				break
			}
		}
	}
	if end < 2 || b[end-1] != ' ' {
		return 0, 0, false
	}
	end--
	quote := byte(0)
	if b[end-1] == '\'' || b[end-1] == '"' {
		end--
		quote = b[end]
	}
	start := nameBefore(b, end)
	if quote != 0 && (start == 0 || b[start-1] != quote) || quote == 0 && !beginsMessage(b, start) {
		return 0, 0, false
	}
	var buf [32]byte
	name := string(lowered(&buf, b[start:end]))
	return start, end, !strings.HasSuffix(name, "ly") && !noSubjects[name] && !noUserNames[name] && !isDeviceName(b[start:end]) && nameAt(b, start) == end
}

// userOfJob finds the owner in a line of a full list of processes, at its terminal: NAME 4112 1 0 06:12 ? 00:00:01 ….
func userOfJob(b []byte, at int) (int, int, bool) {
	first := lineStart(b, at)
	if first > 0 && b[first-1] != '\n' || at-first < 12 {
		return 0, 0, false
	}
	end := nameAt(b, first)
	if end == first || end >= at || b[end] != ' ' && b[end] != '+' {
		return 0, 0, false
	}
	words := fieldsAt(b[end+1:at], end+1)
	if len(words) != 4 {
		return 0, 0, false
	}
	for _, w := range words[:3] { // number, that of its parent, and use
		if !isAllDigits(b[w[0]:w[1]]) {
			return 0, 0, false
		}
	}
	return first, end, true
}

// userOfRevision finds who made a revision, in the lists of them: r4471 | NAME | 2026-03-14 ….
func userOfRevision(b []byte, at int) (int, int, bool) {
	first := lineStart(b, at)
	if at-first > 12 || at-first < 3 || b[first] != 'r' || b[at-1] != ' ' || !isAllDigits(b[first+1:at-1]) || at+2 >= len(b) || b[at+1] != ' ' {
		return 0, 0, false
	}
	end := nameAt(b, at+2)
	return at + 2, end, bytes.HasPrefix(b[end:], []byte(" | 2")) || bytes.HasPrefix(b[end:], []byte(" | 1"))
}

// userOfDelivery finds whose login let a mail in: … A=plain:NAME ….
func userOfDelivery(b []byte, at int) (int, int, bool) {
	if at < 2 || b[at-1] != 'A' || b[at-2] != ' ' {
		return 0, 0, false
	}
	colon := nameAt(b, at+1)
	if colon == at+1 || colon >= len(b) || b[colon] != ':' {
		return 0, 0, false
	}
	end := nameAt(b, colon+1)
	return colon + 1, end, end == len(b) || isBlank(b[end])
}

// userOfTransfer finds the name that a server of files writes in brackets: [NAME] OK LOGIN: ….
func userOfTransfer(b []byte, at int) (int, int, bool) {
	for _, what := range []string{"] OK LOGIN", "] FAIL LOGIN"} {
		if before, ok := bytes.CutSuffix(b[:at], []byte(what)); ok {
			start := nameBefore(b, len(before))
			return start, len(before), start > 0 && b[start-1] == '['
		}
	}
	return 0, 0, false
}

// titles are words before the name of a person.
var titles = wordSet("mr mrs herr frau dear")

// dottedTitles are those that end with a dot.
var dottedTitles = []string{"mr", "mrs", "ms", "dr", "hr", "prof"}

// isTitled says whether one of the titles that end with a dot stands before a place.
func isTitled(b []byte, at int) bool {
	if at < 3 || b[at-1] != '.' {
		return false
	}
	start := at - 1
	for start > 0 && at-start < 6 && isWord(b[start-1]) {
		start--
	}
	if !isUpper(b[start]) || !isLower(b[start+1]) || start > 0 && isKeyByte(b[start-1]) {
		return false
	}
	if isOneOf(b[start:at-1], "ms") { // also a plural
		return beginsMessage(b, start) || isOneOf([]byte(lastWordOf(b[max(0, start-24):start])), "by", "for", "to", "from", "with", "and", "dear", "of", "is", "that")
	}
	return isOneOf(b[start:at-1], dottedTitles...)
}

// noNames stand behind titles, too.
var noNames = wordSet(`sir madam customer customers team all colleague colleagues support user users partner partners friend friends passenger passengers
	guest guests member members mr mrs ms dr doctor prof professor geehrte geehrter geehrtes damen kunde kundin everyone everybody reader supplier service`)

// nameBehindTitle finds the name of a person behind a title: Mrs Ilka Brandvold, Dear Ilka.
func nameBehindTitle(b []byte, at int) (int, int, bool) {
	start := at + 1
	end := start
	for words := 0; words < 3; words++ {
		if words > 0 && (end >= len(b) || b[end] != ' ') {
			break
		}
		from := end
		if words > 0 {
			from++
		}
		to := from
		for to < len(b) && (isWord(b[to]) && !isDigit(b[to]) && b[to] != '_' || b[to] >= 0x80 || b[to] == '-' || b[to] == '\'') {
			to++
		}
		if to-from < 2 || !isUpper(b[from]) || !isLower(b[from+1]) || noNames[strings.ToLower(string(b[from:to]))] {
			break
		}
		end = to
	}
	return start, end, end > start
}

// userOfSudoers finds who may do what: NAME ALL=(ALL) …, of sudoers(5).
func userOfSudoers(b []byte, at int) (int, int, bool) {
	first := lineStart(b, at)
	if at+1 >= len(b) || b[at+1] != '(' || at-first < 5 || !bytes.HasSuffix(b[:at], []byte("ALL")) && !bytes.HasSuffix(b[:at], []byte("ALL ")) {
		return 0, 0, false
	}
	end := nameAt(b, first)
	return first, end, end < at && isBlank(b[end])
}

// userOfSudo finds the name in "sudo: NAME : TTY=…".
func userOfSudo(b []byte, at int) (int, int, bool) {
	if at == 0 || b[at-1] != 'Y' || !bytes.HasSuffix(b[:at], []byte(" : TTY")) {
		return 0, 0, false
	}
	end := at - len(" : TTY")
	start := nameBefore(b, end)
	return start, end, start > 0 && isSpace(b[start-1])
}

// userAtHost finds the name in NAME@HOST where the host has no dot: prompts, targets of ssh and scp, accounts of databases.
func userAtHost(b []byte, at int) (int, int, bool) {
	end := at
	if at > 1 && (b[at-1] == '\'' || b[at-1] == '`') && at+1 < len(b) && b[at+1] == b[at-1] { // 'NAME'@'host'
		end--
	}
	start := nameBefore(b, end)
	if start == end {
		return 0, 0, false
	}
	if end < at {
		return start, end, start > 0 && b[start-1] == b[end]
	}
	host := nameAt(b, at+1)
	if host == at+1 || bytes.IndexByte(b[at+1:host], '.') >= 0 && !isDigit(b[host-1]) {
		return 0, 0, false // a mail address, or nothing
	}
	if host < len(b) && b[host] == ':' && host+1 < len(b) && (b[host+1] == '~' || b[host+1] == '/') {
		return start, end, true
	}
	if host < len(b) && b[host] == ' ' && bytes.HasPrefix(b[host:], []byte(" ~]")) {
		return start, end, true
	}
	if start > 0 && b[start-1] == '[' && host < len(b) && b[host] == ' ' && atLineStart(b, start-1) { // [NAME@host folder]$
		rest := lineFrom(b, host)
		n := bytes.IndexByte(rest[:min(len(rest), maxKey)], ']')
		if n > 0 && n+1 < len(rest) && (rest[n+1] == '$' || rest[n+1] == '#') {
			return start, end, true
		}
	}
	if string(b[start:end]) == "User" && bytes.HasPrefix(b[at:], []byte("@Host: ")) { // of a log of slow queries: # User@Host: NAME[NAME] @ host [address]
		name := at + len("@Host: ")
		stop := nameAt(b, name)
		return name, stop, stop < len(b) && b[stop] == '['
	}
	if host == len(b) || isBlank(b[host]) {
		switch lastWordOf(b[max(0, start-24):start]) {
		case "from", "by", "for", "user", "connect":
			return start, end, isLoginWord(b[start:end])
		}
	}
	if bytes.HasSuffix(b[:start], []byte("sip:")) || bytes.HasSuffix(b[:start], []byte("sips:")) {
		return start, end, true // RFC 3261
	}
	if isFullIPv4(b[at+1:host]) && beforeAddressed[lastWordOf(b[max(0, start-24):start])] {
		return start, end, true
	}
	if databaseName[firstWord(b[host:min(len(b), host+16)])] && host < len(b) && b[host] == ' ' { // NAME@DATABASE LOG:
		return start, end, true
	}
	line := b[lineStart(b, start):start]
	if bytes.HasSuffix(line, []byte("Connect\t")) || bytes.HasSuffix(line, []byte(" Connect ")) {
		return start, end, true
	}
	if bytes.Contains(line, []byte(" AAAA")) && (bytes.Contains(line, []byte("ssh-")) || bytes.Contains(line, []byte("ecdsa-sha2-"))) {
		return start, end, true // of a public key of OpenSSH
	}
	for _, program := range []string{"ssh ", "scp ", "sftp ", "rsync ", "ssh-copy-id "} {
		if n := bytes.LastIndex(line, []byte(program)); n >= 0 && (n == 0 || !isWord(line[n-1])) {
			return start, end, true
		}
	}
	return 0, 0, false
}
