package console

import (
	"context"
	"fmt"
	"strings"
	"time"
)

// turn is one line that was typed, until the prompt is there again.
type turn struct {
	*Session
	step    Step
	begun   time.Time
	last    time.Time // of the last byte
	quiet   bool      // what stands there was looked at
	learn   bool
	old     prompt       // the one at which the line was typed
	used    map[int]bool // of the answers
	asked   string       // the line that was answered last
	askedAt int          // how many lines had ended then

	tried   bool // an empty line was sent to see whether a prompt is one
	triedAt int  // how many prompts stood there then
	newText string
	// triedLines is how many lines had come then.
	triedLines int
}

// mostAnswers bounds how often a pager is answered in one turn; it is no limit for an output that ends.
const mostAnswers = 1 << 20

func (t *turn) run(ctx context.Context) error {
	for pages := 0; ; {
		got, err := t.next(ctx, t.wait())
		if err != nil {
			return err
		}
		if got {
			t.last, t.quiet = time.Now(), false
			continue
		}
		if t.step.Most > 0 && time.Since(t.begun) > t.step.Most {
			return fmt.Errorf("%w (over %s)", ErrTooLong, t.step.Most)
		}
		t.quiet = true
		line := t.line()
		switch {
		case t.answers(line) < 0 && !t.stillAsked(line) && t.isPrompt(line):
			done, err := t.confirmed(line)
			if done || err != nil {
				return err
			}
		case t.step.Prompt != nil && t.old.matches(line) && time.Since(t.last) >= 2*settleSure:
			return t.notEntered(line)
		case strings.TrimSpace(line) != "" && !t.stillAsked(line):
			answered, err := t.reply(line)
			if err != nil {
				return err
			}
			if answered {
				if pages++; pages > mostAnswers {
					return fmt.Errorf("%w: it was answered %d times at %q", ErrSilent, pages, t.out.last(t.screen.line))
				}
				continue
			}
		}
		if time.Since(t.last) >= t.step.Silence {
			return t.silent()
		}
	}
}

// wait gives how long nothing may come until what stands there is looked at (again).
func (t *turn) wait() time.Duration {
	left := t.step.Silence - time.Since(t.last)
	if t.step.Most > 0 {
		left = min(left, t.step.Most-time.Since(t.begun))
	}
	since := time.Since(t.last)
	switch {
	case !t.quiet:
		return min(settle, max(left, time.Millisecond))
	case since < settleSure:
		return min(settleSure-since, left)
	case since < 2*settleSure:
		return min(2*settleSure-since, left)
	case since < settleNew:
		return min(settleNew-since, left)
	}
	return left
}

// notEntered says why a mode was not entered: the prompt is the one of before.
func (t *turn) notEntered(line string) error {
	for _, l := range strings.Split(t.out.first, "\n") {
		if saysNo().MatchString(l) || strings.HasPrefix(l, "%") {
			return &ModeError{strings.ToValidUTF8(strings.TrimSpace(l), "?")}
		}
	}
	return &ModeError{fmt.Sprintf("the prompt is %q, expected one like %s", t.out.last([]byte(line)), t.step.Prompt)}
}

// silent says at what a device that says nothing more stands.
func (t *turn) silent() error {
	if at := t.out.last(t.screen.line); at != "" {
		return fmt.Errorf("%w for %s; it stands at %q", ErrSilent, t.step.Silence, at)
	}
	return fmt.Errorf("%w for %s", ErrSilent, t.step.Silence)
}

// isPrompt reports whether the line may be the prompt: the known one, or after a while one that looks like another.
func (t *turn) isPrompt(line string) bool {
	text := strings.TrimSpace(line)
	if text == "" || asksYesNo().MatchString(text) {
		return false
	}
	if t.prompt.matches(line) {
		return true
	}
	if !t.old.mayFollow(text) {
		return false
	}
	return t.newText == text || t.confirms && (t.learn || time.Since(t.last) >= settleNew) && t.step.Prompt == nil
}

// confirmed makes sure that a line is the prompt. Where an empty line is known to be answered by the prompt alone, one is typed: in the
// middle of an output, what looks like a prompt is followed by something else. Else the device must be silent for a while.
func (t *turn) confirmed(line string) (done bool, err error) {
	text := strings.TrimSpace(line)
	if !t.confirms {
		if time.Since(t.last) < settleSure {
			return false, nil
		}
		t.settle(line)
		return true, nil
	}
	if t.tried && t.out.tail > t.triedAt && t.newText == text {
		t.settle(line)
		return true, nil
	}
	if t.tried && t.newText == text && t.out.tail == t.triedAt && t.out.lines == t.triedLines {
		return false, nil // its answer is still on the way
	}
	if t.out.typed != "" && time.Since(t.last) < settleSure {
		return false, nil // not even what was typed has come back
	}
	t.out.typed = ""
	t.tried, t.triedAt, t.newText, t.triedLines = true, t.out.tail, text, t.out.lines
	if !t.prompt.matches(line) { // so that the line counts as one that looks like the prompt
		t.prompt = prompt{text: text}
	}
	t.last = time.Now()
	return false, t.enter()
}

func (t *turn) settle(line string) {
	t.out.close(line)
	if t.prompt.pattern == nil {
		t.prompt.learn(line)
	} else {
		t.prompt.text = strings.TrimSpace(line)
	}
}

// answers gives the number of the answer to a line that was not given yet; -1 when there is none.
func (t *turn) answers(line string) int {
	for i, r := range t.step.Answers {
		if !t.used[i] && r.When != nil && r.When.MatchString(line) {
			return i
		}
	}
	return -1
}

// reply answers a line at which the device waits.
func (t *turn) reply(line string) (bool, error) {
	if i := t.answers(line); i >= 0 {
		r := t.step.Answers[i]
		if t.used == nil {
			t.used = map[int]bool{}
		}
		t.used[i] = true
		if r.Secret {
			t.secrets.add(strings.TrimRight(r.Text, "\r\n"))
		}
		t.last, t.quiet = time.Now(), false
		t.asked, t.askedAt = line, t.screen.ends // the same line still stands there until the device goes on
		return true, t.send(t.ended(r.Text))
	}
	for i, r := range t.step.Answers {
		if t.used[i] && r.When != nil && r.When.MatchString(line) && time.Since(t.last) >= settleSure {
			return false, fmt.Errorf("%w: it asks again: %q", ErrAsked, t.out.last([]byte(line)))
		}
	}
	for _, r := range t.set.Pages {
		if r.When != nil && r.When.MatchString(line) {
			return true, t.turnPage(r.Text)
		}
	}
	if key, ok := pageKey(strings.TrimSpace(line)); ok {
		return true, t.turnPage(key)
	}
	return false, nil
}

// stillAsked reports whether a line is the one that was answered, to which the device has not said anything yet.
func (t *turn) stillAsked(line string) bool {
	return t.asked != "" && t.askedAt == t.screen.ends && strings.HasPrefix(line, t.asked)
}

// turnPage answers a pager; what it wrote is no part of the output.
func (t *turn) turnPage(key string) error {
	t.screen.clear()
	t.last, t.quiet = time.Now(), false
	return t.send(t.ended(key))
}

// ended writes the line end as this device wants it.
func (s *Session) ended(text string) string {
	if rest, ok := strings.CutSuffix(text, "\r"); ok {
		return rest + s.set.LineEnd
	}
	return text
}
