package flow

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"envask/internal/ask"
	"envask/internal/casefile"
	"envask/internal/collect"
	"envask/internal/fault"
	"envask/internal/inbox"
	"envask/internal/patience"
	"envask/internal/round"
	"envask/internal/site"
)

// InboxRequest is one time of receiving.
type InboxRequest struct {
	Listen         string // an address of this machine that the devices reach; "" where all comes into folders
	Protocols      []string
	Ports          map[string]int // by protocol; others are chosen
	For            time.Duration  // how long at most
	Items, Systems []string       // only these
	Most           int64          // bytes of one file
}

// InboxOpen is sent when the inbox takes files.
type InboxOpen struct {
	At      map[string]string // host and port, by protocol
	Systems []InboxWords
	Until   time.Time
}

// InboxWords is what is to be done on one device.
type InboxWords struct {
	System, Item string
	Words        []string // to type there; where the ask names none, the addresses to send to
	Expect       string
	From         []netip.Addr
	Folder       string // into which it is put, instead
}

// InboxArrived is sent for each file that came.
type InboxArrived struct {
	inbox.Arrival
	State  round.State
	Reason string
	Came   int // files that count of this device
	Want   int
}

// DefaultInboxFile is how large one file may be when nothing says it, in bytes.
const DefaultInboxFile = 64 << 30

// mostInboxFiles bounds how many files one device may push.
const mostInboxFiles = 10_000

// receiving is one run of the inbox.
type receiving struct {
	app     *App
	c       *casefile.Case
	q       InboxRequest
	ask     *ask.Ask
	site    *site.Site
	wanted  []*expectation
	arrived chan inbox.Arrival
	out     *Brought
}

// expectation is what one device is waited for.
type expectation struct {
	account *inbox.Account
	item    *ask.Item
	spec    ask.Person
	folder  string // into which the device puts it; "" where it pushes
	files   int
	last    time.Time
}

// met reports whether all of it is there, and nothing more came for a while.
func (e *expectation) met(now time.Time) bool {
	return e.files >= e.spec.Expect.Files && now.Sub(e.last) >= e.spec.Quiet
}

// Inbox receives what devices push, for a limited time: until all that is expected is there, or the time is over. Each file joins the round
// as
// what a person brings does.
func (a *App) Inbox(ctx context.Context, c *casefile.Case, q InboxRequest) (*Brought, error) {
	k, s, err := CaseFiles(c)
	if err != nil {
		return nil, err
	}
	if err := a.approved(k); err != nil {
		return nil, err
	}
	r := &receiving{app: a, c: c, q: q, ask: k, site: s, arrived: make(chan inbox.Arrival, 1024), out: &Brought{Files: []BroughtFile{}}}
	if r.wanted, err = r.expectations(); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, q.For)
	defer cancel()
	return r.out, r.run(ctx)
}

// expectations gives the devices that are waited for.
func (r *receiving) expectations() (out []*expectation, err error) {
	names := map[string]int{}
	for i := range r.ask.Items {
		it := &r.ask.Items[i]
		spec, ok := it.Spec.(ask.Person)
		if !ok || !spec.Arrives || len(r.q.Items) > 0 && !slices.Contains(r.q.Items, it.ID) {
			continue
		}
		for j := range r.site.Systems {
			sys := &r.site.Systems[j]
			if !it.Wanted(sys.Roles) || len(r.q.Systems) > 0 && !slices.Contains(r.q.Systems, sys.Name) {
				continue
			}
			account := inbox.NewAccount(sys.Name, it.ID, nil)
			if p := sys.Pushes; p != nil {
				account.From = p.From
				if p.As != "" {
					if names[p.As]++; names[p.As] == 1 {
						account.User = p.As
					} else {
						account.User = fmt.Sprintf("%s-%d", p.As, names[p.As])
					}
				}
			}
			out = append(out, &expectation{account: account, item: it, spec: spec, folder: collect.DropFolder(&spec, sys, r.c.Number)})
		}
	}
	if len(out) == 0 {
		return nil, fault.New(fault.Usage, "inbox", "", "the ask "+r.ask.Name+" has no item that a device of this site pushes",
			"an item with arrives: in "+r.ask.File+" says what is wanted, and of which role")
	}
	return out, r.checkFolders(out)
}

// checkFolders makes sure that each file of a drop folder is of one system, and that there is an address for what is pushed.
func (r *receiving) checkFolders(list []*expectation) error {
	type drop struct{ folder, item string }
	of := map[drop]string{}
	for _, e := range list {
		if e.folder == "" && r.q.Listen == "" {
			return fault.New(fault.Usage, "--listen", "", "give an address of this machine that "+e.account.System+" reaches", "")
		}
		at := drop{e.folder, e.item.ID}
		if e.folder != "" && of[at] != "" {
			return fault.New(fault.Usage, "inbox", e.folder, of[at]+" and "+e.account.System+
				" put "+e.item.ID+" into the same folder, so that nobody can tell whose a file is",
				"give each one its own: pushes: {folder: …} in "+r.site.File)
		}
		of[at] = e.account.System
	}
	return nil
}

// started is when the round began that takes what comes: files of a drop folder that are older do not count by themselves.
func (r *receiving) started() (time.Time, error) {
	open, err := r.app.openRound(r.c)
	if err != nil || open == nil {
		return r.app.Now(), err
	}
	return open.Started, nil
}

// serve opens what the devices push to, and looks at the folders that they put files into.
func (r *receiving) serve(ctx context.Context, store *inbox.Store) (at map[string]string, err error) {
	since, err := r.started()
	if err != nil {
		return nil, err
	}
	push := false
	for _, e := range r.wanted {
		if e.folder == "" {
			push = true
			store.Accounts = append(store.Accounts, e.account)
			continue
		}
		go store.Watch(ctx, e.account, inbox.Drop{Dir: e.folder, Named: e.spec.Expect.Named, Since: since, Quiet: e.spec.Quiet})
	}
	if !push {
		return nil, nil
	}
	if at, err = inbox.Start(ctx, store, r.q.Listen, r.q.Protocols, func(p string) int { return r.q.Ports[p] }); err != nil {
		return nil, fault.New(fault.Failed, "inbox", r.q.Listen, err.Error(),
			"give an address of this machine with --listen, and free ports with --port")
	}
	return at, nil
}

func (r *receiving) run(ctx context.Context) error {
	dir, done, err := r.app.Home.Temp()
	if err != nil {
		return fault.Wrap("inbox", r.c.Name, err)
	}
	defer done()
	store := &inbox.Store{Dir: dir, Limits: inbox.Limits{Bytes: r.q.Most, Files: mostInboxFiles}, SafeName: collect.SafePath,
		Arrived: func(x inbox.Arrival) { r.arrived <- x }, Remark: func(text string) { r.app.note("%s", text) }}
	serving, stop := context.WithCancel(ctx)
	defer stop()
	at, err := r.serve(serving, store)
	if err != nil {
		return err
	}
	until, _ := ctx.Deadline()
	open := InboxOpen{At: at, Until: until}
	for _, e := range r.wanted {
		open.Systems = append(open.Systems, r.words(e, at))
	}
	r.app.report(open)
	return r.wait(ctx)
}

// wait takes what arrives into the round until all is there.
func (r *receiving) wait(ctx context.Context) error {
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case x := <-r.arrived:
			if err := r.take(ctx, x); err != nil {
				return err
			}
			continue
		default:
		}
		select {
		case x := <-r.arrived:
			if err := r.take(ctx, x); err != nil {
				return err
			}
		case now := <-tick.C:
			if r.open(now) == 0 {
				return nil
			}
		case <-ctx.Done():
			return r.over(ctx)
		}
	}
}

// open counts the devices that are still waited for.
func (r *receiving) open(now time.Time) (n int) {
	for _, e := range r.wanted {
		if !e.met(now) {
			n++
		}
	}
	return n
}

// over says what did not come when the time is over, or when it was interrupted.
func (r *receiving) over(ctx context.Context) error {
	if !errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return &fault.Error{Class: fault.Interrupted, Op: "inbox", Err: errors.New("interrupted"),
			Hint: "what came is in the case; run it again for the rest"}
	}
	var not []string
	for _, e := range r.wanted {
		if e.files < e.spec.Expect.Files {
			not = append(not, fmt.Sprintf("%s of %s (%d of %d)", e.item.ID, e.account.System, e.files, e.spec.Expect.Files))
		}
	}
	if len(not) == 0 {
		return nil
	}
	return fault.New(fault.Incomplete, "", "", "did not arrive: "+strings.Join(not, ", "), "run it again when the device can send")
}

// take takes one file into the round.
func (r *receiving) take(ctx context.Context, x inbox.Arrival) error {
	said := collect.SafePath(x.Said)
	got, err := r.bring(ctx, BringRequest{Paths: []string{x.File}, Item: x.Item, System: x.System,
		Note: x.How() + " as " + said, From: said})
	if err != nil { // it came, and the device may not send it again
		at, e := r.keepAside(x)
		if e != nil {
			return fault.Wrap("inbox", x.System, errors.Join(err, e))
		}
		return fault.New(fault.Failed, "inbox", x.System, plainWords(err)+"; what came is kept in "+at,
			fmt.Sprintf("envask add '%s' --item %s --system %s", at, x.Item, x.System))
	}
	_ = os.RemoveAll(filepath.Dir(x.File)) // the round has it
	e := InboxArrived{Arrival: x}
	for _, f := range got.Files {
		e.State, e.Reason = f.State, f.Reason
		r.out.Files = append(r.out.Files, f)
	}
	r.out.Round, r.out.New = got.Round, r.out.New || got.New
	r.out.Coverage, r.out.Groups = got.Coverage, got.Groups
	for _, w := range r.wanted {
		if w.account.System == x.System && w.item.ID == x.Item {
			w.last = time.Now()
			if x.Fits(w.spec.Expect.Named) {
				w.files++
			}
			e.Came, e.Want = w.files, w.spec.Expect.Files
		}
	}
	r.app.report(e)
	return nil
}

// keepAside puts a file that came, and that the round could not take, into the case folder.
func (r *receiving) keepAside(x inbox.Arrival) (string, error) {
	dir, err := os.MkdirTemp(r.c.Dir, "kept-")
	if err != nil {
		return "", err
	}
	at := filepath.Join(dir, x.Name)
	return at, os.Rename(x.File, at)
}

// lockTries is how often the case is tried while another process works on it.
const lockTries = 60

// bring takes a file into the round; another process that works on the case is waited for.
func (r *receiving) bring(ctx context.Context, q BringRequest) (*Brought, error) {
	for try := 1; ; try++ {
		got, err := r.app.Bring(context.WithoutCancel(ctx), r.c, q)
		var held *casefile.LockedError
		if !errors.As(err, &held) || try == lockTries || ctx.Err() != nil {
			return got, err
		}
		if err := patience.Wait(ctx, time.Second); err != nil {
			return nil, err
		}
	}
}

// words gives what is to be typed on a device.
func (r *receiving) words(e *expectation, at map[string]string) InboxWords {
	w := InboxWords{System: e.account.System, Item: e.item.ID, Expect: e.spec.Expect.String(), From: e.account.From,
		Folder: e.folder}
	value := func(name string) string {
		p, ok := strings.CutPrefix(name, "inbox.")
		if !ok {
			return toldOf(r.c, e.account.System, name)
		}
		return e.account.Fill(p, r.q.Listen, at)
	}
	for _, s := range e.spec.Steps {
		w.Words = append(w.Words, ask.Tell(s, value))
	}
	if len(w.Words) == 0 && e.folder == "" {
		for _, p := range r.q.Protocols {
			w.Words = append(w.Words, e.account.Fill(p, r.q.Listen, at)+map[bool]string{true: "", false: "FILE"}[p == "tftp"])
		}
	}
	return w
}

// listening opens the inbox for the time of a collection, where items of its plan make devices push; nil where none does.
func (a *App) listening(ctx context.Context, c *casefile.Case, col *collect.Collector, q CollectRequest) (stop func(), err error) {
	var texts []string
	folders := false
	for _, cell := range col.Plan() {
		it := col.Ask.Item(cell.Item)
		if it == nil || cell.State != "" {
			continue
		}
		run, ok := it.Spec.(ask.Run)
		switch {
		case !ok || run.Arrives == nil:
		case collect.DropFolder(run.Arrives, col.Site.System(cell.System), c.Number) != "":
			folders = true
		case q.Listen != "":
			texts = append(texts, run.Commands...)
		}
	}
	if len(texts) == 0 && !folders {
		return func() {}, nil
	}
	dir, done, err := a.Home.Temp()
	if err != nil {
		return nil, fault.Wrap("inbox", c.Name, err)
	}
	store := &inbox.Store{Dir: dir, Limits: inbox.Limits{Bytes: DefaultInboxFile, Files: mostInboxFiles}, SafeName: collect.SafePath,
		Remark: func(text string) { a.note("%s", text) }}
	x := inbox.NewExchange(store, q.Listen)
	serving, end := context.WithCancel(ctx)
	stop = func() {
		end()
		done()
	}
	col.Inbox = x
	if len(texts) == 0 {
		return stop, nil
	}
	if x.At, err = inbox.Start(serving, store, q.Listen, inbox.Needs(texts), func(p string) int { return q.Ports[p] }); err != nil {
		stop()
		return nil, fault.New(fault.Failed, "collect", q.Listen, err.Error(),
			"give an address of this machine with --listen, and free ports with --port")
	}
	return stop, nil
}
