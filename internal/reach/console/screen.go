package console

import "bytes"

// screen turns what a terminal gets into lines of text, as they stand there in the end: what was overwritten, erased or taken back by
// backspaces is gone, and so are control sequences (ECMA-48).
type screen struct {
	line []byte // the one that is being written
	at   int    // where the next character goes
	done func(line []byte)
	ends int // how many lines were ended

	escape  escape
	numbers []byte // of a control sequence
}

// escape is how far a control sequence is.
type escape int

const (
	plain     escape = iota
	begun            // ESC came
	sequence         // ESC [
	text             // ESC ] or another that goes on to its end mark
	textBegun        // ESC in the middle of one
	skipOne          // ESC ( and such: one more byte
)

// maxLine is from which length a line is passed on in pieces, in bytes: a device may never end one.
const maxLine = 1 << 20

// maxNumbers bounds the numbers of a control sequence that are kept.
const maxNumbers = 16

func (s *screen) write(b []byte) {
	for len(b) > 0 {
		if s.escape == plain {
			n := 0
			for n < len(b) && b[n] >= ' ' && b[n] != 0x7f {
				n++
			}
			if n > 0 {
				s.print(b[:n])
				b = b[n:]
				continue
			}
		}
		s.control(b[0])
		b = b[1:]
	}
}

// print puts printable bytes at the cursor.
func (s *screen) print(b []byte) {
	if s.at < len(s.line) {
		if len(bytes.TrimLeft(s.line[s.at:], " ")) == 0 && b[0] != ' ' { // only blanks are under it: what was there was wiped out
			s.line = s.line[:s.at]
		} else {
			n := copy(s.line[s.at:], b)
			s.at += n
			b = b[n:]
			for s.at < len(s.line) && s.line[s.at]&0xc0 == 0x80 && len(b) == 0 { // the rest of a character that was overwritten
				s.line = append(s.line[:s.at], s.line[s.at+1:]...)
			}
		}
	}
	s.line = append(s.line, b...)
	s.at += len(b)
	if len(s.line) >= maxLine {
		s.end()
	}
}

func (s *screen) end() {
	s.ends++
	s.done(s.line)
	s.clear()
}

func (s *screen) clear() { s.line, s.at = s.line[:0], 0 }

func (s *screen) control(c byte) {
	switch s.escape {
	case plain:
		s.single(c)
	case begun:
		s.begin(c)
	case sequence:
		switch {
		case c >= '@' && c <= '~':
			s.escape = plain
			s.act(c)
		case len(s.numbers) < maxNumbers:
			s.numbers = append(s.numbers, c)
		}
	case text:
		switch c {
		case 0x07:
			s.escape = plain
		case 0x1b:
			s.escape = textBegun
		case '\n': // no such text has a line end: its end was lost
			s.escape = plain
			s.end()
		}
	case textBegun, skipOne:
		s.escape = plain
	}
}

// single acts on one control character.
func (s *screen) single(c byte) {
	switch c {
	case '\n':
		s.end()
	case '\r':
		s.at = 0
	case '\b':
		for s.at > 0 {
			s.at--
			if s.line[s.at]&0xc0 != 0x80 { // a character of UTF-8 is taken back whole
				break
			}
		}
	case '\t':
		s.print([]byte{'\t'})
	case 0x1b:
		s.escape = begun
	}
}

func (s *screen) begin(c byte) {
	switch {
	case c == '[':
		s.escape, s.numbers = sequence, s.numbers[:0]
	case c == ']', c == 'P', c == 'X', c == '^', c == '_':
		s.escape = text
	case c >= ' ' && c <= '/':
		s.escape = skipOne
	default:
		s.escape = plain
	}
}

// act acts on a control sequence: those that change the line. What moves the cursor elsewhere on the screen begins the line anew.
func (s *screen) act(c byte) {
	n := 0
	for _, d := range s.numbers {
		if d < '0' || d > '9' {
			break
		}
		n = min(n*10+int(d-'0'), maxLine)
	}
	switch c {
	case 'K':
		switch {
		case n == 0 && s.at < len(s.line):
			s.line = s.line[:s.at]
		case n == 2 || n == 1 && s.at >= len(s.line):
			s.line = s.line[:0]
			s.at = 0
		}
	case 'D':
		s.at = max(0, s.at-max(n, 1))
	case 'C':
		for range min(max(n, 1), 1000) {
			if s.at == len(s.line) {
				s.line = append(s.line, ' ')
			}
			s.at++
		}
	case 'G', 'H', 'f':
		s.at = 0
	case 'J':
		if n == 2 {
			s.clear()
		}
	}
}
