package flow

import (
	"cmp"
	"context"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"envask/internal/casefile"
	"envask/internal/redact"
	"envask/internal/round"
)

// remember learns from the rounds of a case but those that are read anyway, by the same rules alone. What cannot be read any
// more (the evidence may be gone) teaches nothing; which bytes stand at the places is not compared with those of back then: more
// than is needed may be replaced if somebody changed the evidence, nothing less.
func remember(ctx context.Context, c *casefile.Case, but []*round.Round, digest string, learned *redact.Learned) error {
	rounds, err := round.List(c)
	if err != nil {
		return err
	}
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for _, r := range rounds {
		if !r.Discarded.IsZero() || slices.ContainsFunc(but, func(o *round.Round) bool { return o.ID == r.ID }) {
			continue
		}
		_ = learnedFrom(r, func(got *arrived) { // what can be read of it
			if got.Rules == digest && ctx.Err() == nil {
				g.Go(func() error {
					takePlaces(r, got, false, learned)
					return nil
				})
			}
		})
	}
	return cmp.Or(g.Wait(), ctx.Err())
}
