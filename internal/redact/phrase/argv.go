package phrase

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"

	"envask/internal/redact/chars"
)

// Program is a row of the table of programs: how they are called, and which of their arguments are secrets and names. Args are parted by
// blanks; each is one argument or several, one after the other, with + between:
//
//	-p{secret!}       an argument that begins so
//	-u+{user!}        an option and its value, also with = between
//	add_user+*+{...}  words and what follows them
//	2+{secret!}       the second of the plain arguments; last is the last one
//
// Only where a plain argument is asked for, the program must stand where commands begin.
type Program struct {
	Names, Args string
	Yes, No     []string // as those of phrases
}

// argument is a compiled one.
type argument struct {
	place int // of a plain argument, from 1; -1 is the last one, 0 no plain one
	words []node
}

// Programs finds what stands in the arguments of programs.
type Programs struct {
	byName map[string][]argument
	plain  map[string]bool // those of which plain arguments tell
	judge  Judge
}

// limits of commands.
const (
	mostArguments = 64
	mostCommand   = 2 << 10 // bytes
)

// NewPrograms compiles rows; one that cannot be compiled, or lacks an example, is an error.
func NewPrograms(rows []Program, judge Judge) (*Programs, error) {
	p := &Programs{byName: map[string][]argument{}, judge: judge}
	for _, r := range rows {
		if len(r.Yes) == 0 || len(r.No) == 0 {
			return nil, fmt.Errorf("%s: an example is missing", r.Names)
		}
		var args []argument
		for _, text := range strings.Fields(r.Args) {
			a, err := compileArgument(text)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", r.Names, err)
			}
			args = append(args, a)
		}
		for _, name := range strings.Fields(r.Names) {
			p.byName[name] = append(p.byName[name], args...)
		}
	}
	p.plain = p.Anchors()
	return p, nil
}

func compileArgument(text string) (a argument, err error) {
	for i, part := range strings.Split(text, "+") {
		if i == 0 {
			if part == "last" {
				a.place = -1
				continue
			}
			if n, err := strconv.Atoi(part); err == nil {
				a.place = n
				continue
			}
		}
		n, err := compileWord(part)
		if err != nil {
			return a, err
		}
		if n.kind == literal {
			n.exact = true // -p and -P differ
		}
		a.words = append(a.words, n)
	}
	return a, nil
}

// Named gives the program whose name ends before a blank, if one of its plain arguments tells.
func (p *Programs) Named(b []byte, blank int) string {
	start := blank
	for start > 0 && blank-start < 24 && (chars.IsWord(b[start-1]) || b[start-1] == '-' || b[start-1] == '.') {
		start--
	}
	if name := p.known(b[start:blank]); p.plain[name] {
		return name
	}
	return ""
}

// Anchors gives the names of programs of whose plain arguments one tells: they are looked for behind their names.
func (p *Programs) Anchors() map[string]bool {
	out := map[string]bool{}
	for name, args := range p.byName {
		for _, a := range args {
			if a.place != 0 || !a.isOption() {
				out[name] = true
			}
		}
	}
	return out
}

// isOption reports whether an argument begins with a dash, at which it is looked for.
func (a *argument) isOption() bool {
	first := &a.words[0]
	if first.kind == literal {
		return first.words[0][0] == '-'
	}
	return first.kind == slots && first.pieces[0].text != "" && first.pieces[0].text[0] == '-'
}

// nameByte are those of the path of a program.
func nameByte(c byte) bool {
	return chars.IsWord(c) || c == '-' || c == '.' || c == '/' || c == '\\' || c == ':' || c == '~'
}

// Before gives the program of the table that stands last before a place of a line, from another place on: where its arguments begin.
func (p *Programs) Before(b []byte, from, to int) (name string, args int) {
	for at := to; at > from; {
		for at > from && !nameByte(b[at-1]) {
			at--
		}
		end := at
		for at > from && nameByte(b[at-1]) {
			at--
		}
		if known := p.known(b[at:end]); known != "" && end < to {
			return known, end
		}
	}
	return "", 0
}

// known gives the name under which a program stands in the table.
func (p *Programs) known(path []byte) string {
	if n := bytes.LastIndexAny(path, `/\`); n >= 0 {
		path = path[n+1:]
	}
	path = bytes.TrimSuffix(path, []byte(".exe"))
	if len(path) < 2 || len(path) > 24 {
		return ""
	}
	if _, ok := p.byName[string(path)]; ok {
		return string(path)
	}
	return ""
}

// At gives what stands in the arguments of a program whose name ends at a place, and where they end.
func (p *Programs) At(b []byte, name string, end int, each func(Found)) (until int) {
	args, until := arguments(b, end)
	m := matcher{b: b, judge: p.judge, from: end, to: min(len(b), end+mostCommand)}
	plain, command := 0, p.command(b, end)
	for i, arg := range args {
		option := b[arg.start] == '-'
		isPlain := !option && (i == 0 || !bytes.HasPrefix(b[args[i-1].start:], []byte("-")) || args[i-1].end-args[i-1].start != 2)
		if isPlain {
			plain++
		}
		for k := range p.byName[name] {
			a := &p.byName[name][k]
			if m.found = m.found[:0]; m.argument(a, args, i, plain, isPlain || a.place < 0 && !option, command) && m.give(each) {
				break
			}
		}
	}
	return until
}

// command reports whether a program whose name ends at a place stands where commands begin.
func (p *Programs) command(b []byte, end int) bool {
	start := end
	for start > 0 && nameByte(b[start-1]) {
		start--
	}
	if p.judge.Begins(b, start) {
		return true
	}
	before := bytes.TrimRight(b[max(0, start-24):start], " \t")
	if len(before) == 0 {
		return true
	}
	if bytes.IndexByte([]byte("$#|;&(`'\"%>=+"), before[len(before)-1]) >= 0 {
		return true
	}
	word := before[bytes.LastIndexAny(before, " \t/")+1:]
	switch string(word) {
	case "sudo", "exec", "time", "nohup", "then", "do", "CMD", "RUN", "xargs", "env", "watch", "doas":
		return true
	}
	return len(word) == 8 && word[2] == ':' && word[5] == ':' // the time of a process
}

// argument matches one of the table with the arguments from one on.
func (m *matcher) argument(a *argument, args []token, i, plain int, isPlain, command bool) bool {
	words := a.words
	switch {
	case a.place > 0:
		if !isPlain || !command || plain != a.place {
			return false
		}
	case a.place < 0:
		if !isPlain || !command || i != len(args)-1 {
			return false
		}
	case words[0].kind == literal:
		if joined, ok := m.joined(&words[0], args[i]); ok && len(words) == 2 {
			return m.fitsToken(&words[1], joined)
		}
	}
	if i+len(words) > len(args) {
		return false
	}
	for k := range words {
		arg := args[i+k]
		if words[k].kind == slots && words[k].pieces[0].text != "" && longOptions.HasBytes(bytes.TrimLeft(m.b[arg.start:arg.end], "-")) {
			return false // -user is no -u with "ser" behind it
		}
		if k > 0 && arg.quote == 0 && m.b[arg.start] == '-' && words[k].kind == slots && words[k].pieces[0].slot != "" {
			return false // the next option
		}
		if words[k].kind == literal && !words[k].fits(m.b[arg.start:arg.end]) || words[k].kind != literal && !m.fitsToken(&words[k], arg) {
			return false
		}
	}
	return true
}

// longOptions are options that some programs take behind one dash.
var longOptions = chars.WordSet("user username password passwd pass port path print project profile public private")

// joined gives the value of an option with = between.
func (m *matcher) joined(n *node, t token) (token, bool) {
	for _, w := range n.words {
		if head := w + "="; w[0] == '-' && bytes.HasPrefix(m.b[t.start:t.end], []byte(head)) {
			v := token{t.start + len(head), t.end, t.quote}
			if v.end-v.start > 2 && (m.b[v.start] == '"' || m.b[v.start] == '\'') && m.b[v.end-1] == m.b[v.start] {
				v = token{v.start + 1, v.end - 1, m.b[v.start]}
			}
			return v, v.start < v.end
		}
	}
	return token{}, false
}

// arguments gives those behind the name of a program, up to where its command ends.
func arguments(b []byte, at int) (args []token, until int) {
	to := min(len(b), at+mostCommand)
	for len(args) < mostArguments {
		for at < to && (chars.IsSpace(b[at]) || bytes.IndexByte([]byte(",'\"])"), b[at]) >= 0 && !opensArgument(b, at, to)) {
			at++
		}
		if at >= to || bytes.IndexByte([]byte("\n\r|;&<"), b[at]) >= 0 {
			return args, at
		}
		if n := numberedArgument(b[at:to]); n > 0 {
			at += n
		}
		t, ok := next(b, at, to)
		if !ok {
			return args, at
		}
		if t.quote == 0 {
			t.end = unquotedEnd(b, t)
		}
		if t.end == t.start {
			at++
			continue
		}
		args = append(args, t)
		at = t.past(b)
	}
	return args, at
}

// numberedArgument gives the length of a1= before an argument, as audits of systems write them.
func numberedArgument(b []byte) int {
	n := 1
	for n < len(b) && n < 4 && b[n] >= '0' && b[n] <= '9' {
		n++
	}
	if b[0] != 'a' || n == 1 || n+1 >= len(b) || b[n] != '=' || b[n+1] != '"' {
		return 0
	}
	return n + 1
}

// opensArgument reports whether a quote at a place begins an argument.
func opensArgument(b []byte, at, to int) bool {
	return (b[at] == '"' || b[at] == '\'') && at+1 < to && at > 0 && (chars.IsSpace(b[at-1]) || b[at-1] == ',' || b[at-1] == '[') &&
		!chars.IsSpace(b[at+1]) && b[at+1] != ',' && b[at+1] != ']'
}

// unquotedEnd gives where an argument without quotes ends: before what ends a command, or a text in which it stands.
func unquotedEnd(b []byte, t token) int {
	quote := byte(0)
	for i := t.start; i < t.end; i++ {
		switch c := b[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case (c == '"' || c == '\'') && bytes.IndexByte(b[i+1:t.end], c) >= 0:
			quote = c
		case c == '"' || c == ';' || c == '|' || c == '`':
			return i
		case c == '\'' && i > t.start && (i+1 == t.end || bytes.IndexByte([]byte(",)]"), b[i+1]) >= 0):
			return i
		}
	}
	return t.end
}
