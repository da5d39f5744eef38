package device

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"envask/internal/keyfile"
)

// Step is one line that is typed, and what is answered until a prompt comes again.
type Step struct {
	Type    string         `json:"type"`
	Answers []Reply        `json:"answers,omitempty"`    // each is given once
	Prompt  *regexp.Regexp `json:"prompt,omitempty"`     // of what it leads to; nil: as before
	Timeout time.Duration  `json:"timeout_ns,omitempty"` // how long it may be silent; 0: as the device may
	Expect  *regexp.Regexp `json:"expect,omitempty"`     // what its output has to contain; nil: anything
}

// Reply is an answer to what a device asks in the middle of a step.
type Reply struct {
	When   *regexp.Regexp `json:"when,omitempty"`   // the end of the line at which the device waits
	Give   string         `json:"give,omitempty"`   // what is typed, with Enter
	Secret string         `json:"secret,omitempty"` // where what is typed is: env:NAME, file:PATH or secret:NAME; "" for Give
	Press  string         `json:"press,omitempty"`  // a key, without Enter; "" for none
}

// Restored is how it is seen that a change was taken back: what a command prints then, and does not print any more.
type Restored struct {
	Type   string         `json:"type"`
	Like   *regexp.Regexp `json:"like,omitempty"`
	Unlike *regexp.Regexp `json:"unlike,omitempty"`
}

// Wrong says what an output of the command shows that it should not; "" when the change was taken back.
func (r *Restored) Wrong(output string) string {
	if r.Like != nil && !r.Like.MatchString(output) {
		return fmt.Sprintf("%s does not show %s", r.Type, r.Like)
	}
	if r.Unlike != nil {
		if still := r.Unlike.FindString(output); still != "" {
			return fmt.Sprintf("%s still shows %s", r.Type, strings.TrimSpace(still))
		}
	}
	return ""
}

// Undo is a step that takes a change back, and how it is seen that it did.
type Undo struct {
	Step
	Restored *Restored `json:"restored_when,omitempty"`
}

// String says what it does.
func (u Undo) String() string {
	text := u.Step.String()
	if u.Restored != nil && u.Restored.Like != nil {
		text += fmt.Sprintf(", then type %s and look for %s", u.Restored.Type, u.Restored.Like)
	}
	return text
}

// keys are those that are pressed, by name.
var keys = map[string]string{"space": " ", "enter": "\r", "escape": "\x1b", "tab": "\t"}

// ReadSteps reads the steps at a key.
func ReadSteps(m *keyfile.Map, key string) []Step {
	var out []Step
	for _, sm := range m.Maps(key) {
		out = append(out, readStep(sm, false, false))
		sm.Done()
	}
	return out
}

// ReadUndo reads the steps at a key that take a change back.
func ReadUndo(m *keyfile.Map, key string) []Undo {
	var out []Undo
	for _, sm := range m.Maps(key) {
		out = append(out, Undo{readStep(sm, false, false), readRestored(sm)})
		sm.Done()
	}
	return out
}

// ReadStep reads the one step at a key; nil when there is none.
func ReadStep(m *keyfile.Map, key string) *Step {
	sm := m.Map(key)
	if sm == nil {
		return nil
	}
	s := readStep(sm, false, false)
	sm.Done()
	return &s
}

// ReadAnswers reads the answers at the key "answers".
func ReadAnswers(m *keyfile.Map) []Reply { return readReplies(m, false) }

func readStep(m *keyfile.Map, own, deeper bool) Step {
	s := Step{Type: line("type", m.Need("type")), Answers: readReplies(m, own), Timeout: m.Duration("timeout", 0),
		Expect: m.Value("expect").Expression("expect")}
	if deeper {
		s.Prompt = m.Value("prompt").Expression("prompt")
	}
	return s
}

func readReplies(m *keyfile.Map, own bool) []Reply {
	var out []Reply
	for _, rm := range m.Maps("answers") {
		out = append(out, readReply(rm, own))
	}
	return out
}

func readReply(m *keyfile.Map, own bool) Reply {
	r := Reply{When: m.Need("when").Expression("when")}
	give, press := m.Value("give"), m.Value("press")
	switch {
	case give.Set() == press.Set():
		m.Problem("answers: say what to give (with Enter) or which key to press")
	case press.Set():
		r.Press = keys[press.Text]
		if r.Press == "" && len(press.Text) == 1 {
			r.Press = press.Text
		}
		if r.Press == "" {
			press.Problem("press: expected one character, or space, enter, escape or tab, found %q", press.Text)
		}
	case strings.HasPrefix(give.Text, "secret:"), own && (strings.HasPrefix(give.Text, "file:") || strings.HasPrefix(give.Text, "env:")):
		r.Secret = secret("give", give, own)
	default:
		if r.Give = give.Text; r.Give != "" {
			line("give", give)
		}
	}
	m.Done()
	return r
}

// secret checks where a secret is. The text is not repeated: it may be the secret itself.
func secret(key string, v keyfile.Value, own bool) string {
	name, named := strings.CutPrefix(v.Text, "secret:")
	file, isFile := strings.CutPrefix(v.Text, "file:")
	env, isEnv := strings.CutPrefix(v.Text, "env:")
	switch {
	case named && word().MatchString(name):
	case own && (isFile && file != "" || isEnv && env != ""):
	case own:
		v.Problem("%s: never stands here itself; write env:NAME, file:PATH or secret:NAME", key)
	default:
		v.Problem("%s: never stands in an ask; write secret:NAME, and give it in the systems file under secrets:", key)
	}
	return v.Text
}

// readRestored reads the check at the key "restored-when"; nil when there is none.
func readRestored(m *keyfile.Map) *Restored {
	rm := m.Map("restored-when")
	if rm == nil {
		return nil
	}
	r := &Restored{Type: line("type", rm.Need("type")), Like: rm.Need("like").Expression("like")}
	rm.Done()
	return r
}

// String says what a step does.
func (s Step) String() string {
	text := "type " + s.Type
	for _, r := range s.Answers {
		text += ", answer " + r.String()
	}
	return text
}

// String says what an answer gives, without what is secret.
func (r Reply) String() string {
	when := ""
	if r.When != nil {
		when = " to " + r.When.String()
	}
	switch {
	case r.Secret != "":
		name, named := strings.CutPrefix(r.Secret, "secret:")
		if named {
			return "the secret " + name + when
		}
		return "a password" + when
	case r.Press != "":
		for name, key := range keys {
			if key == r.Press {
				return "the key " + name + when
			}
		}
		return "the key " + r.Press + when
	case r.Give == "":
		return "Enter" + when
	}
	return r.Give + when
}

// Secrets lists where the secrets of a step are.
func (s Step) Secrets() []string {
	var out []string
	for _, r := range s.Answers {
		if r.Secret != "" {
			out = append(out, r.Secret)
		}
	}
	return out
}
