package collect

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/late"
	"envask/internal/reach"
	"envask/internal/round"
)

// takeRun runs the item's commands one after the other and keeps their output.
func takeRun(ctx context.Context, w *work) error {
	spec := w.item.Spec.(ask.Run)
	if len(spec.Makes) > 0 {
		return takeMakes(ctx, w, spec)
	}
	w.report(Event{Kind: ItemSize, System: w.sys.Name, Item: w.item.ID, Files: len(spec.Commands)})
	runner, why := w.runner()
	for i, template := range spec.Commands {
		command, unfilled := w.fill(ctx, template, "")
		name := "commands/" + w.item.ID + ".txt"
		if !spec.Single {
			name = fmt.Sprintf("commands/%s/%02d-%s.txt", w.item.ID, i+1, slug(template))
		}
		e := round.Entry{Source: command}
		if had, ok := w.done.get(command); ok && had.Name == name {
			w.add(had)
			continue
		}
		switch {
		case runner == nil:
			e.State, e.Reason = round.Failed, why
		case unfilled != nil:
			e.Source, e.State, e.Reason = template, round.Failed, unfilled.Error()
		case !w.budget.reserve(0):
			e.State, e.Reason = round.Skipped, w.budget.why()
		case w.probing:
			e.State, e.Reason = lookUp(ctx, runner, command)
		case w.dryRun:
			e.State, e.Name, e.Reason = round.Taken, name, fmt.Sprintf("would run, at most %s", spec.Timeout)
		default:
			if err := runOne(ctx, w, runner, spec, name, &e); err != nil {
				return err
			}
		}
		w.add(e)
		if err := w.failure(); err != nil {
			return err
		}
	}
	return nil
}

// plainCommand is the first word of a command line that names a program and nothing else.
var plainCommand = late.Pattern(`^[A-Za-z0-9_./+-]+$`)

// notLookedUp is said of a command line of which nothing is known beforehand.
const notLookedUp = "not looked up"

// lookUp finds out whether a command is there, without running it. Of a line that begins with more than a plain word, or that goes on
// without its first command, nothing is known beforehand; nor of a system whose shell is no POSIX one: it may have commands of its own.
func lookUp(ctx context.Context, runner reach.Runner, line string) (round.State, string) {
	word, _, _ := strings.Cut(strings.TrimSpace(line), " ")
	if !plainCommand().MatchString(word) || strings.ContainsAny(strings.ReplaceAll(line, "&&", ""), ";\n&") ||
		strings.Contains(line, "||") {
		return round.Taken, notLookedUp
	}
	ctx, cancel := context.WithTimeout(ctx, clockTimeout)
	defer cancel()
	var out transfer.Head
	out.Room = 4096
	_, err := runner.Run(ctx, "command -v sh >/dev/null 2>&1 && { command -v "+word+
		" >/dev/null 2>&1 && echo there || echo absent; }", &out, io.Discard)
	said := strings.TrimSpace(out.String())
	said = said[strings.LastIndexByte(said, '\n')+1:] // some systems greet first
	switch {
	case err != nil:
		return stateOf(err), transfer.Plain(err)
	case said == "absent":
		return round.Failed, "no such command: " + word
	case said != "there":
		return round.Taken, notLookedUp + ": this system has no POSIX shell"
	}
	return round.Taken, ""
}

var notWord = late.Pattern(`[^A-Za-z0-9]+`)

// slug makes a piece of a file name out of a command line.
func slug(command string) string {
	s := strings.Trim(notWord().ReplaceAllString(command, "-"), "-")
	if len(s) > 40 {
		s = strings.TrimRight(s[:40], "-")
	}
	if s == "" {
		s = "command"
	}
	return s
}

// runOne runs one command and writes its output down. Only what concerns more than this command is an error.
func runOne(ctx context.Context, w *work, runner reach.Runner, spec ask.Run, name string, e *round.Entry) error {
	runCtx, cancel := context.WithTimeout(ctx, spec.Timeout)
	defer cancel()
	var outputs [2]*transfer.Tail
	for i := range outputs {
		t, err := transfer.NewTail(w.round.PartDir(), spec.Max)
		if err != nil {
			return err
		}
		defer t.Remove()
		t.OnLocal, t.Runaway, t.Stop = w.fail, spec.Max*runawayFactor, cancel
		outputs[i] = t
	}
	ran := &round.Ran{Line: e.Source, Started: time.Now().UTC().Truncate(time.Millisecond)}
	begun := time.Now()
	var out io.Writer = outputs[0]
	digest := sha256.New()
	if w.item.Together != "" {
		out = io.MultiWriter(outputs[0], digest)
	}
	exit, err := runner.Run(runCtx, e.Source, out, outputs[1])
	ran.Exit, ran.Took = exit, time.Since(begun).Round(time.Millisecond)
	if w.item.Together != "" {
		ran.Output = hex.EncodeToString(digest.Sum(nil))
	}
	e.Command = ran
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err := w.failure(); err != nil {
		return err
	}
	how := commandAnswer{outputs: outputs, exit: exit, ended: runCtx.Err(), err: err, timeout: spec.Timeout, fine: spec.Fine,
		required: w.item.Required}
	e.State, e.Reason = how.judge()
	if err := writeOutput(w, name, outputs, ran, e); err != nil {
		return err
	}
	if gone := lostBy(w.target, err); gone != nil && err != nil {
		w.add(*e)
		return gone
	}
	return nil
}

var streamNames = [2]string{"standard output", "standard error"}

// writeOutput writes the output file: a head that says what ran and how it went, then both streams.
func writeOutput(w *work, name string, outputs [2]*transfer.Tail, ran *round.Ran, e *round.Entry) error {
	part := w.part()
	defer os.Remove(part) // fails harmlessly after the rename
	n, sum, err := writePart(part, func(out io.Writer) error {
		fmt.Fprintf(out, "command:   %s\nexit code: %s\nstarted:   %s\ntook:      %s\n",
			strings.ReplaceAll(ran.Line, "\n", "\n           "),
			exitText(ran.Exit), ran.Started.Format(time.RFC3339), ran.Took)
		if e.Reason != "" {
			fmt.Fprintf(out, "note:      %s\n", e.Reason)
		}
		for i, t := range outputs {
			if i == 1 && t.Total == 0 {
				continue
			}
			fmt.Fprintf(out, "\n---- %s ----\n", streamNames[i])
			if d := t.Dropped(); d > 0 {
				fmt.Fprintf(out, "[the first %d bytes were not kept]\n", d)
			}
			if err := t.CopyTo(out); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	e.Bytes, e.SHA256, e.ModTime = n, sum, ran.Started
	e.Size = outputs[0].Total + outputs[1].Total
	w.count(n)
	w.budget.spend(n)
	return w.settlePlace(part, name, e)
}

// writePart writes a file of ours that is not under its final name yet, and gives its size and SHA-256.
func writePart(part string, write func(io.Writer) error) (int64, string, error) {
	f, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, "", transfer.Ours(err)
	}
	sum := sha256.New()
	buf := bufio.NewWriterSize(io.MultiWriter(f, sum), 64<<10)
	if err = write(buf); err == nil {
		err = buf.Flush()
	}
	info, statErr := f.Stat()
	if err = errors.Join(err, statErr, f.Close()); err != nil {
		return 0, "", transfer.Ours(err)
	}
	return info.Size(), hex.EncodeToString(sum.Sum(nil)), nil
}

func exitText(exit int) string {
	if exit < 0 {
		return "none, it did not end by itself"
	}
	return fmt.Sprint(exit)
}
