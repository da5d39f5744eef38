package flow

import (
	"context"
	"errors"
	"fmt"

	"envask/internal/ask"
	"envask/internal/draft"
	"envask/internal/fault"
	"envask/internal/keyfile"
	"envask/internal/parts"
	"envask/internal/reach"
	"envask/internal/site"
	"envask/internal/window"
)

// DraftRequest is the system to look at.
type DraftRequest struct {
	Site   *site.Site
	System string
	Accept map[string]string // host keys that the engineer accepts, see reach.ParseAccept
}

// DraftProgress says what is looked at.
type DraftProgress struct{ Doing string }

// DraftAsk looks at a system, reading only, and proposes what to ask of it.
func (a *App) DraftAsk(ctx context.Context, q DraftRequest) (*draft.Found, error) {
	sys := q.Site.System(q.System)
	if sys == nil {
		var names []string
		for _, s := range q.Site.Systems {
			names = append(names, s.Name)
		}
		hint := "it has: " + fmt.Sprint(names)
		if near := keyfile.Nearest(q.System, names); near != "" {
			hint = "did you mean " + near + "?"
		}
		return nil, fault.New(fault.Usage, "draft", q.System, "there is no such system in "+q.Site.File, hint)
	}
	d, err := a.Dialer(q.Site, q.Accept)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	target, err := d.Open(ctx, sys)
	if err == nil {
		defer target.Close()
		zone, from := window.LocalZone(), "this machine's"
		switch {
		case sys.Zone != nil:
			zone, from = sys.Zone, "the systems file"
		case q.Site.Zone != nil:
			zone, from = q.Site.Zone, "the systems file"
		}
		var found *draft.Found
		found, err = draft.System(ctx, draft.Look{System: target, Elevated: sys.Elevate != "", Zone: zone, ZoneFrom: from, Now: a.Now(),
			Told: func(doing string) { a.report(DraftProgress{doing}) }})
		if err == nil {
			return found, nil
		}
	}
	if ctx.Err() != nil {
		return nil, &fault.Error{Class: fault.Interrupted, Op: "draft", Err: errors.New("interrupted")}
	}
	if errors.Is(err, reach.ErrHostKey) { // it is the only one
		return nil, &fault.Error{Class: fault.Refused, Op: "draft", Target: sys.Name, Err: err, Hint: fault.HintOf(err)}
	}
	return nil, fault.Wrap("draft", sys.Name, err)
}

// ComposeAsk writes an ask of blocks, and makes sure that it passes the check.
func ComposeAsk(d parts.Draft) ([]byte, error) {
	text := parts.Compose(d)
	if _, err := ask.Parse(d.Name+".yaml", text); err != nil {
		return nil, fault.Wrap("write the ask", d.Name, err)
	}
	return text, nil
}
