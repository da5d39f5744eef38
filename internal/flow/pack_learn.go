package flow

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/sync/errgroup"

	"envask/internal/durable"
	"envask/internal/redact"
	"envask/internal/spill"
)

// learn reads everything once, so that what stands next to a key in one file is known in all others. It also makes sure
// that the evidence is still what was collected.
func (v *evidence) learn(ctx context.Context) error {
	var beside errgroup.Group
	beside.Go(v.learnTexts)
	beside.Go(func() error { return remember(ctx, v.c, v.sel.rounds, v.rules.policy.Digest(), v.rules.learned) })
	arrived, err := v.fromArrival(ctx)
	if err := errors.Join(err, beside.Wait()); err != nil {
		return err
	}
	v.begin("learning", v.bytes+v.behindBytes)
	for _, list := range []**spill.List[piece]{&v.pieces, &v.behind} {
		learned, err := v.learnAll(ctx, *list, arrived)
		if err != nil {
			return err
		}
		*list = learned
	}
	return nil
}

// learnAll learns from a list of pieces, and gives it with what is known of each then.
func (v *evidence) learnAll(ctx context.Context, list *spill.List[piece], arrived *arrivedPieces) (*spill.List[piece], error) {
	in, err := list.Reader()
	if err != nil {
		return nil, err
	}
	defer list.Close()
	out := spill.NewList[piece](v.tmp)
	return out, inOrder(ctx, in.Next, func(ctx context.Context, x *piece) error {
		if arrived.take(x) {
			v.progress(x.Entry.Bytes)
			return nil
		}
		return v.learnPiece(ctx, x)
	}, out.Add)
}

// learnTexts learns from what is said beside the evidence: what goes into manifest, page and brief.
func (v *evidence) learnTexts() error {
	l := v.rules.learner.Get().(*learner)
	defer v.rules.learner.Put(l)
	learn := func(texts ...string) error {
		for _, text := range texts {
			if _, err := l.engine.Text(nil, strings.NewReader(text)); err != nil {
				return err
			}
		}
		return nil
	}
	err := learn(v.c.Title)
	for _, r := range v.sel.rounds {
		err = errors.Join(err, learn(r.Note))
	}
	for _, cell := range v.coverage() {
		err = errors.Join(err, learn(cell.Reason), learn(cell.Notes...))
	}
	for _, answer := range v.c.Brief {
		err = errors.Join(err, learn(answer))
	}
	v.rules.learned.Absorb(l.learned)
	v.rules.learned.Absorb(v.said)
	return err
}

// learnNames learns from what is said of files; it counts once all names are known.
func (v *evidence) learnNames(texts ...string) error {
	l := v.rules.learner.Get().(*learner)
	defer v.rules.learner.Put(l)
	for _, text := range texts {
		if _, err := l.engine.Text(nil, strings.NewReader(text)); err != nil {
			return err
		}
	}
	v.said.Absorb(l.learned)
	return nil
}

func (v *evidence) learnPiece(ctx context.Context, x *piece) error {
	f, err := os.Open(x.raw())
	if err != nil {
		return err
	}
	defer f.Close()
	sum := sha256.New()
	tee := io.TeeReader(durable.Told(ctx, f, v.progress), sum)
	var res redact.Result
	if !x.AsIs {
		l := v.rules.learner.Get().(*learner)
		defer v.rules.learner.Put(l)
		if res, err = l.engine.File(nil, tee, v.rules.source(x)); err != nil {
			return fmt.Errorf("%s: %w", x.raw(), err)
		}
		if res.Unreadable() { // what a rule hits in binary by chance teaches nothing
			l.learned.Take()
		} else {
			v.rules.learned.Absorb(l.learned)
		}
	}
	if _, err := io.Copy(io.Discard, tee); err != nil {
		return err
	}
	if err := x.unchanged(sum, x.Entry.SHA256); err != nil {
		return err
	}
	x.Form, x.Result = res.Form, res
	x.Opaque = res.Unreadable()
	x.Out = x.Opaque && !v.mayGoUnread(x) || v.without(x)
	return nil
}
