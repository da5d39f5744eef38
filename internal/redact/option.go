package redact

import (
	"bytes"
	"strings"
)

// findOption finds the value of a telling command-line option: --password VALUE, -storepass VALUE, also as two entries of a
// list; and of the one-letter options with which well-known programs take a secret: mysql -pVALUE, curl -u USER:VALUE.
func findOption(b []byte, at, free int) (int, int, bool) {
	if at < 1 || at+1 >= len(b) {
		return 0, 0, false
	}
	dash := at
	if b[at-1] == '-' {
		dash--
	}
	if dash >= 1 && !beforeDash[b[dash-1]] {
		return 0, 0, false
	}
	end := at + 1
	for end < len(b) && end-at <= maxKey && isKeyByte(b[end]) {
		end++
	}
	name := b[at+1 : end]
	if isOneOf(name, "AsPlainText") && dash > 0 && isSpace(b[dash-1]) {
		return quotedBefore(b, at, free)
	}
	if isOneOf(name, "from-literal") { // KEY=VALUE of a secret
		k, ok := keyed{}.readValue(b, end+1)
		n := bytes.IndexByte(b[k.start:k.end], '=')
		return k.start + n + 1, k.end, ok && n > 0 && k.start >= free && isValue(b[k.start+n+1:k.end])
	}
	if dash < at && isOneOf(name, "proxy-user", "user") {
		proxy := len(name) > len("user")
		if start, stop, ok := userAndSecret(b, end, free); proxy || ok && looksChosen(b[start:stop]) {
			return start, stop, ok
		}
	}
	if len(name) > 2 && kindOf(name)&keySecret != 0 {
		return optionValue(b, end, free)
	}
	if len(name) == 0 || dash == at && !shortOptions[name[0]] || dash < at && !isOneOf(name, "user", "proxy-user", "cookie", "pass", "passin", "passout", "http-user") {
		return 0, 0, false
	}
	return programOption(b, at, end, free, dash < at)
}

// userAndSecret finds the secret of NAME:SECRET behind an option, with a space or an equals sign between.
func userAndSecret(b []byte, end, free int) (int, int, bool) {
	start, stop, ok := optionValue(b, end, free)
	if end < len(b) && b[end] == '=' {
		var k keyed
		k, ok = keyed{}.readValue(b, end+1)
		start, stop, ok = k.start, k.end, ok && k.start >= free
	}
	if !ok {
		return 0, 0, false
	}
	return behindUser(b, start, stop)
}

var beforeDash = *bytesOf(" \t\"'\n[,")

// optionValue reads the value behind an option.
func optionValue(b []byte, end, free int) (int, int, bool) {
	if end >= len(b) {
		return 0, 0, false
	}
	if start, stop, ok := nextItem(b, end); ok {
		return start, stop, start >= free && b[start] != '-' && isValue(b[start:stop])
	}
	quoted := b[end] == '"' || b[end] == '\'' // "--password","VALUE"
	if quoted {
		end++
	}
	comma := end < len(b) && b[end] == ','
	if comma {
		end++
	}
	if end >= len(b) || !comma && !isSpace(b[end]) { // behind a quote alone stands what ends a key
		return 0, 0, false
	}
	k, ok := keyed{}.readValue(b, end)
	if !ok || k.start < free || !quoted && closesText(b, end) || b[k.start] == '-' || !isValue(b[k.start:k.end]) {
		return 0, 0, false
	}
	return k.start, k.end, true
}

// nextItem gives the item of a list of YAML that follows an option which is one.
func nextItem(b []byte, end int) (int, int, bool) {
	at := end
	if at < len(b) && b[at] == '\r' {
		at++
	}
	if at >= len(b) || b[at] != '\n' || !bytes.HasPrefix(bytes.TrimLeft(b[lineStart(b, end):end], " "), []byte("- -")) {
		return 0, 0, false
	}
	line := lineFrom(b, at+1)
	item, ok := bytes.CutPrefix(bytes.TrimLeft(line, " "), []byte("- "))
	if !ok {
		return 0, 0, false
	}
	start := at + 1 + len(line) - len(item)
	stop := start + len(bytes.TrimRight(item, " \t\r"))
	if stop-start > 2 && (b[start] == '"' || b[start] == '\'') && b[stop-1] == b[start] {
		start, stop = start+1, stop-1
	}
	return start, stop, start < stop
}

// shortOptions are the letters of the options in programs.
var shortOptions = func() (set [256]bool) {
	for _, p := range programs {
		for _, o := range p.options {
			set[o.name[0]] = true
		}
	}
	return set
}()

type programSecret struct {
	name   string // option without its dashes
	joined bool   // the value is joined to it: -pVALUE
	user   bool   // the value is USER:SECRET, and the user stays
}

// programs are well-known programs that take a secret with an option whose name tells nothing.
var programs = []struct {
	name    string // the program's name begins like this
	options []programSecret
}{
	{"mysql", []programSecret{{"p", true, false}}}, {"mariadb", []programSecret{{"p", true, false}}}, {"sshpass", []programSecret{{"p", true, false}, {"p", false, false}}},
	{"curl", []programSecret{{"u", false, true}, {"u", true, true}, {"user", false, true}, {"U", false, true}, {"proxy-user", false, true}, {"b", false, false}, {"cookie", false, false}}}, {"wget", []programSecret{{"user", false, true}}},
	{"redis-cli", []programSecret{{"a", false, false}, {"pass", false, false}}}, {"ldap", []programSecret{{"w", false, false}}},
	{"snmp", []programSecret{{"c", false, false}, {"A", false, false}, {"X", false, false}}}, {"openssl", []programSecret{{"k", false, false}, {"passin", false, true}, {"passout", false, true}, {"pass", false, true}}},
	{"mongo", []programSecret{{"p", false, false}}}, {"docker", []programSecret{{"p", false, false}}}, {"podman", []programSecret{{"p", false, false}}}, {"helm", []programSecret{{"p", false, false}}}, {"sqlcmd", []programSecret{{"P", false, false}}}, {"osql", []programSecret{{"P", false, false}}}, {"unrar", []programSecret{{"p", true, false}}}, {"isql", []programSecret{{"P", true, false}, {"P", false, false}}},
	{"mosquitto", []programSecret{{"P", false, false}}}, {"ipmitool", []programSecret{{"P", false, false}}}, {"bcp", []programSecret{{"P", false, false}}}, {"unzip", []programSecret{{"P", false, false}}},
	{"az", []programSecret{{"p", false, false}}}, {"psexec", []programSecret{{"p", false, false}}}, {"usermod", []programSecret{{"p", false, false}}}, {"useradd", []programSecret{{"p", false, false}}},
	{"rdesktop", []programSecret{{"p", false, false}}}, {"xfreerdp", []programSecret{{"p", false, false}}}, {"winrs", []programSecret{{"p", true, false}}}, {"plink", []programSecret{{"pw", false, false}}}, {"pscp", []programSecret{{"pw", false, false}}}, {"psftp", []programSecret{{"pw", false, false}}}, {"lftp", []programSecret{{"u", false, true}}},
	{"zip", []programSecret{{"P", false, false}}}, {"7z", []programSecret{{"p", true, false}}}, {"smbclient", []programSecret{{"U", false, true}}}, {"ncftp", []programSecret{{"p", false, false}}},
}

// programOption finds the secret of a one-letter option, when a program that has it stands before it on the line.
func programOption(b []byte, at, end, free int, long bool) (int, int, bool) {
	line := b[lineStart(b, at):at]
	name := b[at+1 : end]
	for _, p := range programs {
		n := bytes.LastIndex(line, []byte(p.name))
		for n > 0 && isWord(line[n-1]) { // it only ends in that
			n = bytes.LastIndex(line[:n], []byte(p.name))
		}
		if n < 0 || bytes.ContainsAny(line[n:], "|;&") {
			continue
		}
		if p.name == "docker" || p.name == "podman" || p.name == "helm" {
			if !bytes.Contains(line[n:], []byte("login")) {
				continue
			}
		}
		for _, o := range p.options {
			if long != (len(o.name) > 1) && p.name != "openssl" && o.name != "pw" || !strings.HasPrefix(string(b[at+1:min(len(b), at+17)]), o.name) {
				continue
			}
			if o.joined && len(name) == 1 && end < len(b) && b[end] == ':' && !closesText(b, end+1) { // -p:VALUE
				k, ok := keyed{}.readValue(b, end+1)
				return k.start, k.end, ok && k.start >= free && isValue(b[k.start:k.end])
			}
			if o.joined && closesText(b, end) {
				continue
			}
			if o.joined {
				if len(name) > 1 || end < len(b) && end > at+1 && bytes.IndexByte([]byte("!#$%&'\"@"), b[end]) >= 0 {
					k, ok := keyed{}.readValue(b, at+1+len(o.name))
					if ok && k.start >= free && isValue(b[k.start:k.end]) && !isSpace(b[at+1+len(o.name)]) {
						if o.user {
							return behindUser(b, k.start, k.end)
						}
						return k.start, k.end, true
					}
				}
				continue
			}
			if len(name) != len(o.name) {
				continue
			}
			start, stop, ok := optionValue(b, end, free)
			if p.name == "curl" && !o.user && ok && bytes.IndexByte(b[start:stop], '=') < 0 {
				return 0, 0, false // the file of cookies
			}
			if !ok || !o.user {
				return start, stop, ok
			}
			if stop < len(b) && b[stop] == ',' { // USER,SECRET
				for stop++; stop < len(b) && !isBlank(b[stop]) && b[stop] != '"' && b[stop] != '\''; stop++ {
				}
			}
			return behindUser(b, start, stop)
		}
	}
	if !long && len(name) == 1 && bytes.IndexByte([]byte("pPw"), name[0]) >= 0 &&
		(namesAccount(line) || namesAccount(b[end:min(len(b), end+maxPair)])) {
		start, stop, ok := optionValue(b, end, free) // of a program that nobody listed, beside the option for the account
		return start, stop, ok && looksChosen(b[start:stop]) && bytes.IndexByte(b[start:stop], '/') < 0 && shaped(string(b[start:stop]))
	}
	return 0, 0, false
}

// namesAccount reports whether the options of a command name an account, as programs do that log in somewhere.
func namesAccount(line []byte) bool {
	if n := bytes.IndexByte(line, '\n'); n >= 0 {
		line = line[:n]
	}
	for _, o := range []string{" -u ", " -U ", " -l ", " -D ", " --user ", " --username ", " -p admin ", " -user "} {
		if bytes.Contains(line, []byte(o)) {
			return true
		}
	}
	return false
}

// behindUser gives the secret of USER:SECRET, USER%SECRET or USER,SECRET.
func behindUser(b []byte, start, end int) (int, int, bool) {
	n := bytes.IndexAny(b[start:end], ":%,")
	if n < 0 || start+n+1 >= end {
		return 0, 0, false
	}
	start += n + 1
	return start, end, isValue(b[start:end])
}
