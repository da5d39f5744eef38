package collect

import (
	"context"
	"envask/internal/collect/transfer"
	"envask/internal/device"
	"envask/internal/reach/console"
	"envask/internal/round"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
)

// A command is taken when it answered. What a shell or a device says instead of an answer is kept, and the entry is failed with that
// text as its reason.

// runawayFactor says how many times the kept size a command may print before it is stopped.
const runawayFactor = 4

// commandAnswer is how a command went.
type commandAnswer struct {
	outputs  [2]*transfer.Tail
	exit     int
	ended    error // why it was stopped
	err      error // why it could not be run, or its end is not known
	timeout  time.Duration
	fine     []int // exit codes that are fine, also with an empty answer
	required bool
	typed    bool // on the command line of a device, which tells no exit code
	device   *device.Description
}

// refusals are lines with which shells and devices refuse a command, often with exit code 0. Only short answers are held against them:
// a log may hold such a line.
var refusals = sync.OnceValue(func() []*regexp.Regexp {
	return []*regexp.Regexp{
		regexp.MustCompile(`(?i)\bexec(ution)? requests? (is|are) not (supported|allowed)`),
		regexp.MustCompile(`(?i)\b(command|shell|exec) (execution )?(is )?not (supported|allowed|permitted|available|authorized)\b`),
		regexp.MustCompile(`(?i)\b(command not found|unknown command|no such command|invalid command|unrecogni[sz]ed ` +
			`command|unsupported command)\b`),
		regexp.MustCompile(`(?i)^\W*(% ?)?(invalid input|incomplete command|ambiguous command|bad command)\b`),
		regexp.MustCompile(`(?i)\bcommand authori[sz]ation failed\b`),
		regexp.MustCompile(`(?i)\bthis account is (currently )?not available\b`),
		regexp.MustCompile(`(?i)\bis not recognized as an internal or external command\b`),
		regexp.MustCompile(`(?i)^(-?\w*sh|/[\w/]+sh): (line )?.*(not found|cannot execute|permission denied)`),
	}
})

// refusalLines is up to how many lines an answer is held against refusals, and refusalBytes up to which length.
const (
	refusalLines = 4
	refusalBytes = 2 << 10
)

// refusal gives the line with which a command was refused; "" is an answer.
func refusal(text string) string {
	lines := strings.FieldsFunc(text, func(r rune) bool { return r == '\n' || r == '\r' })
	lines = slices.DeleteFunc(lines, func(l string) bool { return strings.TrimSpace(l) == "" })
	if len(text) > refusalBytes || len(lines) > refusalLines {
		return ""
	}
	for _, l := range lines {
		if slices.ContainsFunc(refusals(), func(r *regexp.Regexp) bool { return r.MatchString(strings.TrimSpace(l)) }) {
			return strings.TrimSpace(l)
		}
	}
	return ""
}

// said gives the first line of what a command printed, of standard error first.
func (a *commandAnswer) said() string {
	for _, i := range []int{1, 0} {
		if line := firstLine(a.outputs[i].Begin(refusalBytes)); line != "" {
			return line
		}
	}
	return ""
}

// empty reports whether nothing but white space came on standard output.
func (a *commandAnswer) empty() bool {
	out := a.outputs[0]
	return out.Total <= refusalBytes && strings.TrimSpace(out.Begin(refusalBytes)) == ""
}

// judge gives the state of a command's output, and the reason.
func (a *commandAnswer) judge() (round.State, string) {
	cut := ""
	for i, t := range a.outputs {
		if d := t.Dropped(); d > 0 {
			cut = round.Join(cut, fmt.Sprintf("%s: newest %s kept, %s before it dropped", streamNames[i],
				humanize.IBytes(uint64(t.Max)), humanize.IBytes(uint64(d))))
		}
	}
	switch {
	case a.outputs[0].RanAway || a.outputs[1].RanAway:
		return round.Cut, round.Join("stopped because its output did not end", cut)
	case a.typed && timedOut(a.err):
		return round.TimedOut, round.Join(transfer.Plain(a.err)+"; its output so far is kept", cut)
	case errors.Is(a.ended, context.DeadlineExceeded):
		return round.TimedOut, round.Join(fmt.Sprintf("stopped after %s; its output so far is kept", a.timeout), cut)
	case a.err != nil:
		return round.Failed, withText(transfer.Plain(a.err), a.said())
	}
	if why := a.refused(); why != "" {
		return round.Failed, why
	}
	switch {
	case cut != "":
		return round.Cut, cut
	case a.exit != 0:
		return round.Taken, fmt.Sprintf("exit code %d", a.exit)
	}
	return round.Taken, ""
}

// timedOut reports whether a device said nothing for too long, or took too long in all.
func timedOut(err error) bool {
	return errors.Is(err, console.ErrSilent) || errors.Is(err, console.ErrTooLong)
}

// refused says why an output is no answer; "" is nothing.
func (a *commandAnswer) refused() string {
	code := fmt.Sprintf("exit code %d", a.exit)
	switch {
	case slices.Contains(a.fine, a.exit):
		return ""
	case a.exit == 127:
		return withText(code+", no such command", a.said())
	case a.exit == 126:
		return withText(code+", the command cannot be executed", a.said())
	}
	if a.typed {
		short := a.outputs[0].Total <= refusalBytes
		if line := refusedBy(a.device, a.outputs[0].Begin(refusalBytes), short); line != "" {
			return withText("the device refused the command", line)
		}
	}
	if a.outputs[0].Total+a.outputs[1].Total <= refusalBytes {
		for i, t := range a.outputs {
			if i == 1 && !a.empty() {
				break // such as of the first half of "this || that"
			}
			if line := refusal(t.Begin(refusalBytes)); line != "" {
				return withText("the system refused the command", line)
			}
		}
	}
	switch {
	case !a.empty():
		return ""
	case a.exit != 0:
		return withText("no output, "+code, a.said())
	case a.required:
		return withText("no output", a.said())
	}
	return ""
}

// maxSaid bounds what of a command's words stands in a reason, in bytes.
const maxSaid = 200

func withText(why, said string) string {
	if said == "" {
		return why
	}
	return why + ": " + strings.ToValidUTF8(said[:min(len(said), maxSaid)], "")
}
