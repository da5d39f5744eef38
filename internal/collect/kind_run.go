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
		if typist, ok := w.target.(reach.Typist); ok {
			return takeTypedMakes(ctx, w, spec, typist)
		}
		return takeMakes(ctx, w, spec)
	}
	if spec.Arrives != nil {
		return takePushed(ctx, w, spec)
	}
	jobs, err := w.jobs(ctx, spec)
	if err != nil {
		w.add(round.Entry{Source: spec.Commands[0], State: stateOf(err), Reason: transfer.Plain(err)})
		return errors.Join(w.failure(), lostBy(w.target, err))
	}
	w.report(Event{Kind: ItemSize, System: w.sys.Name, Item: w.item.ID, Files: len(jobs)})
	run, why := w.executor(spec)
	if spec.Into != "" && !w.dryRun && run != nil {
		return takeInto(ctx, w, spec, run, jobs)
	}
	for _, j := range jobs {
		e := round.Entry{Source: j.command, Member: j.member}
		if had, ok := w.done.get(j.command); ok && had.Name == j.name {
			w.add(had)
			continue
		}
		switch {
		case run == nil:
			e.State, e.Reason = round.Failed, why
		case j.unfilled != nil:
			e.Source, e.State, e.Reason = j.template, round.Failed, j.unfilled.Error()
		case !w.budget.reserve(0):
			e.State, e.Reason = round.Skipped, w.budget.why()
		case w.probing:
			if e.State, e.Reason = w.lookUp(ctx, j.command); e.State == round.Taken {
				e.Name = j.name
			}
		case w.dryRun:
			e.State, e.Name, e.Reason = round.Taken, j.name, fmt.Sprintf("would run, at most %s", spec.Timeout)
		default:
			if err := runOne(ctx, w, spec, run, j, &e); err != nil {
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

// job is one command of an item, filled in.
type job struct {
	template, command string
	member            string // of a stack or cluster; "" for none
	name              string // of its file
	unfilled          error
}

// jobs gives the commands of an item, once for each member where it is taken for each.
func (w *work) jobs(ctx context.Context, spec ask.Run) ([]job, error) {
	members := []string{""}
	if w.item.EachMember != "" {
		var err error
		if members, err = w.memberNames(ctx); err != nil {
			return nil, err
		}
	}
	var out []job
	for _, member := range members {
		w.member = member
		for i, template := range spec.Commands {
			j := job{template: template, member: member, name: "commands/" + w.item.ID + ".txt"}
			j.command, j.unfilled = w.fill(ctx, template, "")
			switch {
			case member != "" && spec.Single:
				j.name = fmt.Sprintf("commands/%s/%s.txt", w.item.ID, SafePath(member))
			case member != "":
				j.name = fmt.Sprintf("commands/%s/%s-%02d-%s.txt", w.item.ID, SafePath(member), i+1, slug(template))
			case !spec.Single:
				j.name = fmt.Sprintf("commands/%s/%02d-%s.txt", w.item.ID, i+1, slug(template))
			}
			out = append(out, j)
		}
	}
	return out, nil
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

// lookUp finds out whether a command is there. What a device knows is not looked up: that would be to type it.
func (w *work) lookUp(ctx context.Context, line string) (round.State, string) {
	if _, typed := w.target.(reach.Typist); typed {
		return round.Taken, notLookedUp + ": a device has no list of its commands"
	}
	run, _ := w.runner()
	return lookUp(ctx, run, line)
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

// executed is a command that was run.
type executed struct {
	outputs [2]*transfer.Tail
	ran     *round.Ran
	state   round.State
	reason  string
	err     error // of the connection
}

// executor runs a command of an item on its system; the error is for our own failures.
type executor func(ctx context.Context, command string) (*executed, error)

// executor gives what runs the item's commands; why says why there is none.
func (w *work) executor(spec ask.Run) (run executor, why string) {
	if typist, ok := w.target.(reach.Typist); ok {
		return func(ctx context.Context, command string) (*executed, error) {
			return w.typeCommand(ctx, spec, typist, command)
		}, ""
	}
	runner, why := w.runner()
	switch {
	case runner == nil:
		return nil, why
	case len(spec.Answers) > 0:
		return nil, "answers: are for devices with a command line"
	}
	return func(ctx context.Context, command string) (*executed, error) {
		return w.runCommand(ctx, spec, runner, command)
	}, ""
}

// runOne runs one command and writes its output down. Only what concerns more than this command is an error.
func runOne(ctx context.Context, w *work, spec ask.Run, run executor, j job, e *round.Entry) error {
	x, err := run(ctx, j.command)
	if x != nil {
		defer x.remove()
	}
	if err != nil {
		return err
	}
	e.Command, e.State, e.Reason = x.ran, x.state, x.reason
	if err := writeOutput(w, j.name, x.outputs, x.ran, e); err != nil {
		return err
	}
	return w.goneWith(x, e)
}

// goneWith gives the reason when the connection is gone with a command; what came of it is kept.
func (w *work) goneWith(x *executed, e *round.Entry) error {
	if gone := lostBy(w.target, x.err); gone != nil && x.err != nil {
		w.add(*e)
		return gone
	}
	return nil
}

func (x *executed) remove() {
	for _, t := range x.outputs {
		if t != nil {
			t.Remove()
		}
	}
}

// tails makes room for the two outputs of a command; stop is called when one does not end.
func (w *work) tails(spec ask.Run, stop func()) (outputs [2]*transfer.Tail, err error) {
	for i := range outputs {
		if outputs[i], err = transfer.NewTail(w.round.PartDir(), spec.Max); err != nil {
			return outputs, err
		}
		outputs[i].OnLocal, outputs[i].Runaway, outputs[i].Stop = w.fail, spec.Max*runawayFactor, stop
	}
	return outputs, nil
}

// runCommand runs a command in a shell.
func (w *work) runCommand(ctx context.Context, spec ask.Run, runner reach.Runner, command string) (x *executed, err error) {
	runCtx, cancel := context.WithTimeout(ctx, spec.Timeout)
	defer cancel()
	x = &executed{}
	if x.outputs, err = w.tails(spec, cancel); err != nil {
		return x, err
	}
	begun := time.Now()
	x.ran = &round.Ran{Line: command, Started: begun.UTC().Truncate(time.Millisecond)}
	var out io.Writer = x.outputs[0]
	digest := sha256.New()
	if w.item.Together != "" {
		out = io.MultiWriter(out, digest)
	}
	exit, err := runner.Run(runCtx, command, out, x.outputs[1])
	x.ran.Exit, x.ran.Took = exit, time.Since(begun).Round(time.Millisecond)
	if w.item.Together != "" {
		x.ran.Output = hex.EncodeToString(digest.Sum(nil))
	}
	if ctx.Err() != nil {
		return x, ctx.Err()
	}
	if err := w.failure(); err != nil {
		return x, err
	}
	x.err = err
	how := commandAnswer{outputs: x.outputs, exit: exit, ended: runCtx.Err(), err: err, timeout: spec.Timeout, fine: spec.Fine,
		required: w.item.Required}
	x.state, x.reason = how.judge()
	return x, nil
}

var streamNames = [2]string{"standard output", "standard error"}

// writeOutput writes the output file: a head that says what ran and how it went, then both streams.
func writeOutput(w *work, name string, outputs [2]*transfer.Tail, ran *round.Ran, e *round.Entry) error {
	part := w.part()
	defer os.Remove(part) // fails harmlessly after the rename
	n, sum, err := writePart(part, func(out io.Writer) error {
		return writeAnswer(out, outputs, ran, e.Reason)
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

// writeAnswer writes what ran and how it went, then both streams.
func writeAnswer(out io.Writer, outputs [2]*transfer.Tail, ran *round.Ran, reason string) error {
	how := "exit code: " + exitText(ran.Exit)
	if ran.Typed {
		how = "prompt:    " + ran.Prompt
	}
	fmt.Fprintf(out, "command:   %s\n%s\nstarted:   %s\ntook:      %s\n", strings.ReplaceAll(ran.Line, "\n", "\n           "), how,
		ran.Started.Format(time.RFC3339), ran.Took)
	if reason != "" {
		fmt.Fprintf(out, "note:      %s\n", reason)
	}
	for i, t := range outputs {
		if i == 1 && t.Total == 0 {
			continue
		}
		if ran.Typed {
			fmt.Fprintln(out)
		} else {
			fmt.Fprintf(out, "\n---- %s ----\n", streamNames[i])
		}
		if d := t.Dropped(); d > 0 {
			fmt.Fprintf(out, "[the first %d bytes were not kept]\n", d)
		}
		if err := t.CopyTo(out); err != nil {
			return err
		}
	}
	return nil
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
