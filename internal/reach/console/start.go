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

// greet answers what comes before the first prompt: a login, a key to press, pages of a banner.
func (s *Session) greet(ctx context.Context) error {
	user, password, woken := false, false, false
	heard := time.Now()
	for {
		got, err := s.next(ctx, settle)
		if err != nil {
			if password && s.broken != nil {
				return &LoginError{err.Error()}
			}
			return err
		}
		if got {
			heard = time.Now()
			continue
		}
		line := strings.TrimSpace(s.line())
		quiet := time.Since(heard)
		switch {
		case password && saysNo().MatchString(s.out.first) || password && asksUser().MatchString(line):
			return &LoginError{s.lastSaid()}
		case asksPassword().MatchString(line) && s.set.Password != nil:
			if password {
				return &LoginError{"it asks for the password again"}
			}
			text, err := s.set.Password()
			if err != nil {
				return err
			}
			password, heard = true, time.Now()
			s.secrets.add(text)
			s.out.first = ""
			s.screen.end()
			if err := s.send(text + s.set.LineEnd); err != nil {
				return err
			}
		case asksUser().MatchString(line) && s.set.User != "" && !user:
			user, heard = true, time.Now()
			s.screen.end()
			if err := s.send(s.set.User + s.set.LineEnd); err != nil {
				return err
			}
		case s.prompt.pattern != nil && s.prompt.matches(line) && quiet >= settle:
			return nil
		case quiet >= settleSure && line != "" && s.greeted(line):
			heard = time.Now()
			s.screen.clear()
			if err := s.send(s.keyFor(line)); err != nil {
				return err
			}
		case quiet >= settleSure && line != "" && s.prompt.pattern == nil && promptEnd().MatchString(line):
			return nil
		case quiet >= wakeWait && !woken:
			woken, heard = true, time.Now()
			if err := s.enter(); err != nil {
				return err
			}
		case quiet >= wakeWait && line != "" && s.prompt.pattern == nil && !asksPassword().MatchString(line):
			return nil // a prompt without any usual sign
		}
	}
}

func (s *Session) lastSaid() string {
	for _, l := range strings.Split(s.out.first, "\n") {
		if saysNo().MatchString(l) {
			return strings.ToValidUTF8(strings.TrimSpace(l), "?")
		}
	}
	return "it asks for the name again"
}

// greeted reports whether a line waits for a key before anybody may come in.
func (s *Session) greeted(line string) bool {
	return s.keyFor(line) != ""
}

func (s *Session) keyFor(line string) string {
	for _, r := range s.set.Pages {
		if r.When != nil && r.When.MatchString(line) {
			return s.ended(r.Text)
		}
	}
	for _, g := range greetings() {
		if g.MatchString(line) {
			return s.set.LineEnd
		}
	}
	for _, p := range pagers() {
		if p.When.MatchString(line) {
			return s.ended(p.Key)
		}
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
