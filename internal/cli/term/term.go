package term

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	xterm "golang.org/x/term"
)

// Screen is where a command writes to and asks.
type Screen struct {
	In      io.Reader
	Out     io.Writer // results
	Err     io.Writer // progress, messages, questions
	Color   bool
	Live    bool // Err is a terminal that may be drawn upon
	Ask     bool // somebody sits there and can answer
	Quiet   bool
	Verbose bool
	Ended   <-chan struct{} // is closed when the program is to end: no question stays open then; nil is never
	Width   int             // columns of the terminal; Unlimited when there is none
}

// Unlimited is the width of what is written to a file or pipe: nothing is wrapped there, so that grep finds whole lines.
const Unlimited = 1 << 20

// usualWidth is that of a terminal that does not tell its own.
const usualWidth = 80

// New finds out what the given streams are. noColor is what the engineer said (NO_COLOR, --no-color).
func New(in io.Reader, out, errOut io.Writer, noColor bool) *Screen {
	s := &Screen{In: in, Out: out, Err: errOut, Width: Unlimited}
	if fd, ok := terminal(out); ok {
		s.Color = !noColor
		s.Width = usualWidth
		if w, _, err := xterm.GetSize(fd); err == nil && w > 0 {
			s.Width = max(w, 40)
		}
	}
	if _, ok := terminal(errOut); ok {
		s.Live = true
		_, s.Ask = terminal(in)
	}
	return s
}

func terminal(stream any) (int, bool) {
	f, ok := stream.(*os.File)
	if !ok || !xterm.IsTerminal(int(f.Fd())) {
		return 0, false
	}
	return int(f.Fd()), true
}

// Clean gives text in which every byte that could steer a terminal is shown escaped.
func Clean(s string) string {
	plain := true
	for i := 0; i < len(s) && plain; i++ {
		plain = s[i] >= 0x20 && s[i] < 0x7f
	}
	if plain {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n <= 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Zl, r) || unicode.Is(unicode.Zp, r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteString(s[i : i+n])
		}
		i += n
	}
	return b.String()
}

// Say writes a message, unless the engineer wants quiet.
func (s *Screen) Say(format string, args ...any) {
	if !s.Quiet {
		s.say(format+"\n", args...)
	}
}

// say writes a message.
func (s *Screen) say(format string, args ...any) {
	_, _ = io.WriteString(s.Err, safe(fmt.Sprintf(format, args...))) // a message that cannot be shown stops nothing
}

// Detail writes a message that only --verbose shows.
func (s *Screen) Detail(format string, args ...any) {
	if s.Verbose {
		s.say(format+"\n", args...)
	}
}

// Print writes a line of the result.
func (s *Screen) Print(format string, args ...any) {
	_, _ = io.WriteString(s.Out, safe(fmt.Sprintf(format+"\n", args...))) // whoever gave Out remembers what could not be written
}

// Confirm asks for a yes. Anything but y or yes is a no.
func (s *Screen) Confirm(question string) (bool, error) {
	s.say("%s [y/N] ", question)
	line, err := s.await(func() ([]byte, error) {
		line, err := bufio.NewReader(io.LimitReader(s.In, 1<<10)).ReadString('\n')
		return []byte(line), err
	})
	if err != nil && err != io.EOF {
		return false, err
	}
	answer := strings.ToLower(strings.TrimSpace(string(line)))
	return answer == "y" || answer == "yes", nil
}

// Line asks for a line of text.
func (s *Screen) Line(question string) (string, error) {
	s.say("%s ", question)
	line, err := s.await(func() ([]byte, error) {
		line, err := bufio.NewReader(io.LimitReader(s.In, 4<<10)).ReadString('\n')
		return []byte(line), err
	})
	if err != nil && err != io.EOF {
		return "", err
	}
	return strings.TrimSpace(string(line)), nil
}

// Pick asks which of several answers is meant, by its number; anything else is none, -1.
func (s *Screen) Pick(question string, answers []string) (int, error) {
	for i, a := range answers {
		s.say("  %d  %s\n", i+1, a)
	}
	s.say("%s [1-%d] ", question, len(answers))
	line, err := s.await(func() ([]byte, error) {
		line, err := bufio.NewReader(io.LimitReader(s.In, 1<<10)).ReadString('\n')
		return []byte(line), err
	})
	if err != nil && err != io.EOF {
		return -1, err
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(line)))
	if err != nil || n < 1 || n > len(answers) {
		return -1, nil
	}
	return n - 1, nil
}

// await waits for an answer, or for the end of the program: Ctrl-C at a question ends it at once.
func (s *Screen) await(read func() ([]byte, error)) ([]byte, error) {
	if s.Ended == nil {
		return read()
	}
	type answer struct {
		text []byte
		err  error
	}
	came := make(chan answer, 1)
	go func() {
		text, err := read()
		came <- answer{text, err}
	}()
	select {
	case a := <-came:
		return a.text, a.err
	case <-s.Ended:
		fmt.Fprintln(s.Err)
		return nil, context.Canceled
	}
}

// Secret asks for something that is not shown while it is typed.
func (s *Screen) Secret(question string) ([]byte, error) {
	fd, ok := terminal(s.In)
	if !ok {
		return nil, fmt.Errorf("nobody can be asked: %s", question)
	}
	s.say("%s: ", question)
	before, stateErr := xterm.GetState(fd)
	text, err := s.await(func() ([]byte, error) { return xterm.ReadPassword(fd) })
	if err != nil && stateErr == nil {
		_ = xterm.Restore(fd, before) // what is typed is shown again, whatever became of the question
	}
	fmt.Fprintln(s.Err)
	return text, err
}

// Field writes a line of the result that names what it says, wrapped below itself where the terminal is narrow.
func (s *Screen) Field(name, value string) { s.Named(2, 12, name, value) }

// Named writes a value beside its name: the name from one column on, and the value, which wraps at words, from another.
func (s *Screen) Named(first, at int, name, value string) {
	gap := strings.Repeat(" ", max(1, at-first-len([]rune(name))))
	for i, l := range strings.Split(Wrap(value, max(20, s.Width-at-1)), "\n") {
		if i > 0 {
			first, name, gap = at, "", ""
		}
		s.Print("%s%s%s%s", strings.Repeat(" ", first), name, gap, strings.TrimRight(l, " "))
	}
}

// Colours of words. They say what a state means, never more than the word itself says.
const (
	Good  = "32"
	Warn  = "33"
	Bad   = "31"
	Worst = "31;1"
	Faint = "2"
	Bold  = "1"
)

// Indented gives a line that begins some places in and goes on further in where the terminal is too narrow for it. Without a
// terminal it stays one line.
func (s *Screen) Indented(first, rest int, line string) string {
	if s.Width <= rest+20 || first+len([]rune(line)) < s.Width {
		return strings.Repeat(" ", first) + line
	}
	head, more, wrapped := strings.Cut(Wrap(line, s.Width-first-1), "\n")
	out := strings.Repeat(" ", first) + strings.TrimSpace(head)
	if !wrapped {
		return out
	}
	for _, l := range strings.Split(Wrap(strings.ReplaceAll(more, "\n", " "), s.Width-rest-1), "\n") {
		out += "\n" + strings.Repeat(" ", rest) + strings.TrimSpace(l)
	}
	return out
}

// Paint colours text where colours are wanted.
func (s *Screen) Paint(color, text string) string {
	if !s.Color || color == "" {
		return text
	}
	return paint(color, text)
}

// OnTerminal says whether results are read on a terminal.
func (s *Screen) OnTerminal() bool { return s.Width < Unlimited }
