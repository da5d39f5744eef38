package collect

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/inbox"
	"envask/internal/reach"
	"envask/internal/round"
	"envask/internal/site"
)

// inboxValue gives what a placeholder of the inbox stands for, while the item's command runs.
func (w *work) inboxValue(name string) (string, error) {
	if w.account == nil {
		return "", errNotListening
	}
	v := w.account.Fill(name, w.inbox.Host, w.inbox.At)
	if v == "" {
		return "", fmt.Errorf("{inbox.%s}: that protocol is not served", name)
	}
	return v, nil
}

var errNotListening = errors.New("it pushes to us: give an address of this machine that it reaches, with --listen ADDRESS")

// pushedFolder is where what devices push while a command runs is kept, below a system's folder.
const pushedFolder = "pushed/"

// DropFolder gives the folder of this machine into which a system puts what an item wants; "" where it pushes into the inbox. The
// systems file has the last word.
func DropFolder(p *ask.Person, sys *site.System, number string) string {
	folder := p.Folder
	if sys.Pushes != nil && sys.Pushes.Folder != "" {
		folder = sys.Pushes.Folder
	}
	folder = ask.FillFolder(folder, sys.Name, number)
	if rest, ok := strings.CutPrefix(folder, "~/"); ok {
		home, _ := os.UserHomeDir() // without one, the folder is not found, and that is said
		folder = filepath.Join(home, rest)
	}
	return folder
}

// takePushed types a command that makes a device push files, and receives them. What is typed holds credentials for this time alone:
// entries
// name the command as the ask writes it.
func takePushed(ctx context.Context, w *work, spec ask.Run) error {
	e := round.Entry{Source: spec.Commands[0]}
	typist, typed := w.target.(reach.Typist)
	folder := DropFolder(spec.Arrives, w.sys, w.req.Case)
	switch {
	case !typed:
		e.State, e.Reason = round.Failed, w.cannotReceive(spec)
	case w.dryRun && folder != "":
		e.State, e.Reason = round.Taken, "would be typed, and what is put into "+folder+" would be taken: "+spec.Arrives.Expect.String()
	case w.dryRun:
		e.State, e.Reason = round.Taken, "would be typed, and what the device pushes would be received: "+spec.Arrives.Expect.String()
	case w.cannotReceive(spec) != "":
		e.State, e.Reason = round.Failed, w.cannotReceive(spec)
	case !w.budget.reserve(0):
		e.State, e.Reason = round.Skipped, w.budget.why()
	}
	if e.State != "" {
		w.add(e)
		return w.failure()
	}
	if _, ok := w.done.get(e.Source); ok { // it was typed, and what came is here
		if err := w.done.each(func(x *round.Entry) error { w.add(*x); return nil }); err != nil {
			return &transfer.LocalError{Err: err}
		}
		return w.failure()
	}
	w.account = w.inbox.Expect(w.sys.Name, w.item.ID, nil)
	line, err := w.fill(ctx, spec.Commands[0], "")
	if err != nil {
		e.State, e.Reason = round.Failed, err.Error()
		w.add(e)
		return w.failure()
	}
	w.hide = []string{w.account.Password, w.account.Name}
	if folder != "" {
		watching, stop := context.WithCancel(ctx)
		defer stop()
		go w.inbox.Store.Watch(watching, w.account, inbox.Drop{Dir: folder, Named: spec.Arrives.Expect.Named, Since: time.Now(),
			Quiet: spec.Arrives.Quiet})
	}
	x, err := w.typeCommand(ctx, spec, typist, line)
	if x != nil {
		defer x.remove()
	}
	if err != nil {
		return err
	}
	x.ran.Line = e.Source
	e.Command, e.State, e.Reason = x.ran, x.state, x.reason
	if x.state == round.Taken {
		if err := w.receive(ctx, spec); err != nil {
			return err
		}
	}
	if err := writeOutput(w, "commands/"+w.item.ID+".txt", x.outputs, x.ran, &e); err != nil {
		return err
	}
	if err := w.goneWith(x, &e); err != nil {
		return err
	}
	w.add(e)
	return w.failure()
}

// cannotReceive says why nothing can be received of an item; "" is that it can.
func (w *work) cannotReceive(spec ask.Run) string {
	if _, ok := w.target.(reach.Typist); !ok {
		return "run: with arrives: is for devices with a command line"
	}
	if w.inbox == nil || len(w.inbox.At) == 0 && DropFolder(spec.Arrives, w.sys, w.req.Case) == "" {
		return errNotListening.Error()
	}
	return ""
}

// tellWaiting shows every second how many files arrived, until the context ends.
func (w *work) tellWaiting(ctx context.Context, came *atomic.Int64, want int) {
	begun := time.Now()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			w.report(Event{Kind: Waiting, System: w.sys.Name, Item: w.item.ID, Took: time.Since(begun),
				Reason: fmt.Sprintf("%d of %d files arrived", came.Load(), want)})
		}
	}
}

// receive takes what arrives, until all that is expected is there and nothing more comes for a while.
func (w *work) receive(ctx context.Context, spec ask.Run) error {
	want := spec.Arrives
	inner, cancel := context.WithTimeout(ctx, spec.Most)
	defer cancel()
	var told atomic.Int64
	go w.tellWaiting(inner, &told, want.Expect.Files)
	for came := 0; ; {
		told.Store(int64(came))
		next, stop := context.WithCancel(inner)
		if came >= want.Expect.Files {
			next, stop = context.WithTimeout(inner, want.Quiet)
		}
		a, err := w.inbox.Next(next, w.sys.Name, w.item.ID)
		stop()
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil && came >= want.Expect.Files:
			return w.failure()
		case err != nil:
			w.add(round.Entry{Source: "pushed", State: round.TimedOut, Reason: fmt.Sprintf("%d of %d files arrived within %s", came,
				want.Expect.Files, spec.Most)})
			return w.failure()
		}
		fits, err := w.keepPushed(ctx, a, want)
		if err != nil {
			return err
		}
		if fits {
			came++
		}
	}
}

// keepPushed gives a file that arrived its place.
func (w *work) keepPushed(ctx context.Context, a inbox.Arrival, want *ask.Person) (fits bool, err error) {
	defer os.RemoveAll(filepath.Dir(a.File))
	e := round.Entry{Source: "pushed: " + SafePath(a.Said), Size: a.Bytes, Bytes: a.Bytes, SHA256: a.SHA256,
		ModTime: cmp.Or(a.Modified, a.At), State: round.Taken,
		Reason: a.How()}
	fits = a.Fits(want.Expect.Named)
	switch {
	case !fits:
		e.State, e.Reason = round.Failed, "it is not named like "+strings.Join(want.Expect.Names, " or ")
	case want.Expect.Most > 0 && a.Bytes > want.Expect.Most, a.Bytes < want.Expect.Least:
		e.State, e.Reason = round.Failed, "its size is not the expected one"
	}
	w.count(a.Bytes)
	name := shortTarget(pushedFolder + w.item.ID + "/" + a.Name)
	if want.Expect.Cut && e.State == round.Taken {
		return fits, w.keepCut(ctx, a.File, name, &e)
	}
	w.budget.spend(a.Bytes)
	part := w.part()
	if err := os.Rename(a.File, part); err != nil {
		return fits, transfer.Ours(err)
	}
	defer os.Remove(part) // fails harmlessly after the rename
	if err := w.settlePlace(part, name, &e); err != nil {
		return fits, err
	}
	w.add(e)
	return fits, w.failure()
}
