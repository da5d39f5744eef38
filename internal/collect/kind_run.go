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
	"regexp"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"envask/internal/ask"
	"envask/internal/reach"
)

// runawayFactor says how many times the kept size a command may print before it is stopped.
const runawayFactor = 4

// takeRun runs the item's commands one after the other and keeps their output.
func takeRun(ctx context.Context, w *work) error {
	spec := w.item.Spec.(ask.Run)
	if len(spec.Makes) > 0 {
		return takeMakes(ctx, w, spec)
	}
	w.report(Event{Kind: ItemSize, System: w.sys.Name, Item: w.item.ID, Files: len(spec.Commands)})
	runner, why := w.runner()
	for i, template := range spec.Commands {
		command, unfilled := w.fill(template, "")
		name := "commands/" + w.item.ID + ".txt"
		if !spec.Single {
			name = fmt.Sprintf("commands/%s/%02d-%s.txt", w.item.ID, i+1, slug(template))
		}
		e := Entry{Source: command}
		if had, ok := w.done[command]; ok && had.Name == name {
			w.add(had)
			continue
		}
		switch {
		case runner == nil:
			e.State, e.Reason = Failed, why
		case unfilled != nil:
			e.Source, e.State, e.Reason = template, Failed, unfilled.Error()
		case !w.budget.reserve(0):
			e.State, e.Reason = Skipped, w.budget.why()
		case w.probing:
			e.State, e.Reason = lookUp(ctx, runner, command)
		case w.dryRun:
			e.State, e.Name, e.Reason = Taken, name, fmt.Sprintf("would run, at most %s", spec.Timeout)
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
var plainCommand = regexp.MustCompile(`^[A-Za-z0-9_./+-]+$`)

// lookUp finds out whether a command is there, without running it. Of a line that begins with more than a plain word nothing
// is known beforehand.
func lookUp(ctx context.Context, runner reach.Runner, line string) (State, string) {
	word, _, _ := strings.Cut(strings.TrimSpace(line), " ")
	if !plainCommand.MatchString(word) {
		return Taken, "not looked up"
	}
	ctx, cancel := context.WithTimeout(ctx, clockTimeout)
	defer cancel()
	exit, err := runner.Run(ctx, "command -v "+word, io.Discard, io.Discard)
	switch {
	case err != nil:
		return stateOf(err), plain(err)
	case exit != 0:
		return Missing, "there is no command " + word
	}
	return Taken, ""
}

var notWord = regexp.MustCompile(`[^A-Za-z0-9]+`)

// slug makes a piece of a file name out of a command line.
func slug(command string) string {
	s := strings.Trim(notWord.ReplaceAllString(command, "-"), "-")
	if len(s) > 40 {
		s = strings.TrimRight(s[:40], "-")
	}
	if s == "" {
		s = "command"
	}
	return s
}

// runOne runs one command and writes its output down. Only what concerns more than this command is an error.
func runOne(ctx context.Context, w *work, runner reach.Runner, spec ask.Run, name string, e *Entry) error {
	runCtx, cancel := context.WithTimeout(ctx, spec.Timeout)
	defer cancel()
	var outputs [2]*tailFile
	for i := range outputs {
		t, err := newTailFile(w.round.partDir(), spec.Max)
		if err != nil {
			return err
		}
		defer t.remove()
		t.onLocal, t.runaway, t.stop = w.fail, spec.Max*runawayFactor, cancel
		outputs[i] = t
	}
	ran := &Ran{Line: e.Source, Started: time.Now().UTC().Truncate(time.Millisecond)}
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
	e.State, e.Reason = judgeRun(spec, outputs, exit, runCtx.Err(), err)
	if err := writeOutput(w, name, outputs, ran, e); err != nil {
		return err
	}
	if gone := lostBy(w.target, err); gone != nil && err != nil {
		w.add(*e)
		return gone
	}
	return nil
}

func judgeRun(spec ask.Run, outputs [2]*tailFile, exit int, ended, err error) (State, string) {
	cut := ""
	for i, t := range outputs {
		if d := t.dropped(); d > 0 {
			cut = join(cut, fmt.Sprintf("%s: newest %s kept, %s before it dropped", streamNames[i],
				humanize.IBytes(uint64(t.max)), humanize.IBytes(uint64(d))))
		}
	}
	switch {
	case outputs[0].onlyOnce || outputs[1].onlyOnce:
		return Cut, join("stopped because it printed without end", cut)
	case errors.Is(ended, context.DeadlineExceeded):
		return TimedOut, join(fmt.Sprintf("stopped after %s; what it had printed is kept", spec.Timeout), cut)
	case err != nil:
		return Failed, join(plain(err), cut)
	case exit == 127:
		return Missing, "the command is not there (exit code 127)"
	case exit == 126:
		return Denied, "the command may not be run (exit code 126)"
	case cut != "":
		return Cut, cut
	case exit != 0:
		return Taken, fmt.Sprintf("exit code %d", exit)
	}
	return Taken, ""
}

var streamNames = [2]string{"standard output", "standard error"}

// writeOutput writes the output file: a head that says what ran and how it went, then both streams.
func writeOutput(w *work, name string, outputs [2]*tailFile, ran *Ran, e *Entry) error {
	part := w.part()
	defer os.Remove(part) // fails harmlessly after the rename
	n, sum, err := writePart(part, func(out io.Writer) error {
		fmt.Fprintf(out, "command:   %s\nexit code: %s\nstarted:   %s\ntook:      %s\n", strings.ReplaceAll(ran.Line, "\n", "\n           "),
			exitText(ran.Exit), ran.Started.Format(time.RFC3339), ran.Took)
		if e.Reason != "" {
			fmt.Fprintf(out, "note:      %s\n", e.Reason)
		}
		for i, t := range outputs {
			if i == 1 && t.total == 0 {
				continue
			}
			fmt.Fprintf(out, "\n---- %s ----\n", streamNames[i])
			if d := t.dropped(); d > 0 {
				fmt.Fprintf(out, "[the first %d bytes were not kept]\n", d)
			}
			if err := t.copyTo(out); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	e.Bytes, e.SHA256, e.ModTime = n, sum, ran.Started
	e.Size = outputs[0].total + outputs[1].total
	w.count(n)
	w.budget.spend(n)
	return w.settlePlace(part, name, e)
}

// writePart writes a file of ours that is not under its final name yet, and gives its size and SHA-256.
func writePart(part string, write func(io.Writer) error) (int64, string, error) {
	f, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, "", ours(err)
	}
	sum := sha256.New()
	buf := bufio.NewWriterSize(io.MultiWriter(f, sum), 64<<10)
	if err = write(buf); err == nil {
		err = buf.Flush()
	}
	info, statErr := f.Stat()
	if err = errors.Join(err, statErr, f.Close()); err != nil {
		return 0, "", ours(err)
	}
	return info.Size(), hex.EncodeToString(sum.Sum(nil)), nil
}

func exitText(exit int) string {
	if exit < 0 {
		return "none, it did not end by itself"
	}
	return fmt.Sprint(exit)
}
