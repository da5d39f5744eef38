package flow

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/reach"
	"envask/internal/round"
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
	Sets                  []string          // sets of the ask
	Again                 []string          // systems of which everything is taken anew
	Missing               bool              // only what the last round did not get
	Baseline              bool              // the round is a baseline: how the site was before a change
	LeaveOpen             bool              // the round stays open for further passes
	Within                time.Duration     // the whole collection stops after so long; 0 is no limit
	Members               []string          // members that are taken although the systems file does not list them; "all" asks for each
	Listen                string            // an address of ours for what devices push while it runs; "" receives nothing
	Ports                 map[string]int    // of the inbox, by protocol
	Budget                int64             // bytes; a larger estimate is a question. 0 is none
}

// Collected is what came of it.
type Collected struct {
	Case     *casefile.Case
	Round    *round.Round   // nil for a dry run
	Coverage round.Coverage // also of a dry run
	Entries  []round.Entry  // of a dry run only
	Clocks   []round.Clock
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
	req, err := a.request(c, k, s, q)
	if err != nil {
		return nil, nil, err
	}
	if err := a.approved(k, oldAlgorithms(s)...); err != nil {
		return nil, nil, err
	}
	if err := describe(s, k); err != nil {
		return nil, nil, err
	}
	d, err := a.Dialer(s, q.Accept)
	if err != nil {
		return nil, nil, err
	}
	return &collect.Collector{Request: req, Patience: a.Patience, Open: d.Open, Report: func(e collect.Event) { a.report(e) }}, d, nil
}

// request makes the core's request of what was chosen.
func (a *App) request(c *casefile.Case, k *ask.Ask, s *site.Site, q CollectRequest) (req collect.Request, err error) {
	req = collect.Request{Ask: k, Site: s, Window: c.Window, Depth: q.Depth, Context: q.Context, Systems: q.Systems,
		Roles: q.Roles, Items: q.Items,
		AllowPaths: q.AllowPaths, Jobs: q.Jobs, Case: c.Number, Title: c.Title, Answers: c.Brief, Within: q.Within, Again: q.Again,
		LeaveOpen: q.LeaveOpen, Baseline: q.Baseline,
		Free: func() int64 { return freeSpace(c.Dir) }}
	for _, name := range q.Sets {
		set := k.Set(name)
		if set == nil && len(k.Sets) == 0 {
			return req, fault.New(fault.Usage, "--set", name, "the ask "+k.Name+" has no sets", "choose items: --item ID")
		}
		if set == nil {
			return req, fault.New(fault.Usage, "collect", "", fmt.Sprintf("there is no set %q in %s; known: %s", name, k.File,
				strings.Join(setNames(k), ", ")), "")
		}
		req.Items = append(req.Items, set.Items...)
		if set.Text != "" {
			a.report(SetChosen{*set})
		}
	}
	check := req
	check.Systems = append(append([]string(nil), q.Systems...), q.Again...)
	if err := check.Check(); err != nil {
		return req, &fault.Error{Class: fault.Usage, Op: "collect", Err: err}
	}
	if req.Had, err = a.broughtBefore(c, k); err != nil {
		return req, err
	}
	return req, a.fromLast(c, &req, q)
}

// SetChosen is sent when a set with a text is chosen: what to do, and not to do, first.
type SetChosen struct{ Set ask.Set }

func setNames(k *ask.Ask) []string {
	var names []string
	for _, s := range k.Sets {
		names = append(names, s.Name)
	}
	return names
}

// fromLast chooses by what the last round has: only what it does not have, or systems anew.
func (a *App) fromLast(c *casefile.Case, req *collect.Request, q CollectRequest) error {
	if !q.Missing && len(q.Again) == 0 {
		return nil
	}
	rounds, err := round.List(c)
	if err != nil {
		return fault.Wrap("read the rounds", c.Name, err)
	}
	if len(rounds) == 0 {
		return fault.New(fault.Usage, "collect", "", "there is no round yet to go on from",
			"run envask collect without --missing and --again")
	}
	last := rounds[len(rounds)-1]
	if len(q.Again) > 0 && last.Finished() { // a new round, of just these systems
		req.Systems = append(req.Systems, q.Again...)
	}
	if !q.Missing || !last.Finished() && last.Same == req.Fingerprint() {
		return nil
	}
	v, err := a.ShowCase(c)
	if err != nil {
		return err
	}
	together := roundsTogether(v, rounds)
	table := newestCells(together)
	req.Only, req.OnlyWhy = map[[2]string]bool{}, "not asked for again: "+strings.ReplaceAll(roundIDs(together), ",", " or ")+" has it"
	had := map[cellKey]round.Cell{}
	for _, cell := range table {
		had[cellKey{cell.System, cell.Item}] = cell
	}
	all := *req
	all.Only = nil
	for _, cell := range all.Plan() { // what the ask wants now, which may be more than it was
		old, known := had[cellKey{cell.System, cell.Item}]
		if it := req.Ask.Item(cell.Item); it != nil && it.Brought() {
			continue // collecting brings nothing of it
		}
		if cell.System != "" && (!known || lacksStill(old)) {
			req.Only[cellKey{cell.System, cell.Item}] = true
		}
	}
	if err := wholeGroupsAgain(req, together, table); err != nil {
		return fault.Wrap("read the rounds", c.Name, err)
	}
	if last.Finished() && len(req.Only) == 0 {
		return fault.New(fault.Usage, "collect", "", fmt.Sprintf("round %s got all that was asked for",
			strings.ReplaceAll(roundIDs(together), ",", " and ")), "")
	}
	return nil
}

// lacksStill reports whether a cell is asked for again when only what is missing is.
func lacksStill(cell round.Cell) bool {
	switch cell.State {
	case round.Taken, round.Cut, round.Empty:
		return false
	case round.Skipped:
		return cell.NotChosen() || cell.NotBegun()
	}
	return true
}

// wholeGroupsAgain asks again for all items of a group on a system that lacks a file of it.
func wholeGroupsAgain(req *collect.Request, rounds []*round.Round, table round.Coverage) error {
	groups, err := caseGroups(req.Ask, rounds, table)
	for _, g := range groups {
		for _, system := range g.Short {
			for _, item := range g.Items {
				req.Only[[2]string{system, item}] = true
			}
		}
	}
	return err
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
	defer calm()()
	w, err := a.write(c)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	if err := a.keepApproved(w, col.Ask); err != nil {
		return nil, err
	}
	if err := a.sayWhatIsLeft(c, col); err != nil {
		return nil, err
	}
	if err := a.ready(col); err != nil {
		return nil, err
	}
	if err := a.addMembers(ctx, col, q.Members); err != nil {
		return nil, err
	}
	if err := a.affordable(ctx, c, col, q); err != nil {
		return nil, err
	}
	for _, r := range windowRemarks(c, col.Window, a.Now()) {
		a.note("%s", r)
	}
	a.planned(col, false)
	closed, err := a.listening(ctx, c, col, q)
	if err != nil {
		return nil, err
	}
	defer closed()
	tell := col.Report
	col.Report = func(e collect.Event) {
		if e.Kind == collect.PuttingBack {
			a.sayPutBack(e)
		}
		tell(e)
	}
	if l := a.learnArriving(ctx, w, col.Ask); l != nil {
		defer l.end(a)
		tell := col.Report
		col.Begun = l.begun
		col.Report = func(e collect.Event) {
			if e.Kind == collect.FileDone && e.Entry != nil {
				l.taken(*e.Entry)
			}
			tell(e)
		}
	}
	round, err := col.Run(ctx, w, q.Note, a.Who)
	if errors.Is(err, context.Canceled) {
		a.sayOwed(c)
		return nil, &fault.Error{Class: fault.Interrupted, Op: "collect", Err: errors.New("interrupted"),
			Hint: "finished files stay; resume with: envask collect"}
	}
	if err != nil {
		return nil, err
	}
	out := &Collected{Case: c, Round: round, Coverage: round.Coverage, Clocks: round.Clocks}
	if round.Open {
		return out, nil
	}
	if len(windowRemarks(c, col.Window, a.Now())) == 0 { // else it was said
		remarks, err := roundRemarks(round)
		if err != nil {
			return nil, fault.Wrap("read the round", round.ID, err)
		}
		for _, r := range remarks {
			a.note("%s", r)
		}
	}
	return out, a.owing(c, lacking(out.Coverage, round.Groups))
}

// ready asks whether what has to be done before a system can be reached was done. Where nobody can be asked it is only said.
func (a *App) ready(col *collect.Collector) error {
	wanted := map[string]bool{}
	for _, cell := range col.Plan() {
		if cell.State == "" {
			wanted[cell.System] = true
		}
	}
	for i := range col.Site.Systems {
		s := &col.Site.Systems[i]
		if s.Before == "" || !wanted[s.Name] {
			continue
		}
		if a.Confirm == nil {
			a.report(BeforeSystem{System: s.Name, Text: s.Before})
			continue
		}
		yes, err := a.Confirm(fmt.Sprintf("Before %s can be reached: %s. Is that done?", s.Name, strings.TrimSuffix(s.Before, ".")))
		if err != nil {
			return err
		}
		if !yes {
			return fault.New(fault.Usage, "collect", s.Name, "not ready; nothing was collected",
				"take the other systems first, in a pass of their own: --system NAMES --leave-open")
		}
	}
	return nil
}

// BeforeSystem is sent with what a person has to do before a system can be reached.
type BeforeSystem struct{ System, Text string }

// lowSpace is under how much free space here an estimate is made before a collection, in bytes.
const lowSpace = 10 << 30

// affordable estimates what would come, where there is a budget or little room, and asks when it is too much.
func (a *App) affordable(ctx context.Context, c *casefile.Case, col *collect.Collector, q CollectRequest) error {
	free := freeSpace(c.Dir)
	if q.Budget == 0 && (free < 0 || free > lowSpace) {
		return nil
	}
	a.planned(col, true)
	_, entries, err := col.DryRun(ctx)
	if errors.Is(err, context.Canceled) {
		return &fault.Error{Class: fault.Interrupted, Op: "collect", Err: errors.New("interrupted")}
	}
	if err != nil {
		return fault.Wrap("estimate the collection", "", err)
	}
	about := priceOf(entries, col.Rates(), a.Now()).Bytes
	why := ""
	switch {
	case q.Budget > 0 && about > q.Budget:
		why = fmt.Sprintf("it would take about %s, and the budget is %s", sizeText(about), sizeText(q.Budget))
	case free >= 0 && about > free:
		why = fmt.Sprintf("it would take about %s, and only %s are free for the case", sizeText(about), sizeText(free))
	default:
		a.note("it will take about %s", sizeText(about))
		return nil
	}
	if a.Large != nil {
		yes, err := a.Large(why)
		if err != nil || yes {
			return err
		}
	}
	return fault.New(fault.Refused, "collect", "", why+"; nothing was collected",
		"choose less (--system, --item, --depth light, a shorter window), make room, or give --yes")
}

func sizeText(n int64) string { return humanize.IBytes(uint64(max(n, 0))) }

// lacking gives the error for what is missing of what is required. When all of it was refused by the host key check of
// the only system, the whole command counts as refused.
func lacking(cov round.Coverage, groups []round.GroupResult) error {
	var lack round.Coverage
	for _, cell := range cov.Lacking() {
		if !cell.NotChosen() { // the engineer knows; the archive says it all the same
			lack = append(lack, cell)
		}
	}
	if people := slices.DeleteFunc(slices.Clone(lack), func(c round.Cell) bool { return c.Code != round.CodeToBring }); len(people) > 0 &&
		len(people) == len(lack) {
		return fault.New(fault.Incomplete, "", "", fmt.Sprintf("%d required %s still to be brought by a person", len(lack),
			plural(len(lack), "item is", "items are")), "envask show --todo says how (to send it as it is: envask submit --incomplete)")
	}
	if refusedAltogether(cov) {
		return fault.New(fault.Refused, "collect", cov[0].System, cov[0].Reason, "")
	}
	for _, g := range groups {
		if len(lack) == 0 && len(g.Lacking) > 0 {
			return fault.New(fault.Incomplete, "", "", fmt.Sprintf("the group %s is not whole: %s", g.Name, strings.Join(g.Lacking, "; ")),
				"fix what you can, then run: envask collect --missing")
		}
	}
	if len(lack) == 0 {
		return nil
	}
	return fault.New(fault.Incomplete, "", "", fmt.Sprintf("%d required %s missing or not whole; the table above says why", len(lack),
		plural(len(lack), "item is", "items are")),
		"fix what you can, then run: envask collect --missing (to send it as it is: envask submit --incomplete)")
}

func refusedAltogether(cov round.Coverage) bool {
	system, refused := "", false
	for _, cell := range cov {
		switch {
		case cell.State == round.Skipped || cell.Code == round.CodeToBring:
		case cell.State != round.Refused || cell.Files > 0 || system != "" && cell.System != system:
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
	return &Collected{Case: c, Coverage: cov, Entries: entries, Clocks: col.Clocks(), Price: priceOf(entries, col.Rates(), a.Now())},
		lacking(cov, nil)
}
