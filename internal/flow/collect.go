package flow

import (
	"context"
	"errors"
	"fmt"
	"time"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/reach"
	"envask/internal/site"
)

// CollectRequest is one collection.
type CollectRequest struct {
	Systems, Roles, Items []string
	Depth                 ask.Depth
	AllowPaths            []string
	Jobs                  int
	Note                  string
	Context               time.Duration     // extra time on both sides of the window
	Accept                map[string]string // host keys by system, as fingerprints
}

// Collected is what came of it.
type Collected struct {
	Case     *casefile.Case
	Round    *collect.Round   // nil for a dry run
	Coverage collect.Coverage // also of a dry run
	Entries  []collect.Entry  // of a dry run only
	Clocks   []collect.Clock
	Price    Price // of a dry run only
}

// CaseFiles reads the two input files of a case. Mistakes in both are reported together.
func CaseFiles(c *casefile.Case) (*ask.Ask, *site.Site, error) {
	k, askErr := LoadAsk(c.Ask)
	s, siteErr := LoadSite(c.Systems)
	return k, s, bothFiles(askErr, siteErr)
}

// prepare makes a collector for a case. Nothing has run when it returns.
func (a *App) prepare(c *casefile.Case, q CollectRequest) (*collect.Collector, *reach.Dialer, error) {
	k, s, err := CaseFiles(c)
	if err != nil {
		return nil, nil, err
	}
	req := collect.Request{Ask: k, Site: s, Window: c.Window, Depth: q.Depth, Context: q.Context, Systems: q.Systems, Roles: q.Roles,
		Items: q.Items, AllowPaths: q.AllowPaths, Jobs: q.Jobs}
	if err := req.Check(); err != nil {
		return nil, nil, &fault.Error{Class: fault.Usage, Op: "collect", Err: err}
	}
	if err := a.approved(k); err != nil {
		return nil, nil, err
	}
	d, err := a.Dialer(s, q.Accept)
	if err != nil {
		return nil, nil, err
	}
	return &collect.Collector{Request: req, Open: d.Open, Report: func(e collect.Event) { a.report(e) }}, d, nil
}

// Planned is sent before a collection begins.
type Planned struct {
	Systems int
	Cells   int
	Depth   ask.Depth
	DryRun  bool
}

func (a *App) planned(c *collect.Collector, dry bool) {
	systems := map[string]bool{}
	cells := 0
	for _, cell := range c.Plan() {
		if cell.State == "" {
			systems[cell.System] = true
			cells++
		}
	}
	a.report(Planned{len(systems), cells, c.Depth, dry})
}

// Collect takes what the ask names into the case. An error of class Incomplete comes with a finished round.
func (a *App) Collect(ctx context.Context, c *casefile.Case, q CollectRequest) (*Collected, error) {
	col, d, err := a.prepare(c, q)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	w, err := a.write(c)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	a.planned(col, false)
	round, err := col.Run(ctx, w, q.Note, a.Who)
	if errors.Is(err, context.Canceled) {
		return nil, &fault.Error{Class: fault.Interrupted, Op: "collect", Err: errors.New("interrupted"), Hint: "what is there stays; run envask collect again to go on"}
	}
	if err != nil {
		return nil, err
	}
	out := &Collected{Case: c, Round: round, Coverage: round.Coverage, Clocks: round.Clocks}
	return out, lacking(out.Coverage)
}

// lacking gives the error for what is missing of what is required. When all of it was refused by the host key check of
// the only system, the whole command counts as refused.
func lacking(cov collect.Coverage) error {
	var lack collect.Coverage
	for _, cell := range cov.Lacking() {
		if !cell.NotChosen() { // the engineer knows; the archive says it all the same
			lack = append(lack, cell)
		}
	}
	if refusedAltogether(cov) {
		return fault.New(fault.Refused, "collect", cov[0].System, cov[0].Reason, "")
	}
	if len(lack) == 0 {
		return nil
	}
	return fault.New(fault.Incomplete, "", "", fmt.Sprintf("%d required %s missing or not whole; the table above says why", len(lack), plural(len(lack), "item is", "items are")),
		"mend what can be mended and collect again; envask submit needs --incomplete to send it as it is")
}

func refusedAltogether(cov collect.Coverage) bool {
	system, refused := "", false
	for _, cell := range cov {
		switch {
		case cell.State == collect.Skipped:
		case cell.State != collect.Refused || cell.Files > 0 || system != "" && cell.System != system:
			return false
		default:
			system, refused = cell.System, true
		}
	}
	return refused
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// DryRun says what a collection would take.
func (a *App) DryRun(ctx context.Context, c *casefile.Case, q CollectRequest) (*Collected, error) {
	col, d, err := a.prepare(c, q)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	a.planned(col, true)
	cov, entries, err := col.DryRun(ctx)
	if err != nil {
		return nil, fault.Wrap("try the collection", "", err)
	}
	return &Collected{Case: c, Coverage: cov, Entries: entries, Clocks: col.Clocks(), Price: priceOf(entries, col.Rates(), a.Now())}, lacking(cov)
}
