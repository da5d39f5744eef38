package collect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/device"
	"envask/internal/durable"
	"envask/internal/fault"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/undo"
)

// What an item changes on a system before it is taken is changed back: after success, failure, timeout, an interruption and a lost
// connection. It stands in the ledger before it is made, so that also after a crash it is known what is still to be done.

// Times for changing back.
const (
	putBackTime  = 2 * time.Minute
	putBackHurry = 1500 * time.Millisecond // after an interruption
	putBackTries = 2
)

// takeChanged takes an item between the change that it needs and what takes that back.
func (v *visit) takeChanged(ctx context.Context, w *work) error {
	run, _ := w.item.Spec.(ask.Run)
	if len(w.item.Before)+len(w.item.Afterwards) == 0 || w.dryRun || run.Arrives != nil && w.cannotReceive(run) != "" {
		return w.take(ctx)
	}
	before, afterwards, ok := w.filledSteps(ctx)
	if !ok {
		return errors.Join(ctx.Err(), lost(w.target), w.failure())
	}
	change, err := v.c.changes.BeginSteps(v.sys.Name, w.item.ID, afterwards)
	if err != nil {
		return &transfer.LocalError{Err: err}
	}
	v.altered.Store(true)
	durable.Point("before a change on a system")
	err = w.change(ctx, before)
	durable.Point("after a change on a system")
	if err == nil && !w.refused {
		err = fault.Safely(func() error { return w.take(ctx) })
	}
	why, local := v.putBack(ctx, change)
	if local != nil {
		return local
	}
	if why != nil {
		w.add(round.Entry{Source: "afterwards: " + change.Do[0].Type, State: round.Failed, Special: true,
			Reason: "not changed back (" + transfer.Plain(why) + "); envask tidy tries again"})
	}
	return errors.Join(err, w.failure())
}

// filledSteps gives what is done around the item in the words of this system and case: all of it before anything is changed. An entry says
// why that cannot be.
func (w *work) filledSteps(ctx context.Context) (before []device.Step, afterwards []device.Undo, ok bool) {
	fill := func(key string, lines ...*string) bool {
		for _, line := range lines {
			filled, err := w.fill(ctx, *line, "")
			if err != nil {
				w.add(round.Entry{Source: key + ": " + *line, State: round.Failed, Reason: transfer.Plain(err)})
				return false
			}
			*line = filled
		}
		return true
	}
	for _, s := range w.item.Before {
		if !fill("before", &s.Type) {
			return nil, nil, false
		}
		before = append(before, s)
	}
	for _, u := range w.item.Afterwards {
		lines := []*string{&u.Type}
		if u.Restored != nil {
			r := *u.Restored
			u.Restored, lines = &r, append(lines, &r.Type)
		}
		if !fill("afterwards", lines...) {
			return nil, nil, false
		}
		afterwards = append(afterwards, u)
	}
	return before, afterwards, true
}

// change does what an item wants before it is taken. An error is for what ends the item; a step that the system refuses is an entry, and
// nothing is taken.
func (w *work) change(ctx context.Context, before []device.Step) error {
	for _, step := range before {
		_, raw, err := w.session()
		if err != nil {
			return err
		}
		_, err = perform(ctx, w.target, step, raw)
		raw.Close()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			w.add(round.Entry{Source: "before: " + step.Type, State: stateOf(err), Reason: transfer.Plain(err)})
			w.refused = true
			return lostBy(w.target, err)
		}
	}
	return nil
}

// putBack takes a change back and strikes it off. why says why it could not be; the error is for our own failures.
func (v *visit) putBack(ctx context.Context, change undo.Change) (why, local error) {
	limit := putBackTime
	if ctx.Err() != nil {
		limit = putBackHurry
	}
	inner, cancel := context.WithTimeout(context.WithoutCancel(ctx), limit)
	defer cancel()
	durable.Point("before a change is taken back")
	for range putBackTries {
		target, leave, err := v.reachAgain(inner)
		if err == nil {
			err = PutBack(inner, target, change.Do)
			leave()
		}
		if why = err; err == nil || inner.Err() != nil {
			break
		}
	}
	v.altered.Store(false)
	if why != nil {
		return why, nil
	}
	durable.Point("after a change was taken back")
	if err := v.c.changes.Done(change.ID, "changed back"); err != nil {
		return nil, &transfer.LocalError{Err: err}
	}
	return nil, nil
}

// reachAgain gives the system, over a connection of its own where that of the visit is gone.
func (v *visit) reachAgain(ctx context.Context) (reach.System, func(), error) {
	if v.target != nil && lost(v.target) == nil {
		return v.target, func() {}, nil
	}
	target, err := v.c.Open(ctx, v.sys)
	if err != nil {
		return nil, nil, err
	}
	return target, func() { target.Close() }, nil
}

// PutBack does what takes a change back, step by step, and makes sure that it did.
func PutBack(ctx context.Context, target reach.System, do []device.Undo) error {
	for _, u := range do {
		if _, err := perform(ctx, target, u.Step, io.Discard); err != nil {
			return fmt.Errorf("%s: %w", u.Type, err)
		}
		if u.Restored == nil {
			continue
		}
		text, err := perform(ctx, target, device.Step{Type: u.Restored.Type}, io.Discard)
		if err != nil {
			return fmt.Errorf("%s: %w", u.Restored.Type, err)
		}
		if wrong := u.Restored.Wrong(text); wrong != "" {
			return fmt.Errorf("after %s, %s", u.Type, wrong)
		}
	}
	return nil
}

// putBackOld takes back what an earlier run changed on this system and did not change back: before anything else is done there.
func (v *visit) putBackOld(ctx context.Context) error {
	if v.settled {
		return nil
	}
	v.settled = true
	old, err := v.c.changes.PendingSteps(v.sys.Name)
	if err != nil {
		return &transfer.LocalError{Err: err}
	}
	for _, change := range old {
		v.altered.Store(true)
		why, local := v.putBack(ctx, change)
		if local != nil {
			return local
		}
		v.c.event(Event{Kind: PuttingBack, System: v.sys.Name, Item: change.Path, Reason: reasonText(why)})
	}
	return nil
}

func reasonText(err error) string {
	if err == nil {
		return ""
	}
	return transfer.Plain(err)
}

// owed gives the systems on which an earlier run left a change that commands take back.
func (c *Collector) owed() (map[string]bool, error) {
	out := map[string]bool{}
	pending, err := c.changes.Pending()
	if err != nil {
		return nil, &transfer.LocalError{Err: err}
	}
	for _, p := range pending {
		if p.Kind == undo.KindCommand {
			out[p.Where] = true
		}
	}
	return out, nil
}
