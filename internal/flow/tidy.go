package flow

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/posix"
	"envask/internal/reach"
	"envask/internal/site"
	"envask/internal/undo"
)

// Left is one thing of ours that is left on a system, and what became of it.
type Left struct {
	undo.Change
	Removed bool   `json:"removed"`
	Why     string `json:"why,omitempty"` // why it is still there
}

// LeftThere gives what the ledger says is ours and is still there.
func (a *App) LeftThere(c *casefile.Case) ([]Left, error) {
	pending, err := undo.Pending(c)
	var chain *casefile.ChainError
	if errors.As(err, &chain) { // what stands before the damage is known; to change anything, the ledger must be repaired
		err = nil
	}
	if err != nil {
		return nil, fault.Wrap("read the ledger", c.Name, err)
	}
	var out []Left
	for _, p := range pending {
		out = append(out, Left{Change: p})
	}
	return out, nil
}

// sayWhatIsLeft says at the begin of a collection what an earlier one left on systems. What it goes on with is not
// left.
func (a *App) sayWhatIsLeft(c *casefile.Case, col *collect.Collector) error {
	left, err := a.LeftThere(c)
	if err != nil {
		return err
	}
	goesOn, err := col.Making(c)
	if err != nil {
		return fault.Wrap("read the rounds", c.Name, err)
	}
	for _, l := range left {
		if onSystem(l.Change) && !goesOn[l.ID] && l.Kind != undo.KindCommand {
			a.note("%s on %s is ours and was left there on %s; envask tidy removes it", l.Path, l.Where, l.At.Format("2006-01-02 15:04"))
		}
	}
	return nil
}

// onSystem says whether a change was made on a system of the site, not over a route: names of systems hold no space.
func onSystem(c undo.Change) bool {
	return (c.Kind == collect.KindFolder || c.Kind == collect.KindFile || c.Kind == undo.KindCommand) && !strings.Contains(c.Where, " ")
}

// Tidy removes what is left of ours on the systems. What cannot be removed stays in the list, with the reason.
func (a *App) Tidy(ctx context.Context, c *casefile.Case, accept map[string]string) ([]Left, error) {
	s, err := LoadSite(c.Systems)
	if err != nil {
		return nil, err
	}
	w, err := a.writeToFree(c)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	left, err := a.LeftThere(c)
	if err != nil || len(left) == 0 {
		return left, err
	}
	a.describeApproved(c, s)
	d, err := a.Dialer(s, accept)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	open := map[string]reach.System{}
	gone := map[string]error{}
	defer func() {
		for _, t := range open {
			t.Close()
		}
	}()
	slices.SortStableFunc(left, func(a, b Left) int { return b.At.Compare(a.At) }) // what was changed last is changed back first
	for i := range left {
		l := &left[i]
		if ctx.Err() != nil {
			return left, &fault.Error{Class: fault.Interrupted, Op: "tidy", Err: errors.New("interrupted")}
		}
		sys := s.System(l.Where)
		switch {
		case l.Kind == collect.KindJob:
			l.Why = "the device works on it; envask collect takes up the wait"
			continue
		case !onSystem(l.Change):
			l.Why = "the next envask submit over that route removes it"
			continue
		case sys == nil:
			l.Why = "there is no such system in the systems file any more"
			continue
		}
		if open[l.Where] == nil && gone[l.Where] == nil {
			open[l.Where], gone[l.Where] = d.Open(ctx, sys)
		}
		if err := gone[l.Where]; err != nil {
			delete(open, l.Where)
			l.Why = plainWords(err)
			continue
		}
		how := "removed by tidy"
		if l.Kind == undo.KindCommand {
			how = "changed back by tidy"
			err = collect.PutBack(ctx, open[l.Where], l.Do)
		} else {
			err = remove(ctx, open[l.Where], sys, l.Change)
		}
		if err != nil {
			l.Why = plainWords(err)
			continue
		}
		l.Removed = true
		if err := (undo.Log{Ledger: w.Ledger}).Done(l.ID, how); err != nil {
			return left, fault.Wrap("write the ledger", "", err)
		}
	}
	return left, stillThere(left)
}

func stillThere(left []Left) error {
	n := 0
	for _, l := range left {
		if !l.Removed && onSystem(l.Change) {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return fault.New(fault.Failed, "tidy", "", fmt.Sprintf("%d %s still there", n, plural(n, "thing of ours is", "things of ours are")),
		"run it again when the systems can be reached")
}

func plainWords(err error) string {
	var f *fault.Error
	if errors.As(err, &f) {
		return f.Err.Error()
	}
	return err.Error()
}

// remove removes one thing of ours: with the account's own rights, and with more where those do not do and there are such.
func remove(ctx context.Context, target reach.System, sys *site.System, c undo.Change) error {
	script := collect.RemoveFile(c)
	if c.Kind == collect.KindFolder {
		script = collect.RemoveFolder(c.Path)
	}
	run, ok := target.(reach.Runner)
	if !ok {
		return errors.New("this system cannot run commands")
	}
	var said bytes.Buffer
	exit, err := run.Run(ctx, posix.Shell(script), io.Discard, &said)
	if e, can := target.(reach.Elevator); can && sys.Elevate != "" && err == nil && exit != 0 {
		said.Reset()
		exit, err = e.RunElevated(ctx, posix.Shell(script), io.Discard, &said)
	}
	if err == nil && exit != 0 {
		text, _, _ := strings.Cut(strings.TrimSpace(said.String()), "\n")
		err = fmt.Errorf("it cannot be removed: %s", text)
	}
	return err
}
