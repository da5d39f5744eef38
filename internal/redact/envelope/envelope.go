// Package envelope knows what programs and people put before lines that others wrote: the signs of comments and quotations, the numbers
// and names of searches, the heads of containers' logs. What follows is a line of its own, and reads as such.
package envelope

import "bytes"

// Prefix is one kind of what stands before a line.
type Prefix struct {
	Name    string
	Of      func(line []byte) int // how long it is, in bytes; 0 is none
	Yes, No []string              // lines that have it, and some that look like it
}

// Prefixes is the table. The first that fits counts.
var Prefixes = []Prefix{
	{"comment of a program", slashes, []string{"// password = x", "/// x"}, []string{"/usr/bin", "//192.0.2.9/share x"}},
	{"comment of a table of settings", semicolons, []string{"; secret=x", ";; x y"}, []string{";", "a; b"}},
	{"comment of SQL", dashes, []string{"-- set x", "--   x"}, []string{"--password x", "-----BEGIN", "---"}},
	{"comment of a batch file", rem, []string{"rem net user x", "REM x"}, []string{"remove x", "rem"}},
	{"quoted mail", quotes, []string{"> x", "> > x", ">> x"}, []string{">itostrund  tty", "->"}},
	{"trace of a shell", pluses, []string{"+ mysql -px", "++ x"}, []string{"+1 206", "+-----+"}},
	{"item of a list", items, []string{"- x", "* x y"}, []string{"-x", "**x", "- "}},
	{"line of a search", found, []string{"12:user x", "etc/gate.conf:12:x", "12-x y", "/srv/a b.log:7:x"},
		[]string{"12:00:01 x", "2026-03-14 x", "x:12", "192.0.2.1:12:x", "key:12:value", "12: x"}},
	{"numbered line", numbered, []string{"  12\tx", "12\tx", "  211  mysql -px", " 1001  x"}, []string{"12 x", "  12 x", "2.5  x"}},
	{"message of a journal", message, []string{"MESSAGE=x"}, []string{"MESSAGE_ID=x", "MESSAGE="}},
	{"line of a container", container, []string{"2026-03-14T06:12:00.1Z stdout F x", "2026-03-14T06:12:00Z stderr P x"},
		[]string{"2026-03-14T06:12:00Z x", "2026-03-14T06:12:00Z stdout X x"}},
}

// begins are the bytes with which prefixes begin, besides digits and letters of names of files.
var begins = [256]bool{'/': true, ';': true, '-': true, 'r': true, 'R': true, '>': true, '+': true, '*': true, 'M': true, ' ': true, '\t': true,
	'0': true, '1': true, '2': true, '3': true, '4': true, '5': true, '6': true, '7': true, '8': true, '9': true}

// Of gives how long what stands before a line is, in bytes; 0 where the line is as it was written.
func Of(line []byte) int {
	if len(line) < 3 {
		return 0
	}
	if !begins[line[0]] {
		return found(line)
	}
	for i := range Prefixes {
		if n := Prefixes[i].Of(line); n > 0 && n < len(line) {
			return n
		}
	}
	return 0
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// run gives how many times a sign stands at the beginning.
func run(line []byte, sign byte) int {
	n := 0
	for n < len(line) && line[n] == sign {
		n++
	}
	return n
}

func blanks(line []byte, from int) int {
	for from < len(line) && (line[from] == ' ' || line[from] == '\t') {
		from++
	}
	return from
}

func slashes(line []byte) int {
	n := run(line, '/')
	if n < 2 || n == len(line) || line[n] != ' ' && line[n] != '\t' {
		return 0
	}
	return n + 1
}

func semicolons(line []byte) int {
	n := run(line, ';')
	if n == 0 || n == len(line) {
		return 0
	}
	if line[n] == ' ' {
		n++
	}
	return n
}

func dashes(line []byte) int {
	if n := run(line, '-'); n != 2 || n == len(line) || line[n] != ' ' {
		return 0
	}
	return len("-- ")
}

func rem(line []byte) int {
	if len(line) > 4 && (string(line[:4]) == "rem " || string(line[:4]) == "REM ") {
		return len("rem ")
	}
	return 0
}

func quotes(line []byte) int {
	n := 0
	for n < len(line) && n < 16 && (line[n] == '>' || line[n] == ' ' && n > 0) {
		n++
	}
	if n == 0 || line[n-1] != ' ' {
		return 0
	}
	return n
}

func pluses(line []byte) int {
	n := run(line, '+')
	if n == 0 || n > 4 || n == len(line) || line[n] != ' ' {
		return 0
	}
	return n + 1
}

func items(line []byte) int {
	if (line[0] == '-' || line[0] == '*') && line[1] == ' ' {
		if n := blanks(line, 2); n < len(line) {
			return n
		}
	}
	return 0
}

// mostName bounds how long the name of a file is that stands before the lines found in it, in bytes.
const mostName = 160

// found reads what a search puts before a line: its number, or the file and the number.
func found(line []byte) int {
	at := 0
	if !isDigit(line[0]) || run(line, line[0]) == 0 {
		at = fileName(line)
		if at == 0 {
			return 0
		}
	}
	n := at
	for n < len(line) && n-at < 8 && isDigit(line[n]) {
		n++
	}
	if n == at || n >= len(line)-1 || line[n] != ':' && (line[n] != '-' || at > 0) {
		return 0
	}
	sign, next := line[n], line[n+1]
	if sign == '-' && isDigit(next) || next == ' ' && at == 0 && sign == ':' {
		return 0 // a date; a key that is a number
	}
	if sign == ':' && at == 0 && n <= 2 && n+3 < len(line) && isDigit(next) && isDigit(line[n+2]) && (line[n+3] == ':' || line[n+3] == ' ') {
		return 0 // a time
	}
	return n + 1
}

// fileName gives the length of the name of a file with its colon at the beginning of a line, if a number follows it.
func fileName(line []byte) int {
	n := bytes.IndexByte(line[:min(len(line), mostName)], ':')
	if n < 3 || n+2 >= len(line) || !isDigit(line[n+1]) {
		return 0
	}
	name := line[:n]
	dot := bytes.LastIndexByte(name, '.')
	if bytes.IndexByte(name, '/') < 0 && (dot <= 0 || dot == n-1) || bytes.ContainsAny(name, "=\"'(){}[]<>,;|") {
		return 0
	}
	if dot > 0 && isDigit(name[n-1]) && isDigit(name[0]) { // an address
		return 0
	}
	return n + 1
}

func numbered(line []byte) int {
	at := blanks(line, 0)
	n := at
	for n < len(line) && n-at < 6 && isDigit(line[n]) {
		n++
	}
	switch {
	case n == at || n+1 >= len(line):
		return 0
	case line[n] == '\t':
		return n + 1
	case at > 0 && line[n] == ' ' && line[n+1] == ' ':
		return n + 2
	}
	return 0
}

func message(line []byte) int {
	const head = "MESSAGE="
	if len(line) > len(head) && string(line[:len(head)]) == head {
		return len(head)
	}
	return 0
}

func container(line []byte) int {
	if len(line) < 30 || line[4] != '-' || line[10] != 'T' {
		return 0
	}
	n := bytes.IndexByte(line[:min(len(line), 40)], ' ')
	if n < 20 {
		return 0
	}
	rest := line[n+1:]
	if !bytes.HasPrefix(rest, []byte("stdout ")) && !bytes.HasPrefix(rest, []byte("stderr ")) {
		return 0
	}
	if rest = rest[len("stdout "):]; len(rest) < 3 || rest[0] != 'F' && rest[0] != 'P' || rest[1] != ' ' {
		return 0
	}
	return n + 1 + len("stdout ") + 2
}
