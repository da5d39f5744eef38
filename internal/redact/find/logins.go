package find

import (
	"bytes"

	"envask/internal/redact/chars"
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
	start := chars.NameBefore(b, at)
	ws := start - 1
	if ws < 0 || b[ws] != '(' {
		return 0, 0, false
	}
	for ws > 0 && start-ws < 16 && chars.IsWord(b[ws-1]) {
		ws--
	}
	return start, at, chars.IsOneOf(b[ws:start-1], mailServices...)
}

// userOfJob finds the owner in a line of a full list of processes, at its terminal: NAME 4112 1 0 06:12 ? 00:00:01 ….
func userOfJob(b []byte, at int) (int, int, bool) {
	first := lineText(b, at)
	if first > 0 && b[first-1] != '\n' && !chars.IsSpace(b[first-1]) || at-first < 12 {
		return 0, 0, false
	}
	end := chars.NameAt(b, first)
	if end == first || end >= at || b[end] != ' ' && b[end] != '+' {
		return 0, 0, false
	}
	words := chars.FieldsAt(b[end+1:at], end+1)
	if len(words) != 4 {
		return 0, 0, false
	}
	for _, w := range words[:3] { // number, that of its parent, and use
		if !chars.IsAllDigits(b[w[0]:w[1]]) {
			return 0, 0, false
		}
	}
	return first, end, true
}

// userOfRevision finds who made a revision, in the lists of them: r4471 | NAME | 2026-03-14 ….
func userOfRevision(b []byte, at int) (int, int, bool) {
	first := lineText(b, at)
	if at-first > 12 || at-first < 3 || b[first] != 'r' || b[at-1] != ' ' || !chars.IsAllDigits(b[first+1:at-1]) || at+2 >= len(b) ||
		b[at+1] != ' ' {
		return 0, 0, false
	}
	end := chars.NameAt(b, at+2)
	return at + 2, end, bytes.HasPrefix(b[end:], []byte(" | 2")) || bytes.HasPrefix(b[end:], []byte(" | 1"))
}

// userOfDelivery finds whose login let a mail in: … A=plain:NAME ….
func userOfDelivery(b []byte, at int) (int, int, bool) {
	if at < 3 || b[at-1] != 'A' || b[at-2] != ' ' {
		return 0, 0, false
	}
	colon := chars.NameAt(b, at+1)
	if colon == at+1 || colon >= len(b) || b[colon] != ':' {
		return 0, 0, false
	}
	end := chars.NameAt(b, colon+1)
	return colon + 1, end, end == len(b) || chars.IsBlank(b[end])
}

// DottedTitles are those that end with a dot.
var DottedTitles = []string{"mr", "mrs", "ms", "dr", "hr", "prof", "tel", "sr", "sra", "sig", "mevr", "dhr", "rev", "ing",
	"sgt", "capt", "lt", "insp", "cpt"}

// IsTitled says whether one of the titles that end with a dot stands before a place.
func IsTitled(b []byte, at int) bool {
	if at < 2 || b[at-1] != '.' {
		return false
	}
	start := at - 1
	for start > 0 && at-start < 6 && chars.IsWord(b[start-1]) {
		start--
	}
	if chars.IsOneOf(b[start:at-1], "tel") {
		return true
	}
	if !chars.IsUpper(b[start]) || !chars.IsLower(b[start+1]) || start > 0 && chars.IsKeyByte(b[start-1]) {
		return false
	}
	if chars.IsOneOf(b[start:at-1], "ms") { // also a plural
		return BeginsMessage(b, start) || chars.IsOneOf([]byte(chars.LastWordOf(b[max(0, start-24):start])),
			"by", "for", "to", "from", "with", "and", "dear", "of", "is", "that")
	}
	return chars.IsOneOf(b[start:at-1], DottedTitles...)
}

// NoNames stand behind titles, too.
var NoNames = chars.WordSet(`sir madam customer customers team all colleague colleagues support user users partner partners friend
	friends passenger passengers
	guest guests member members mr mrs ms dr doctor prof professor geehrte geehrter geehrtes damen kunde kundin everyone everybody
	reader supplier service`)

// userOfSudoers finds who may do what: NAME ALL=(ALL) …, of sudoers(5).
func userOfSudoers(b []byte, at int) (int, int, bool) {
	first := lineText(b, at)
	if at+1 >= len(b) || b[at+1] != '(' || at-first < 5 || !bytes.HasSuffix(b[:at], []byte("ALL")) &&
		!bytes.HasSuffix(b[:at], []byte("ALL ")) {
		return 0, 0, false
	}
	end := chars.NameAt(b, first)
	return first, end, end < at && chars.IsBlank(b[end])
}

// userOfSudo finds the name in "sudo: NAME : TTY=…".
func userOfSudo(b []byte, at int) (int, int, bool) {
	if at == 0 || b[at-1] != 'Y' || !bytes.HasSuffix(b[:at], []byte(" : TTY")) {
		return 0, 0, false
	}
	end := at - len(" : TTY")
	start := chars.NameBefore(b, end)
	return start, end, start > 0 && chars.IsSpace(b[start-1])
}

// userAtHost finds the name in NAME@HOST where the host has no dot: prompts, targets of ssh and scp, accounts of databases.
func userAtHost(b []byte, at int) (int, int, bool) {
	if at > 1 && (b[at-1] == '\'' || b[at-1] == '`') && at+1 < len(b) && b[at+1] == b[at-1] { // 'NAME'@'host'
		start := chars.NameBefore(b, at-1)
		return start, at - 1, start > 0 && start < at-1 && b[start-1] == b[at-1]
	}
	start := chars.NameBefore(b, at)
	host := chars.NameAt(b, at+1)
	if start == at && host > at+2 && host+3 < len(b) && b[host] == ':' &&
		(at == 0 || bytes.IndexByte([]byte(" \t\n\"'(<[,"), b[at-1]) >= 0) {
		server := b[host+1 : chars.NameAt(b, host+1)] // @NAME:server, as federated chats have it
		return at + 1, host, bytes.IndexByte(server, '.') > 0 && !chars.IsDigit(server[0])
	}
	if start == at || host == at+1 || bytes.IndexByte(b[at+1:host], '.') >= 0 && !chars.IsDigit(b[host-1]) {
		return 0, 0, false // a mail address, or nothing
	}
	if behind := b[host:]; ofPrompt(b, start, behind) || ofMessage(behind) || ofScheme(b, start) || behindConnection(b, start, at, host) {
		return start, at, string(b[start:at]) != "git"
	}
	// Of a log of slow queries: # User@Host: NAME[NAME] @ host [address].
	if string(b[start:at]) == "User" && bytes.HasPrefix(b[at:], []byte("@Host: ")) {
		name := at + len("@Host: ")
		stop := chars.NameAt(b, name)
		return name, stop, stop < len(b) && b[stop] == '['
	}
	return start, at, ofCommand(b, start)
}

// ofPrompt says whether NAME@host belongs to the prompt of a shell, or to a path on that host.
func ofPrompt(b []byte, start int, behind []byte) bool {
	switch {
	case len(behind) < 2:
		return false
	case behind[0] == ':' && (behind[1] == '~' || behind[1] == '/'), bytes.HasPrefix(behind, []byte(" ~]")):
		return true
	case start == 0 || b[start-1] != '[' || behind[0] != ' ' || !chars.AtLineStart(b, start-1): // [NAME@host folder]$
		return false
	}
	rest := behind[:min(len(behind), chars.MaxKey)]
	n := bytes.IndexByte(rest, ']')
	return n > 0 && n+1 < len(rest) && (rest[n+1] == '$' || rest[n+1] == '#') && bytes.IndexByte(rest[:n], '\n') < 0
}

// ofMessage says whether what follows NAME@host is what clients of SSH and databases say.
func ofMessage(behind []byte) bool {
	return bytes.HasPrefix(behind, []byte(": Permission denied")) ||
		len(behind) > 0 && behind[0] == ' ' && databaseName.Has(chars.FirstWord(behind[:min(len(behind), 16)])) // NAME@DATABASE LOG:
}

// ofScheme says whether a name stands in a URL of what somebody logs in to, or calls (RFC 3261).
func ofScheme(b []byte, start int) bool {
	before := b[max(0, start-16):start]
	if bytes.HasSuffix(before, []byte("sip:")) || bytes.HasSuffix(before, []byte("sips:")) {
		return true
	}
	scheme, ok := bytes.CutSuffix(before, []byte("://"))
	letters := len(scheme)
	for letters > 0 && isKeyLetter(scheme[letters-1]) {
		letters--
	}
	return ok && sessionSchemes.HasBytes(bytes.ToLower(scheme[letters:])) && IsLoginWord(b[start:chars.NameAt(b, start)])
}

// behindConnection says whether NAME@host or NAME@ADDRESS stands behind a word of those who connect.
func behindConnection(b []byte, start, at, host int) bool {
	word := chars.LastWordOf(b[max(0, start-24):start])
	if host == len(b) || chars.IsBlank(b[host]) {
		switch word {
		case "from", "by", "for", "user", "connect":
			return IsLoginWord(b[start:at])
		}
	}
	return isFullIPv4(b[at+1:host]) && beforeAddressed.Has(word)
}

// ofCommand says whether NAME@host is what a client logs in as, or the remark of a public key.
func ofCommand(b []byte, start int) bool {
	line := b[chars.LineStart(b, start):start]
	if bytes.HasSuffix(line, []byte("Connect\t")) || bytes.HasSuffix(line, []byte(" Connect ")) {
		return true
	}
	if bytes.Contains(line, []byte(" AAAA")) && (bytes.Contains(line, []byte("ssh-")) || bytes.Contains(line, []byte("ecdsa-sha2-"))) {
		return true
	}
	for _, program := range []string{"ssh ", "scp ", "sftp ", "rsync ", "ssh-copy-id "} {
		if n := bytes.LastIndex(line, []byte(program)); n >= 0 && (n == 0 || !chars.IsWord(line[n-1])) {
			return true
		}
	}
	return false
}

// sessionSchemes are those of URLs that somebody logs in to.
var sessionSchemes = chars.WordSet("ssh sftp scp ftp ftps rtsp rtsps smb ldap ldaps vnc rdp telnet")

// databaseName are the words behind NAME@DATABASE in the logs of a database.
var databaseName = chars.WordSet(`
	LOG: ERROR: FATAL: STATEMENT: DETAIL: WARNING: HINT:`)

// beforeAddressed are words before NAME@ADDRESS.
var beforeAddressed = chars.WordSet("from as for by user to login connect connecting connected session")

// isFullIPv4 says whether a text is four numbers with dots between.
func isFullIPv4(v []byte) bool {
	parts := bytes.Split(v, []byte("."))
	for _, p := range parts {
		if len(p) > 3 || !chars.IsAllDigits(p) {
			return false
		}
	}
	return len(parts) == 4
}
