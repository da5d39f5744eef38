package collect

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"envask/internal/ask"
	"envask/internal/collect/transfer"
	"envask/internal/reach"
	"envask/internal/round"
)

// facts are the values that were read of one system for paths and commands of other items, once each.
type facts struct {
	mu    sync.Mutex
	known map[string]fact
}

type fact struct {
	text string
	err  error
}

// errOutOfBounds says that a value leads where nothing was approved.
var errOutOfBounds = errors.New("it leads out of the approved folders")

// fact gives what a placeholder stands for on the system of the work: value.ID, system or system.KEY.
func (w *work) fact(ctx context.Context, name string) (string, error) {
	if name == "system" {
		return w.sys.Name, nil
	}
	if key, ok := strings.CutPrefix(name, "system."); ok {
		text, ok := w.sys.Facts[key]
		if !ok {
			return "", fmt.Errorf("{%s}: the systems file gives no fact %s for %s", name, key, w.sys.Name)
		}
		return text, nil
	}
	id := strings.TrimPrefix(name, "value.")
	if w.facts == nil {
		return "", errors.New("nothing was read of it")
	}
	w.facts.mu.Lock()
	defer w.facts.mu.Unlock()
	if f, ok := w.facts.known[id]; ok {
		return f.text, f.err
	}
	f := fact{}
	f.text, f.err = w.readFact(ctx, id)
	if ctx.Err() == nil {
		if w.facts.known == nil {
			w.facts.known = map[string]fact{}
		}
		w.facts.known[id] = f
	}
	return f.text, f.err
}

// readFact reads a value, and holds it against the folders in which it may lead.
func (w *work) readFact(ctx context.Context, id string) (string, error) {
	want := w.req.Ask.Value(id)
	if want == nil || !want.Wanted(w.sys.Roles) {
		return "", fmt.Errorf("the value %s is not read from %s", id, w.sys.Name)
	}
	text, err := valueOf(ctx, w, *want)
	if err != nil {
		return "", fmt.Errorf("the value %s: %s", id, transfer.Plain(err))
	}
	if len(text) > maxFact || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return "", fmt.Errorf("the value %s is no text of one line", id)
	}
	if len(want.Within) == 0 {
		return text, nil
	}
	if !leadsWithin(text, want.Within) {
		return "", fmt.Errorf("%w: the value %s is %q, and only %s are approved", errOutOfBounds, id, text, strings.Join(want.Within, ", "))
	}
	return text, nil
}

// maxFact bounds a value that becomes a part of a path or a command, in bytes.
const maxFact = 1000

// leadsWithin reports whether a text is a whole path in one of some folders.
func leadsWithin(text string, folders []string) bool {
	slashed := strings.ReplaceAll(text, `\`, "/")
	whole := strings.HasPrefix(slashed, "/") || len(slashed) > 2 && slashed[1:3] == ":/"
	if !whole || strings.Contains(slashed+"/", "/../") {
		return false
	}
	at := reach.Name(text)
	for _, f := range folders {
		if in := reach.Name(f); at == in || strings.HasPrefix(at, in+"/") {
			return true
		}
	}
	return false
}

// filled gives the work with the item's patterns as they are on this system. An entry says why that cannot be.
func (w *work) filled(ctx context.Context) (*round.Entry, error) {
	if !w.item.Filled() {
		return nil, nil
	}
	patterns := w.item.PatternsOf()
	out := make([]string, len(patterns))
	for i, p := range patterns {
		var err error
		out[i], err = ask.FillPath(p, func(name string) (string, error) { return w.fact(ctx, name) })
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case errors.Is(err, reach.ErrLost):
			return nil, err
		case errors.Is(err, errOutOfBounds):
			return &round.Entry{Source: p, State: round.Refused, Reason: err.Error()}, nil
		case err != nil:
			return &round.Entry{Source: p, State: round.Missing, Reason: err.Error()}, nil
		}
	}
	w.item = w.item.WithPatterns(out)
	return nil, nil
}

// take takes the item of the work.
func (w *work) take(ctx context.Context) error {
	e, err := w.filled(ctx)
	if err != nil {
		return err
	}
	if e != nil {
		w.add(*e)
		return w.failure()
	}
	return takeByKind(ctx, w)
}

// readAlready gives what a placeholder stands for, as far as that is known without reading anything.
func (w *work) readAlready(name string) (string, error) {
	if id, ok := strings.CutPrefix(name, "value."); ok {
		if w.facts == nil || !w.facts.mu.TryLock() {
			return "", errors.New("it was not read")
		}
		defer w.facts.mu.Unlock()
		f, known := w.facts.known[id]
		if !known {
			return "", errors.New("it was not read")
		}
		return f.text, f.err
	}
	return w.fact(context.Background(), name)
}
