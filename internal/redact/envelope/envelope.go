// Package envelope knows what programs and people put before lines that others wrote: the signs of comments and quotations, the numbers
// and names of searches, the heads of containers' logs. What follows is a line of its own, and reads as such.
package envelope

import (
	"bytes"
	"slices"

	"envask/internal/redact/chars"
)

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
		[]string{"12:00:01 x", "2026-03-14 x", "x:12", "192.0.2.1:12:x", "key:12:value"}},
	{"numbered line", numbered, []string{"  12\tx", "12\tx", "  211  mysql -px", " 1001  x"}, []string{"12 x", "  12 x", "2.5  x"}},
	{"message of a journal", message, []string{"MESSAGE=x"}, []string{"MESSAGE_ID=x", "MESSAGE="}},
	{"line of a container", container, []string{"2026-03-14T06:12:00.1Z stdout F x", "2026-03-14T06:12:00Z stderr P x"},
		[]string{"2026-03-14T06:12:00Z x", "2026-03-14T06:12:00Z stdout X x"}},
}

// byFirst are the rows that can fit lines with each first byte.
var byFirst = func() (rows [256][]*Prefix) {
	for _, r := range []struct {
		firsts string
		names  []string
	}{
		{"/", []string{"comment of a program"}},
		{";", []string{"comment of a table of settings"}},
		{"-", []string{"comment of SQL", "item of a list"}},
		{"rR", []string{"comment of a batch file"}},
		{">", []string{"quoted mail"}},
		{"+", []string{"trace of a shell"}},
		{"*", []string{"item of a list"}},
		{"0123456789", []string{"line of a search", "numbered line"}},
		{" \t", []string{"numbered line"}},
		{"M", []string{"message of a journal"}},
	} {
		for _, c := range []byte(r.firsts) {
			for i := range Prefixes {
				if slices.Contains(r.names, Prefixes[i].Name) {
					rows[c] = append(rows[c], &Prefixes[i])
				}
			}
		}
	}
	return rows
}()

// Of gives how long what stands before a line is, in bytes; 0 where the line is as it was written.
func Of(line []byte) int {
	if len(line) < 3 {
		return 0
	}
	first := line[0]
	if chars.IsDigit(first) && len(line) > 10 && line[4] == '-' && line[7] == '-' { // a date
		return container(line)
	}
	for _, p := range byFirst[first] {
		if n := p.Of(line); n > 0 && n < len(line) {
			return n
		}
	}
	if namesFile[first] {
		if n := found(line); n < len(line) {
			return n
		}
	}
	return 0
}

// namesFile are the bytes with which names of files before lines found in them begin.
var namesFile = func() (set [256]bool) {
	for c := range 256 {
		b := byte(c)
		set[c] = b|0x20 >= 'a' && b|0x20 <= 'z' || b == '.' || b == '/' || b == '_' || b == '~'
	}
	return set
}()

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
	if !chars.IsDigit(line[0]) || run(line, line[0]) == 0 {
		at = fileName(line)
		if at == 0 {
			return 0
		}
	}
	n := at
	for n < len(line) && n-at < 8 && chars.IsDigit(line[n]) {
		n++
	}
	if n == at || n >= len(line)-1 || line[n] != ':' && (line[n] != '-' || at > 0) {
		return 0
	}
	sign, next := line[n], line[n+1]
	if sign == '-' && chars.IsDigit(next) {
		return 0 // a date
	}
	if sign == ':' && at == 0 && n <= 2 && isMinutes(line[n+1:]) {
		return 0 // a time
	}
	return n + 1
}

// isMinutes reports whether a text begins with the minutes of a time.
func isMinutes(text []byte) bool {
	return len(text) > 2 && chars.IsDigit(text[0]) && chars.IsDigit(text[1]) && (text[2] == ':' || text[2] == ' ')
}

// fileName gives the length of the name of a file with its colon at the beginning of a line, if a number follows it.
func fileName(line []byte) int {
	n := bytes.IndexByte(line[:min(len(line), mostName)], ':')
	if n < 3 || n+2 >= len(line) || !chars.IsDigit(line[n+1]) {
		return 0
	}
	name := line[:n]
	dot := bytes.LastIndexByte(name, '.')
	if bytes.IndexByte(name, '/') < 0 && (dot <= 0 || dot == n-1) || bytes.ContainsAny(name, "=\"'(){}[]<>,;|") {
		return 0
	}
	if dot > 0 && chars.IsDigit(name[n-1]) && chars.IsDigit(name[0]) { // an address
		return 0
	}
	return n + 1
}

func numbered(line []byte) int {
	at := blanks(line, 0)
	n := at
	for n < len(line) && n-at < 6 && chars.IsDigit(line[n]) {
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
	n := len("2026-03-14T06:12:00")
	for n < len(line)-11 && n < 40 && line[n] != ' ' {
		n++
	}
	if line[n] != ' ' || line[n+1] != 's' || line[n+2] != 't' {
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
