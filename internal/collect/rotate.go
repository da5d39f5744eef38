package collect

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"envask/internal/collect/transfer"
	"envask/internal/reach"
	"envask/internal/round"
)

// rotateFirst runs the command that makes the system close its current log. That it failed is an entry, and no reason not
// to take what is there.
func (f *filesWork) rotateFirst(ctx context.Context) error {
	command := f.spec.RotateFirst
	if command == "" {
		return nil
	}
	e := round.Entry{Source: command, State: round.Taken, Special: true}
	runner, ok := f.target.(reach.Runner)
	switch {
	case !ok:
		e.State, e.Special, e.Reason = round.Failed, false, "this system cannot run commands"
	case f.dryRun:
		e.Reason = fmt.Sprintf("would run first, at most %s", f.spec.RotateTimeout)
	default:
		out := transfer.Head{Room: 4096}
		runCtx, cancel := context.WithTimeout(ctx, f.spec.RotateTimeout)
		defer cancel()
		begun := time.Now()
		exit, err := runner.Run(runCtx, command, &out, &out)
		e.Command = &round.Ran{Line: command, Exit: exit, Started: begun.UTC().Truncate(time.Millisecond),
			Took: time.Since(begun).Round(time.Millisecond)}
		e.ModTime = e.Command.Started
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.Is(runCtx.Err(), context.DeadlineExceeded):
			e.State, e.Special, e.Reason = round.TimedOut, false,
				fmt.Sprintf("rotate-first was stopped after %s; the log is taken as it is",
					f.spec.RotateTimeout)
		case err != nil || exit != 0:
			e.State, e.Special, e.Reason = round.Failed, false, fmt.Sprintf("rotate-first ended with code %d; the log is taken as it is",
				exit)
			if text := strings.TrimSpace(out.String()); text != "" {
				e.Reason += ": " + text[:min(len(text), 200)]
			}
		default:
			e.Reason = "ran before the files were read"
		}
	}
	f.add(e)
	if gone := lost(f.target); gone != nil {
		return gone
	}
	return f.failure()
}
