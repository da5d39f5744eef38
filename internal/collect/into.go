package collect

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/round"
)

// takeInto runs the commands of an item and writes all that they print into one file: an entry whose state is that of its worst part.
func takeInto(ctx context.Context, w *work, spec ask.Run, run executor, jobs []job) error {
	var lines []string
	for _, j := range jobs {
		lines = append(lines, j.template)
	}
	e := round.Entry{Source: strings.Join(lines, "; ")}
	if had, ok := w.done.get(e.Source); ok {
		w.add(had)
		return w.failure()
	}
	if !w.budget.reserve(0) {
		e.State, e.Reason = round.Skipped, w.budget.why()
		w.add(e)
		return w.failure()
	}
	begun := time.Now()
	e.Command = &round.Ran{Line: e.Source, Started: begun.UTC().Truncate(time.Millisecond)}
	e.State = round.Taken
	part := w.part()
	defer os.Remove(part) // fails harmlessly after the rename
	var gone error
	n, sum, err := writePart(part, func(out io.Writer) error {
		for i, j := range jobs {
			if i > 0 {
				fmt.Fprint(out, "\n\n")
			}
			var err error
			if gone, err = intoOne(ctx, w, run, j, out, &e); err != nil || gone != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	e.Command.Took = time.Since(begun).Round(time.Millisecond)
	e.Bytes, e.Size, e.SHA256, e.ModTime = n, n, sum, e.Command.Started
	w.count(n)
	w.budget.spend(n)
	if err := w.settlePlace(part, "commands/"+w.item.ID+"/"+SafePath(w.intoName(spec, begun)), &e); err != nil {
		return err
	}
	w.add(e)
	if gone != nil {
		return gone
	}
	return w.failure()
}

// intoOne adds the output of one command.
func intoOne(ctx context.Context, w *work, run executor, j job, out io.Writer, e *round.Entry) (gone, err error) {
	worse := func(state round.State, reason string) {
		e.State = round.Worse(e.State, state)
		if state != round.Taken {
			e.Reason = round.Join(e.Reason, j.template+": "+reason)
		}
	}
	if j.unfilled != nil {
		worse(round.Failed, j.unfilled.Error())
		return nil, writeAnswer(out, [2]*transfer.Tail{{}, {}}, &round.Ran{Line: j.template, Exit: -1}, j.unfilled.Error())
	}
	x, err := run(ctx, j.command)
	if x != nil {
		defer x.remove()
	}
	if err != nil {
		return nil, err
	}
	worse(x.state, x.reason)
	e.Command.Typed, e.Command.Prompt, e.Command.Exit = x.ran.Typed, x.ran.Prompt, max(e.Command.Exit, x.ran.Exit)
	if err := writeAnswer(out, x.outputs, x.ran, x.reason); err != nil {
		return nil, err
	}
	if x.err != nil {
		gone = lostBy(w.target, x.err)
	}
	return gone, nil
}

// intoName fills in the name of the one file.
func (w *work) intoName(spec ask.Run, at time.Time) string {
	zone, _ := w.zone()
	return strings.NewReplacer("{date}", at.In(zone).Format("20060102"), "{system}", w.sys.Name, "{case}", w.req.Case,
		"{member}", w.member).Replace(spec.Into)
}
