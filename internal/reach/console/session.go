package console

import (
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"
)

// What a caller may act on.
var (
	ErrEnded    = errors.New("the session ended")
	ErrSilent   = errors.New("no answer")
	ErrNoPrompt = errors.New("no prompt")
	ErrAsked    = errors.New("the answer was refused, or one more is needed")
	ErrTooLong  = errors.New("it took too long in all")
)

// LoginError says how a device refused a login.
type LoginError struct{ Said string }

func (e *LoginError) Error() string { return "login refused: " + e.Said }

// ModeError says how a device refused to enter a mode.
type ModeError struct{ Said string }

func (e *ModeError) Error() string { return "the mode was not entered: " + e.Said }

// Settings say how a device is talked to.
type Settings struct {
	Prompt   *regexp.Regexp // nil: it is learnt
	User     string         // for a login over the stream
	Password func() (string, error)
	LineEnd  string // what ends a typed line; "" is a carriage return
	Pages    []Reply
	Start    time.Duration // how long the first prompt may take; 0: StartTimeout
}

// Reply is an answer to what a device asks: Text is typed as it is.
type Reply struct {
	When   *regexp.Regexp
	Text   string
	Secret bool
}

// Step is one line that is typed.
type Step struct {
	Type    string
	Answers []Reply
	Prompt  *regexp.Regexp // of what it leads to; nil: as before
	Silence time.Duration  // how long the device may be silent before it answers on
	Most    time.Duration  // how long all of it may take; 0 is no limit
	Learn   bool           // the prompt is learnt anew
	Hide    []string       // of what is typed
}

// Said is how a step went.
type Said struct {
	Prompt string // at which the device waits now
	First  string // the first lines of the answer
	Lines  int
	Bytes  int64
}

// StartTimeout bounds how long the first prompt may take.
const StartTimeout = 15 * time.Second

// Waits of a session.
const (
	settle     = 40 * time.Millisecond  // so long after the last byte a line counts as one that the device stopped at
	settleSure = 300 * time.Millisecond // where an empty line cannot confirm that
	settleNew  = 2 * time.Second        // so long after the last byte a line that looks like an unknown prompt is tried
	stopWait   = 600 * time.Millisecond // for the prompt, after a command was told to stop
	wakeWait   = time.Second            // so long silent at first, a device is woken with an empty line
)

// interrupt is what stops a command: Ctrl-C.
const interrupt = "\x03"

// Session is a conversation with one device. One caller uses it at a time.
type Session struct {
	stream   io.ReadWriteCloser
	set      Settings
	in       chan []byte
	readErr  error
	screen   screen
	out      *output
	record   record
	secrets  secrets
	prompt   prompt
	confirms bool // an empty line is answered by the prompt and nothing else
	broken   error
}

// Open begins a conversation: it logs in where the device asks for that, and finds out the prompt. The stream is closed on failure.
func Open(ctx context.Context, stream io.ReadWriteCloser, set Settings) (*Session, error) {
	if set.LineEnd == "" {
		set.LineEnd = "\r"
	}
	if set.Start <= 0 {
		set.Start = StartTimeout
	}
	s := &Session{stream: stream, set: set, in: make(chan []byte, 8), prompt: prompt{pattern: set.Prompt}}
	s.out = &output{secrets: &s.secrets, prompt: &s.prompt}
	s.record.secrets = &s.secrets
	s.screen.done = func(line []byte) { s.out.line(line) }
	go s.read()
	if err := s.start(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Session) read() {
	buf := make([]byte, 32<<10)
	for {
		n, err := s.stream.Read(buf)
		if n > 0 {
			s.in <- append([]byte(nil), buf[:n]...)
		}
		if err != nil {
			s.readErr = err
			close(s.in)
			return
		}
	}
}

// Close ends the conversation.
func (s *Session) Close() error {
	err := s.stream.Close()
	go func() {
		for range s.in { // so that the reader ends
		}
	}()
	if s.broken == nil {
		s.broken = ErrEnded
	}
	return err
}

// Broken says why the session cannot be used any more; nil when it can.
func (s *Session) Broken() error { return s.broken }

// Prompt gives the prompt as it stood there last.
func (s *Session) Prompt() string { return s.prompt.text }

// next takes what comes within a time. got is false when nothing did.
func (s *Session) next(ctx context.Context, wait time.Duration) (got bool, err error) {
	timer := time.NewTimer(max(wait, 0))
	defer timer.Stop()
	select {
	case b, ok := <-s.in:
		if !ok {
			s.broken = fmt.Errorf("%w: the device closed it", ErrEnded)
			if s.readErr != nil && !errors.Is(s.readErr, io.EOF) {
				s.broken = fmt.Errorf("%w: %w", ErrEnded, s.readErr)
			}
			return false, s.broken
		}
		s.screen.write(b)
		if err := s.record.write(b); err != nil {
			return true, err
		}
		return true, s.out.err
	case <-timer.C:
		return false, nil
	case <-ctx.Done():
		return false, ctx.Err()
	}
}

func (s *Session) send(text string) error {
	if _, err := io.WriteString(s.stream, text); err != nil {
		s.broken = fmt.Errorf("%w: %w", ErrEnded, err)
		return s.broken
	}
	return nil
}

// enter ends the line that stands there with an empty one.
func (s *Session) enter() error { return s.send(s.set.LineEnd) }

// line gives what stands in the line that is not ended.
func (s *Session) line() string { return string(s.screen.line) }

// Do types a line and passes the answer on. raw gets the session as it comes; both may be nil. An error other than the writers' says what
// the device did instead. When ctx ends, the command is told to stop.
func (s *Session) Do(ctx context.Context, step Step, to, raw io.Writer) (Said, error) {
	if s.broken != nil {
		return Said{}, s.broken
	}
	s.drain()
	for _, text := range step.Hide {
		s.secrets.add(text)
	}
	s.record.to, s.record.held = raw, nil
	s.out = &output{to: to, secrets: &s.secrets, prompt: &s.prompt, typed: step.Type, lead: s.prompt.text}
	s.screen.clear()
	turn := &turn{Session: s, step: step, begun: time.Now(), last: time.Now(), learn: step.Learn, old: s.prompt}
	if step.Prompt != nil {
		s.prompt = prompt{pattern: step.Prompt}
	}
	err := s.send(step.Type + s.set.LineEnd)
	if err == nil {
		err = turn.run(ctx)
	}
	if err != nil {
		s.prompt = turn.old
		s.out.release()
		if rest := s.out.last(s.screen.line); rest != "" {
			s.out.pass(rest)
		}
		s.stop(ctx.Err() != nil)
	}
	if e := s.record.end(); err == nil {
		err = e
	}
	if err == nil {
		err = s.out.err
	}
	said := Said{Prompt: s.prompt.text, First: s.out.first, Lines: s.out.lines, Bytes: s.out.bytes}
	s.out = &output{secrets: &s.secrets, prompt: &s.prompt}
	return said, err
}

// drain drops what came since the last answer.
func (s *Session) drain() {
	for {
		select {
		case b, ok := <-s.in:
			if !ok {
				return
			}
			s.screen.write(b)
		default:
			return
		}
	}
}

// stop tells a command to stop, and waits for the prompt. A session that gives none is of no use any more.
func (s *Session) stop(hurry bool) {
	if s.broken != nil {
		return
	}
	s.record.to = nil
	s.out = &output{secrets: &s.secrets, prompt: &s.prompt}
	s.screen.clear()
	if s.send(interrupt) != nil {
		return
	}
	wait := stopWait
	if !hurry {
		wait *= 3
	}
	ctx, cancel := context.WithTimeout(context.Background(), wait)
	defer cancel()
	for {
		got, err := s.next(ctx, settle)
		switch {
		case err != nil:
			if s.broken == nil {
				s.broken = fmt.Errorf("%w: it did not stop", ErrEnded)
			}
			s.Close()
			return
		case !got && s.prompt.matches(s.line()):
			return
		case !got && strings.TrimSpace(s.line()) == "":
			_, _ = s.next(ctx, settle)
		}
	}
}
