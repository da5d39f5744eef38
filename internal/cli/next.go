package cli

import (
	"regexp"
	"strings"
	"sync"

	"envask/internal/cli/term"
)

// Next steps are whole commands that can be copied, each on a line of its own, and name the case when the engineer did.

// next shows what can be done next.
func (s *session) next(commands ...string) {
	for i, c := range commands {
		lead := "next: "
		if i > 0 {
			lead = "      "
		}
		s.screen.Say("%s", lead+term.Clean(s.withCase("envask "+c)))
	}
}

// ofCase are the commands that work on a case, where they are named in a message.
var ofCase = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\benvask (add|brief|collect|compare|pack|probe|repair|reveal|review|run|show|submit|tidy)\b`)
})

// withCase adds the case to the commands in a message, when it was named: the command that is copied must not work on another one.
func (s *session) withCase(text string) string {
	name := s.common.caseName
	if name == "" || s.caseFromEnv || strings.Contains(text, "--case") {
		return text
	}
	return ofCase().ReplaceAllString(text, "envask $1 --case "+name)
}
