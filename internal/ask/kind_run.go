package ask

import (
	"fmt"
	"strings"
	"time"

	"envask/internal/keyfile"
)

// DefaultTimeout is how long a command may take when the ask does not say.
const DefaultTimeout = time.Minute

// DefaultMaxOutput is how much of a command's output is kept when the ask does not say, in bytes.
const DefaultMaxOutput = 64 << 20

// Run is an item that runs commands and keeps their output.
type Run struct {
	Commands []string // shell command lines
	Single   bool     // given as one command, not as a list: decides the name of the output file
	Timeout  time.Duration
	Max      int64 // bytes of output kept per command; the newest are kept
}

// Kind is the key that chooses this kind.
func (Run) Kind() string { return "run" }

// Sheet says which commands would run.
func (r Run) Sheet() []string {
	lines := make([]string, 0, len(r.Commands))
	for _, c := range r.Commands {
		lines = append(lines, fmt.Sprintf("run %s (at most %s)", c, r.Timeout))
	}
	return lines
}

func readRun(m *keyfile.Map) Spec {
	r := Run{Timeout: m.Duration("timeout", DefaultTimeout), Max: m.Size("max", DefaultMaxOutput)}
	commands := m.Strings("run")
	for _, v := range commands {
		if strings.TrimSpace(v.Text) == "" || strings.ContainsRune(v.Text, 0) {
			v.Problem("run: expected a command line, found %q", v.Text)
		}
		r.Commands = append(r.Commands, v.Text)
	}
	if len(commands) == 0 {
		m.Problem("run: names no command")
	}
	r.Single = len(commands) == 1
	return r
}
