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
	for _, result := range []string{" OK: [", " incorrect: [", " incorrect (mschap: ", " invalid: ["} {
		if bytes.HasPrefix(b[at:], []byte(result)) {
			start := at + len(result)
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

// titles are words before the name of a person. Where a dot follows them (Mr.), the name is not found.
var titles = wordSet("mr mrs herr frau dear")

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
