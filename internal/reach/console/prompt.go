package console

import (
	"regexp"
	"strings"

	"envask/internal/late"
)

// prompt is what a device shows when it waits for a command.
type prompt struct {
	pattern *regexp.Regexp // as given
	text    string         // as it stood there last
	like    *regexp.Regexp // the same in another mode
}

// matches reports whether a line is the prompt.
func (p *prompt) matches(line string) bool {
	line = strings.TrimLeft(line, " ")
	trimmed := strings.TrimRight(line, " ")
	if trimmed == "" {
		return false
	}
	if p.pattern != nil {
		return p.pattern.MatchString(line) || p.pattern.MatchString(trimmed) || p.pattern.MatchString(trimmed+" ")
	}
	return p.text != "" && (trimmed == p.text || p.like != nil && p.like.MatchString(trimmed))
}

var promptParts = late.Pattern(`^(.*?[A-Za-z0-9._-]*)(\([^()]*\))?([>#$%:\])»~]+)$`)

// learn takes a line as the prompt. A mode changes its last sign, or adds a word in parentheses.
func (p *prompt) learn(line string) {
	p.text = strings.TrimSpace(line)
	p.like = nil
	if m := promptParts().FindStringSubmatch(p.text); m != nil && strings.Trim(m[1], " ") != "" {
		p.like = regexp.MustCompile(`^` + regexp.QuoteMeta(m[1]) + `(\([^()]*\))?[>#$%:\])»~]+$`)
	}
}
