//go:build !windows

package collect

import (
	"context"
	"envask/internal/round"
	"testing"

	"github.com/stretchr/testify/require"
)

// An answer is taken; what a shell or a device says instead of one is not. Each refusal has a line like it that is an answer.
func TestRefusal(t *testing.T) {
	for text, refused := range map[string]bool{
		"exec requests are not supported\n":                                                  true,
		"\r\nError: exec request is not allowed\r\n":                                         true,
		"exec: the service is not supported by node 3\n":                                     false,
		"% Invalid input detected at '^' marker.\n":                                          true,
		"Invalid inputs: 0\n":                                                                false,
		"show setings\n     ^\n% Unknown command.\n":                                         true,
		"commands: 12 known, 3 unknown\n":                                                    false,
		"Command authorization failed.\n":                                                    true,
		"This account is currently not available.\n":                                         true,
		"-sh: boardingctl: not found\n":                                                      true,
		"sh: line 1: boardingctl: command not found\n":                                       true,
		"gate.log: pass 4711 not found\n":                                                    false,
		"shell access is disabled; command not permitted for user svc\n":                     true,
		"'gatectl' is not recognized as an internal or external command":                     true,
		"state ok\nlane 1 open\nlane 2 open\nlane 3 closed\ncommand not found in lane log\n": false, // an answer of many lines may hold one
		"": false,
	} {
		require.Equal(t, refused, refusal(text) != "", "%q", text)
	}
}

// What a command printed and how it ended decide whether it is what was asked for; the item's own codes are fine.
func TestCommandsThatAreRefused(t *testing.T) {
	f := newField(t)
	for run, want := range map[string]struct {
		state  round.State
		reason string
	}{
		"'no-such-tool --all', required: true":     {round.Failed, "exit code 127, no such command: "},
		"'touch plain; ./plain', required: true":   {round.Failed, "exit code 126, the command cannot be executed: "},
		"'echo exec requests are not supported'":   {round.Failed, "the system refused the command: exec requests are not supported"},
		"'echo sorry >&2; exit 1', required: true": {round.Failed, "no output, exit code 1: sorry"},
		"'exit 1'":               {round.Failed, "no output, exit code 1"},
		"'true', required: true": {round.Failed, "no output"},
		"'true'":                 {round.Taken, ""},
		"'echo 2 lanes closed; exit 3', required: true":      {round.Taken, "exit code 3"},
		"'exit 1', required: true, allow-exit: [1, 2]":       {round.Taken, "exit code 1"},
		"'true', required: true, allow-exit: 0":              {round.Taken, ""},
		"'no-such-tool || echo here', required: true":        {round.Taken, ""},
		"'echo half; no-such-tool', required: true":          {round.Failed, "exit code 127, no such command: "},
		"'exit 1', required: true, allow-exit: 2":            {round.Failed, "no output, exit code 1"},
		"'echo Invalid inputs: 0'":                           {round.Taken, ""},
		"'echo there; echo command not found >&2'":           {round.Taken, ""},
		"'echo command not found >&2'":                       {round.Failed, "the system refused the command: command not found"},
		"'seq 2000; echo command not found >&2'":             {round.Taken, ""},
		"'seq 2000; echo command not found >&2; exit 1'":     {round.Taken, "exit code 1"},
		"'printf \"\\n \\t\\n\"; exit 4', allow-exit: [0,4]": {round.Taken, "exit code 4"},
	} {
		r, err := f.collect(context.Background(), "  - {id: x, run: "+run+"}\n")
		require.NoError(t, err)
		cell := r.Coverage[0]
		require.Equal(t, want.state, cell.State, "%s: %s", run, cell.Reason)
		require.Contains(t, cell.Reason, want.reason, run)
		require.Equal(t, 1, cell.Files, run) // the output is kept, whatever it is
	}
}
