package console

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// learnTries is how often an empty line is typed to learn the prompt.
const learnTries = 6

// start logs in and finds out the prompt.
func (s *Session) start(ctx context.Context) error {
	inTime, cancel := context.WithTimeout(ctx, s.set.Start)
	defer cancel()
	err := s.greet(inTime)
	if err == nil {
		err = s.learn(inTime)
	}
	if err != nil && ctx.Err() == nil && errors.Is(inTime.Err(), context.DeadlineExceeded) && errors.Is(err, context.DeadlineExceeded) {
		what := "nothing came"
		if at := s.out.last(s.screen.line); at != "" {
			what = fmt.Sprintf("it stands at %q", at)
		} else if said := strings.TrimSpace(s.out.first); said != "" {
			lines := strings.Split(said, "\n")
			what = fmt.Sprintf("the last line was %q", strings.ToValidUTF8(lines[len(lines)-1], "?"))
		}
		if s.prompt.pattern != nil {
			what = fmt.Sprintf("expected one like %s, and %s", s.prompt.pattern, what)
		}
		return fmt.Errorf("%w within %s: %s", ErrNoPrompt, s.set.Start, what)
	}
	return err
}

// entering is what is done before the first prompt.
type entering struct {
	*Session
	user, password, woken bool // what was given
	heard                 time.Time
}

// greet answers what comes before the first prompt: a login, a key to press, pages of a banner.
func (s *Session) greet(ctx context.Context) error {
	e := &entering{Session: s, heard: time.Now()}
	for {
		got, err := s.next(ctx, settle)
		switch {
		case err != nil && e.password && s.broken != nil:
			return &LoginError{err.Error()}
		case err != nil:
			return err
		case got:
			e.heard = time.Now()
			continue
		}
		if there, err := e.look(strings.TrimSpace(s.line())); there || err != nil {
			return err
		}
	}
}

// look acts on a line at which the device stopped, and reports whether it may be the prompt.
func (e *entering) look(line string) (there bool, err error) {
	quiet := time.Since(e.heard)
	asked, err := e.login(line)
	switch {
	case asked || err != nil:
		return false, err
	case e.prompt.pattern != nil && e.prompt.matches(line) && !asksYesNo().MatchString(line):
		return true, nil
	case quiet >= settleSure && line != "" && e.keyFor(line) != "":
		key := e.keyFor(line)
		e.screen.clear()
		return false, e.give(key)
	case asks(line): // an empty line might say yes
		return false, nil
	case quiet >= settleSure && line != "" && e.prompt.pattern == nil && promptEnd().MatchString(line):
		return true, nil
	case quiet >= wakeWait && !e.woken:
		e.woken = true
		return false, e.give(e.set.LineEnd)
	}
	// A prompt may have none of the usual signs.
	return quiet >= wakeWait && line != "" && e.prompt.pattern == nil && !asksPassword().MatchString(line), nil
}

func (e *entering) give(text string) error {
	e.heard = time.Now()
	return e.send(text)
}

// login answers the questions of a login. The password is given once.
func (e *entering) login(line string) (asked bool, err error) {
	asks := asksPassword().MatchString(line) && e.set.Password != nil
	switch {
	case e.password && (saysNo().MatchString(e.out.first) || asksUser().MatchString(line)):
		return true, &LoginError{e.lastSaid()}
	case asks && e.password:
		return true, &LoginError{"it asks for the password again"}
	case asks:
		text, err := e.set.Password()
		if err != nil {
			return true, err
		}
		e.password = true
		e.secrets.add(text)
		e.out.first = ""
		e.screen.end()
		return true, e.give(text + e.set.LineEnd)
	case asksUser().MatchString(line) && e.set.User != "" && !e.user:
		e.user = true
		e.screen.end()
		return true, e.give(e.set.User + e.set.LineEnd)
	}
	return false, nil
}

func (s *Session) lastSaid() string {
	for _, l := range strings.Split(s.out.first, "\n") {
		if saysNo().MatchString(l) {
			return strings.ToValidUTF8(strings.TrimSpace(l), "?")
		}
	}
	return "it asks for the name again"
}

// keyFor gives what a line waits for before anybody may come in; "" is nothing.
func (s *Session) keyFor(line string) string {
	for _, r := range s.set.Pages {
		if r.When != nil && r.When.MatchString(line) {
			return s.ended(r.Text)
		}
	}
	for _, g := range greetings() {
		if g.MatchString(line) && !warns().MatchString(line) {
			return s.set.LineEnd
		}
	}
	if key, ok := pageKey(line); ok {
		return s.ended(key)
	}
	return ""
}

// learn types empty lines and watches what settles. It finds out, too, whether an empty line is answered by the prompt alone: some
// devices repeat the last command.
func (s *Session) learn(ctx context.Context) error {
	var seen []string
	alone := true
	for range learnTries {
		s.out = &output{secrets: &s.secrets, prompt: &prompt{}}
		s.screen.clear()
		if err := s.enter(); err != nil {
			return err
		}
		line, err := s.settled(ctx)
		if err != nil {
			return err
		}
		if asks(line) && (s.prompt.pattern == nil || !s.prompt.matches(line)) {
			return fmt.Errorf("%w: it asks %q", ErrNoPrompt, s.out.last(s.screen.line))
		}
		alone = alone && strings.TrimSpace(s.out.first) == ""
		if s.prompt.pattern != nil && !s.prompt.matches(line) {
			continue
		}
		text := strings.TrimSpace(line)
		if len(seen) > 0 && seen[len(seen)-1] == text {
			s.confirms = alone && !slices.ContainsFunc(seen, func(x string) bool { return x != text })
			if s.prompt.pattern == nil {
				s.prompt.learn(line)
			} else {
				s.prompt.text = text
			}
			s.out = &output{secrets: &s.secrets, prompt: &s.prompt}
			return nil
		}
		seen = append(seen, text)
	}
	<-ctx.Done() // it never settled
	return ctx.Err()
}

// settled waits until a line stands there and nothing more comes.
func (s *Session) settled(ctx context.Context) (string, error) {
	heard := time.Now()
	for {
		got, err := s.next(ctx, settle)
		switch {
		case err != nil:
			return "", err
		case got:
			heard = time.Now()
		case strings.TrimSpace(s.line()) == "":
		case s.prompt.pattern != nil && s.prompt.matches(s.line()), time.Since(heard) >= 2*settle:
			return s.line(), nil
		}
	}
}
